package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// snake is how keys are written; sizes end in _bytes, times in _seconds.
var snake = regexp.MustCompile(`^[a-z][a-z0-9]*(_[a-z0-9]+)*$`)

// byName are objects whose keys are names that users gave, or words of the data.
var byName = map[string]bool{"records": true}

// Results for programs have keys of one form, whole numbers for sizes, and instants of RFC 3339; and nothing stands beside them.
func TestResultsForPrograms(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "n.ndjson": `{"id":1,"l":[{"a":1},{"a":2}],"o":{"a":1}}` + "\n" +
		`{"id":2,"l":[],"o":null}` + "\n",
		"more.csv": strings.Replace(readings, "12.5", "deep", 1), "bad.csv": "a,b\n1,2\n3\n4,5\n"})
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
		checkForm(t, args, r.out)
	}
	for args, code := range map[string]int{"preview none.csv": 1, "load r.csv --into ops.r --nonsense": 2, "load r.csv --into ops": 2,
		"nonsense": 2, "infer more.csv --expect ops.r": 3, "load bad.csv --into ops.b --quarantine q.ndjson": 3,
		"load more.csv --again --into ops.r --drift stop": 3} {
		r := trevak(t, append(strings.Fields(args), "-o", "json")...)
		if r.code != code || r.err == "" {
			t.Errorf("trevak %s: exit %d, want %d: %s", args, r.code, code, r.err)
		}
		v := checkForm(t, args, r.out)
		for _, key := range []string{"kind", "message", "object", "line", "column", "value", "way_out", "exit_code", "reasons", "drift"} {
			if _, there := v[key]; !there {
				t.Errorf("trevak %s has no %s: %s", args, key, r.out)
			}
		}
		if v["exit_code"] != json.Number(strconv.Itoa(code)) {
			t.Errorf("trevak %s says exit code %v", args, v["exit_code"])
		}
	}
}

// checkForm holds a result to the scheme, and returns it.
func checkForm(t *testing.T, args, text string) map[string]any {
	t.Helper()
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var v map[string]any
	if err := d.Decode(&v); err != nil {
		t.Errorf("trevak %s: %v in %.200s", args, err, text)
		return nil
	}
	if d.More() {
		t.Errorf("trevak %s prints more than one value: %.300s", args, text)
	}
	for _, fault := range wrongForm("", v) {
		t.Errorf("trevak %s: %s", args, fault)
	}
	return v
}

// TestEveryKeyIsDescribed holds that docs/json.md has a line for each key of results, and none for others.
func TestEveryKeyIsDescribed(t *testing.T) {
	text, err := os.ReadFile("../../docs/json.md")
	if err != nil {
		t.Fatal(err)
	}
	described := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		if keys, _, ok := strings.Cut(strings.TrimPrefix(line, "| `"), "` |"); ok && strings.HasPrefix(line, "| `") {
			for _, key := range strings.Split(keys, "`, `") {
				described[key] = false
			}
		}
	}
	tag := regexp.MustCompile("`json:\"([a-z_]+)\"`")
	for _, folder := range []string{".", "../render"} {
		files, err := filepath.Glob(folder + "/*.go")
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			code, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			for _, m := range tag.FindAllStringSubmatch(string(code), -1) {
				if _, ok := described[m[1]]; !ok && !strings.HasSuffix(file, "_test.go") {
					t.Errorf("%s: docs/json.md has no line for the key %s", file, m[1])
				}
				described[m[1]] = true
			}
		}
	}
	for key, used := range described {
		if !used {
			t.Errorf("docs/json.md describes the key %s, which there is not", key)
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
			if byName[strings.TrimSuffix(last, "[]")] {
				continue
			}
			n, isNumber := e.(json.Number)
			text, isText := e.(string)
			switch {
			case strings.HasSuffix(key, "_bytes") && isNumber && strings.ContainsAny(n.String(), ".e-"),
				strings.HasSuffix(key, "_bytes") && isText:
				faults = append(faults, fmt.Sprintf("%s is %v, not a number of bytes", at, e))
			case strings.HasSuffix(key, "seconds") && isText:
				faults = append(faults, fmt.Sprintf("%s is %q, not a number of seconds", at, text))
			case strings.HasSuffix(key, "_at") && e != nil:
				if _, err := time.Parse(time.RFC3339Nano, text); err != nil {
					faults = append(faults, fmt.Sprintf("%s is %q, not an instant", at, text))
				}
			case (key == "id" || strings.HasSuffix(key, "_id")) && e != nil && !isText:
				faults = append(faults, fmt.Sprintf("%s is %v, not a text", at, e))
			case key == "objects" || key == "columns" || key == "reasons" || key == "drift":
				if _, isList := e.([]any); !isList {
					faults = append(faults, fmt.Sprintf("%s is %v, not a list", at, e))
				}
			}
			faults = append(faults, wrongForm(at, e)...)
		}
	}
	return faults
}
