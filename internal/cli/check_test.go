package cli

import (
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestRulesOfLoads holds loads against rules of each kind, with each policy.
func TestRulesOfLoads(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,5\n2,The Narrows,900\n3,,\n", "b.csv": "id,area,depth\n3,Cairn Bay,7\n4,Elsewhere,8\n",
		"areas.csv": "name\nCairn Bay\nThe Narrows\n", "n.ndjson": `{"id":1,"parts":[{"v":1},{"v":900}]}` + "\n"})
	must(t, []string{"load", "areas.csv", "--into", "o.areas"}, "")
	refused(t, 3, []string{"load", "a.csv", "--into", "o.t", "--check", "depth between 0 and 500"}, "a.csv:3 (depth \"900\")")
	refused(t, 1, []string{"describe", "o.t"}, "there is neither")
	must(t, []string{"load", "a.csv", "--into", "o.t", "--check", "quarantine: depth between 0 and 500", "--check", "unique(id)", "--check",
		"area in o.areas.name", "--quarantine", "q.ndjson"}, "3 read = 2 written + 1 quarantined", "breaks-check", "They are kept in q.ndjson")
	if text, err := os.ReadFile("q.ndjson"); err != nil || !strings.Contains(string(text), `"line":3,`) || !strings.Contains(string(text), `"raw":"2,The Narrows,900\n"`) {
		t.Errorf("%s, %v", text, err)
	}
	refused(t, 3, []string{"load", "b.csv", "--into", "o.t", "--check", "unique(id)"}, `(id "3")`)
	refused(t, 3, []string{"load", "b.csv", "--into", "o.t", "--check", "area in o.areas.name"}, `b.csv:3 (area "Elsewhere")`)
	if rowsAt(t, "o.t") != 2 {
		t.Error("a load that was refused left rows")
	}
	// Rows that make way do not count, and a rule may only tell.
	must(t, []string{"load", "b.csv", "--into", "o.t", "--mode", "upsert", "--key", "id", "--check", "unique(id)", "--check", "tell: area in o.areas.name"},
		"1 inserted, 1 updated", "b.csv:3: area \"Elsewhere\"")
	for _, wrong := range [][]string{{"--check", "quarantine: unique(id)"}, {"--check", "dept < 3"}, {"--check", "id in o.areas.name"}, {"--check", "id in o.none.name"}} {
		if r := trevak(t, append([]string{"load", "b.csv", "--into", "o.t", "--again"}, wrong...)...); r.code == 0 {
			t.Errorf("%v: %s", wrong, r.out)
		}
	}
	refused(t, 2, []string{"load", "n.ndjson", "--into", "o.n", "--unnest", "parts", "--check", "quarantine: parts.v < 5"}, "cannot quarantine records here")
}

// TestRulesOfTables keeps rules with a table, by which each load goes, and holds what is there against them.
func TestRulesOfTables(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,5\n2,The Narrows,900\n2,The Narrows,\n", "b.csv": "id,area,depth\n7,Cairn Bay,-5\n",
		"f.yaml": "feed: 1\nsource:\n  files: [b.csv]\ntable:\n  into: o.t\n  checks:\n    - depth >= 0\n"})
	must(t, []string{"load", "a.csv", "--into", "o.t"}, "")
	refused(t, 2, []string{"check", "o.t"}, "keeps no rule")
	r := trevak(t, "check", "o.t", "--check", "depth < 500", "--check", "unique(id)", "--check", "tell: id > 5")
	if r.code != 3 || !strings.Contains(r.out, `depth "900"`) || !strings.Contains(r.out, "row 2 and") || !strings.Contains(r.out, "3 rows held against 3 rules") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	must(t, []string{"check", "o.t", "--check", "tell: id > 5"}, "3\n")
	must(t, []string{"alter", "o.t", "--check", "depth >= 0", "--check", "tell: depth < 500"}, "rows must keep the rule stop: depth >= 0")
	must(t, []string{"check", "o.t"}, "none")
	refused(t, 3, []string{"load", "b.csv", "--into", "o.t"}, `b.csv:2 (depth "-5")`)
	refused(t, 3, []string{"load", "--feed", "f.yaml"}, `b.csv:2 (depth "-5")`)
	refused(t, 2, []string{"alter", "o.t", "--drop", "depth"}, "--uncheck 'depth >= 0'")
	must(t, []string{"load", "b.csv", "--into", "o.t", "--check", "tell: depth >= 0"}, "depth \"-5\"")
	must(t, []string{"alter", "o.t", "--uncheck", "depth >= 0", "--uncheck", "depth < 500", "--drop", "depth"}, "is given up")
	must(t, []string{"create", "o.made", "--like", "a.csv", "--check", "id > 0"}, "")
	must(t, []string{"load", "a.csv", "--into", "o.made"}, "id > 0")
	refused(t, 2, []string{"create", "o.other", "--like", "a.csv", "--check", "none > 0"}, "none")
}
