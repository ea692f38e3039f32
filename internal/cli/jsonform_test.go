package cli

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// snake is how keys are written; sizes end in _bytes, times in _seconds.
var snake = regexp.MustCompile(`^[a-z][a-z0-9]*(_[a-z0-9]+)*$`)

// byName are objects whose keys are names that users gave, or words of the data.
var byName = map[string]bool{"records": true, "null_tokens": true, "seen": true, "metadata_keys": true, "rows": true}

// Results for programs have keys of one form, whole numbers for sizes, and instants of RFC 3339; and nothing stands beside them.
func TestResultsForPrograms(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "n.ndjson": `{"id":1,"l":[{"a":1},{"a":2}],"o":{"a":1}}` + "\n" +
		`{"id":2,"l":[],"o":null}` + "\n",
		"more.csv": strings.Replace(readings, "12.5", "deep", 1)})
	for _, args := range []string{
		"version", "preview r.csv", "preview n.ndjson --unnest l", "infer r.csv", "infer n.ndjson",
		"infer n.ndjson --unnest l --nested flatten", "weigh r.csv --try-sort note --try-partition note",
		"convert r.csv --to o.parquet", "convert n.ndjson --to o.orc", "convert n.ndjson --to o.avro", "convert n.ndjson --to o.arrow",
		"convert n.ndjson --to d/ --partition id", "infer o.parquet",
		"describe o.parquet", "describe o.orc", "describe o.avro", "describe o.arrow",
		"load r.csv --into ops.r", "load more.csv --into ops.r --dry-run", "load more.csv --into ops.r --lineage",
		"load n.ndjson --into ops.n --split l=ops.l", "tables", "describe ops.r", "schema ops.r", "schema ops.r 0 1 --diff",
		"preview ops.r", "weigh ops.r", "alter ops.r --rename note=remark",
	} {
		r := trevak(t, append(strings.Fields(args), "-o", "json", "--quiet")...)
		if r.code != 0 {
			t.Errorf("trevak %s: exit %d: %s", args, r.code, r.err)
			continue
		}
		d := json.NewDecoder(strings.NewReader(r.out))
		d.UseNumber()
		var v any
		if err := d.Decode(&v); err != nil {
			t.Errorf("trevak %s: %v in %.200s", args, err, r.out)
			continue
		}
		if d.More() {
			t.Errorf("trevak %s prints more than one value: %.300s", args, r.out)
		}
		for _, fault := range wrongForm("", v) {
			t.Errorf("trevak %s: %s", args, fault)
		}
	}
}

// wrongForm lists what is not in the form of results.
func wrongForm(path string, v any) (faults []string) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			faults = append(faults, wrongForm(path+"[]", e)...)
		}
	case map[string]any:
		for key, e := range v {
			at := path + "." + key
			last := path[strings.LastIndexByte(path, '.')+1:]
			if !byName[strings.TrimSuffix(last, "[]")] && !snake.MatchString(key) {
				faults = append(faults, fmt.Sprintf("the key %s is not in snake case", at))
			}
			n, isNumber := e.(json.Number)
			text, isText := e.(string)
			switch {
			case strings.HasSuffix(key, "_bytes") && isNumber && strings.ContainsAny(n.String(), ".e-"),
				strings.HasSuffix(key, "_bytes") && isText:
				faults = append(faults, fmt.Sprintf("%s is %v, not a number of bytes", at, e))
			case strings.HasSuffix(key, "seconds") && isText:
				faults = append(faults, fmt.Sprintf("%s is %q, not a number of seconds", at, text))
			case (key == "committed" || key == "modified" || key == "last_commit" || key == "changed") && isText && text != "":
				if _, err := time.Parse(time.RFC3339Nano, text); err != nil {
					faults = append(faults, fmt.Sprintf("%s is %q, not an instant", at, text))
				}
			}
			faults = append(faults, wrongForm(at, e)...)
		}
	}
	return faults
}
