package cli

import (
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// The form of rows, there and back, is the same from a feed file as from flags, and what infer emits says it again.
func TestFormFromFeedFiles(t *testing.T) {
	const docs = `{"id":1,"pos":{"lat":57.5,"lon":-5.5},"readings":[{"sensor":"depth","value":1.5},{"sensor":"temp","value":null}],"note":"calm"}
{"id":2,"pos":null,"readings":[],"note":null}
{"id":2,"pos":null,"readings":[],"note":null}
{"id":3,"pos":{"lat":58,"lon":null},"readings":null,"note":""}
`
	testfolder.Make(t, map[string]string{"in.ndjson": docs,
		"there.yaml": "feed: 1\nsource:\n  files: [in.ndjson]\nshape:\n  unnest: [readings]\n  unnest_index: true\n  unnest_count: " +
			"true\n  nested: flatten\n",
		"back.yaml": "feed: 1\nshape:\n  nest: ['pos=pos_lat,pos_lon']\n  nest_rows: readings=readings_sensor,readings_value\n"})
	flags := []string{"--unnest", "readings", "--unnest-index", "--unnest-count", "--nested", "flatten"}
	must(t, append([]string{"convert", "in.ndjson", "--to", "flags.csv"}, flags...), "4 read = 4 kept", "those kept made 5 rows")
	must(t, []string{"convert", "--feed", "there.yaml", "--to", "feed.csv"}, "those kept made 5 rows")
	rows := readFile(t, "flags.csv")
	if feed := readFile(t, "feed.csv"); feed != rows {
		t.Errorf("%s by flags, %s by the feed file", rows, feed)
	}
	if want := "id,pos_lat,pos_lon,readings_index,readings_count,readings_sensor,readings_value,note\n1,57.5,-5.5,0,2,depth,1.5,calm\n1,57.5,-5.5,1,2,temp,,calm\n2,,,,0,,,\n2,,,,0,,,\n3,58,,,,,,\"\"\n"; rows != want {
		t.Errorf("%s, want %s", rows, want)
	}
	must(t, []string{"convert", "flags.csv", "--feed", "back.yaml", "--to", "back.ndjson"}, "those kept made 4 rows")
	if back := readFile(t, "back.ndjson"); back != docs {
		t.Errorf("came back as %s, was %s", back, docs)
	}
	emitted := must(t, append([]string{"infer", "in.ndjson", "--emit", "feed"}, flags...)).out
	for _, want := range []string{"unnest_index: true", "unnest_count: true", "nested: flatten"} {
		if !strings.Contains(emitted, want) {
			t.Errorf("%q is not in %s", want, emitted)
		}
	}
	// Dropped rows leave nothing to bring back; what is there comes back all the same.
	must(t, append([]string{"convert", "in.ndjson", "--to", "dropped.csv", "--unnest-empty", "drop"}, flags...), "those kept made 2 rows")
	must(t, []string{"convert", "dropped.csv", "--feed", "back.yaml", "--to", "some.ndjson"}, "1 row")
	if got, want := readFile(t, "some.ndjson"), strings.SplitAfter(docs, "\n")[0]; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	// A list that goes by the name of an object cannot be told from it.
	refused(t, 2, []string{"convert", "flags.csv", "--to", "x.ndjson", "--nest", "id=pos_lat,pos_lon"},
		"have a column of that name already")
	refused(t, 2, append([]string{"preview", "in.ndjson", "--derive", "x = readings_count + nothing"}, flags...),
		`there is no column "nothing"`)
}
