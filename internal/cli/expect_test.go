package cli

import (
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestExpect holds files against a table and a feed file, and that nothing is written by it.
func TestExpect(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings,
		"new.csv":  strings.Replace(strings.ReplaceAll(readings, ",7,", ",deep,"), "note\n", "remark\n", 1),
		"same.csv": "Buoy Code,observed at,depth (m),note\n0009,2031-05-03T01:00:00Z,1.5,fog\n", "n.ndjson": "{\"id\":1,\"tags\":[\"a\"]}\n"})
	must(t, []string{"load", "r.csv", "--into", "ops.readings"}, "")
	feed := must(t, []string{"infer", "r.csv", "--emit", "feed"}, "").out
	if err := os.WriteFile("r.yaml", []byte(feed), 0o666); err != nil {
		t.Fatal(err)
	}
	before := must(t, []string{"describe", "ops.readings", "-o", "json"}, "").out
	for _, expect := range []string{"ops.readings", "r.yaml"} {
		must(t, []string{"infer", "same.csv", "--expect", expect}, "As "+expect+": a load would find no difference in 1 record of 1 object")
		refused(t, 3, []string{"infer", "new.csv", "--expect", expect}, "the source differs from "+expect+" in")
		r := trevak(t, "infer", "new.csv", "--expect", expect)
		for _, want := range []string{"added", "remark", "missing", "note", "unfit", "depth_m", "deep", "new.csv:4"} {
			if !strings.Contains(r.err, want) {
				t.Errorf("%s: %q is missing in %s", expect, want, r.err)
			}
		}
	}
	if after := must(t, []string{"describe", "ops.readings", "-o", "json"}, "").out; after != before {
		t.Errorf("the table is\n%s, not\n%s", after, before)
	}
	if left, _ := os.ReadDir("."); len(left) != 6 {
		t.Errorf("%v", left)
	}
	refused(t, 1, []string{"infer", "r.csv", "--expect", "ops.reading"}, "the nearest name is ops.readings")
	refused(t, 1, []string{"infer", "r.csv", "--expect", "./none.yaml"}, "none.yaml cannot be read")
	refused(t, 2, []string{"infer", "r.csv", "--expect", "ops.readings", "--column", "note"}, "--column has no effect with --expect")
	unnested := must(t, []string{"infer", "n.ndjson", "--unnest", "tags", "--emit", "feed"}, "").out
	if err := os.WriteFile("n.yaml", []byte(unnested), 0o666); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"infer", "n.ndjson", "--expect", "n.yaml"}, "no difference")
}
