package sniff

import (
	"fmt"
	"strings"
	"testing"

	"trevak/internal/locate"
)

// members writes an object of so many members, whose values are made by a format with one number.
func members(n int, name, value string) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf(`"`+name+`":`+value, i, i))
	}
	return "{" + strings.Join(all, ",") + "}"
}

func TestRecordsOfDocuments(t *testing.T) {
	readings := `[{"sensor":"depth","value":1},{"sensor":"depth","value":2},{"sensor":"sway","value":3}]`
	tests := []struct {
		what, name, text string
		format           Format
		records          string // ? where it is asked for
	}{
		{"objects in the only array", "a.json", "{\n\"count\": 3, \"readings\": " + readings + "}", JSON, "$.readings[*]"},
		{"the same on one line", "a.json", `{"count": 3, "readings": ` + readings + "}\n", JSON, "$.readings[*]"},
		{"a line of JSON lines", "a.jsonl", `{"count": 3, "readings": ` + readings + "}\n", JSONLines, ""},
		{"packed JSON lines", "a.ndjson.gz", `{"count": 3, "readings": ` + readings + "}\n", JSONLines, ""},
		{"one line of unknown kind", "-", `{"count": 3, "readings": ` + readings + "}\n", JSON, "?"},
		{"one line without places", "-", `{"count": 3, "at": [1, 2]}`, JSONLines, ""},
		{"two arrays of objects", "a.json", `{"stations": ` + readings + `, "readings": ` + readings + "}", JSON, "?"},
		{"a record with a few parts", "a.json", `{"id": 1, "at": "2031-05-01", "area": "Cairn Bay", "parts": [{"n": 1}]}`, JSONLines, ""},
		{"a record with some parts", "a.json",
			`{"id": 1, "at": "2031-05-01", "area": "Cairn Bay, north of the light, where the swell stands in from the west on most days of the year, and where the network began", "parts": [{"n": 1}, {"n": 2}, {"n": 3}]}`, JSON, "?"},
		{"members that are alike", "a.json", members(8, "OS-%d", `{"depth":%d,"area":"x"}`), JSON, "$.*"},
		{"members that are alike, within", "a.json", `{"network": "x", "buoys": ` + members(30, "OS-%d", `{"depth":%d}`) + "}", JSON,
			"$.buoys.*"},
		{"many scalars", "a.json", members(80, "OS%d", "%d"), JSON, "$.*"},
		{"a few columns", "a.json", members(8, "depth%d", "%d"), JSONLines, ""},
		{"an array of texts", "a.json", `["Cairn Bay", "The Narrows"]`, JSON, "$[*]"},
		{"an array of numbers", "a.json", "[1,\n2,\n3]", JSON, "$[*]"},
		{"arrays, a line each", "a.ndjson", "[1, 2]\n[3, 4]\n", JSONLines, ""},
		{"features", "a.json", `{"type": "FeatureCollection", "x": 1, "y": 2, "z": 3, "features": [{"type": "Feature", "geometry": null, "properties": {"a": 1}}]}`, JSON, "$.features[*]"},
		{"a document whose first line is no whole value", "a.json", "{\"type\":\"set\",\"rows\":[{\"id\":1},\n{\"id\":2},\n{\"id\":3}]}",
			JSON, "$.rows[*]"},
		{"a broken first line", "a.json", "{\"a\":1,,}\n{\"a\":2}\n", JSONLines, ""},
		{"a text sequence", "a.json", "\x1e{\"a\":1}\n\x1e{\"a\":2}\n", JSONLines, ""},
	}
	for _, test := range tests {
		t.Run(test.what, func(t *testing.T) {
			r, err := Settle([]byte(test.text), true, locate.Plain, utf, Stated{Name: test.name})
			if err != nil {
				t.Fatal(err)
			}
			got := ""
			if r.Records != nil {
				got = r.Records.String()
			}
			if r.Question != nil {
				got = "?"
			}
			if r.Format != test.format || got != test.records {
				t.Errorf("%s, %q, want %s, %q; %+v %v", r.Format, got, test.format, test.records, r.Reasons, r.Question)
			}
		})
	}
}
