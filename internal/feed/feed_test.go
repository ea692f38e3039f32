package feed

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

const sample = `feed: 1
source:
  files: [tides/*.tsv]
  lineage: true
reading:
  delimiter: tab
  header_rows: 1
columns:
  - name: gauge
    from: Gauge Code
    type: string
    required: true
  - name: at
    type: timestamp(%d.%m.%Y %H:%M)
    nulls: [n/a]
  - name: buoy
    type: struct
    fields:
      - name: code
        type: string
  - name: readings
    type: list
    element:
      type: struct
      fields:
        - name: value
          type: decimal(9,2)
  - name: counts
    type: map
    value:
      type: long
key: [gauge]
names: snake
table:
  into: orrin.tides
limits:
  tolerate: 1%
  max_depth: 20
`

func TestParse(t *testing.T) {
	f, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	fields, err := f.Fields()
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range fields {
		got = append(got, f.Name+" "+schema.Stated{Type: f.Type, Notation: f.Notation}.String())
	}
	want := "gauge string|at timestamp(%d.%m.%Y %H:%M)|buoy struct<code: string>|readings list<struct<value: decimal(9,2)>>|counts map<string, long>"
	if strings.Join(got, "|") != want || fields[0].Origin != "Gauge Code" || !fields[0].Required || !fields[0].Pinned || fields[1].Notation.Nulls[0] != "n/a" {
		t.Errorf("%q\n%+v", got, fields)
	}
	if *f.Source.Lineage != true || *f.Reading.HeaderRows != 1 || f.Limits.Tolerate != "1%" || *f.Limits.MaxDepth != 20 {
		t.Errorf("%+v", f)
	}
}

func TestErrorsNameTheLine(t *testing.T) {
	for _, test := range []struct {
		from, to, want string
		line           int64
	}{
		{"names: snake", "nmaes: snake", "unknown field", 33},
		{"type: decimal(9,2)", "type: decimal(9)", "is no decimal", 27},
		{"type: string\n    required", "type: varchar\n    required", `column "gauge": "varchar" is not a type`, 11},
		{"  - name: at", "  - name: gauge", "is there twice", 13},
		{"  - name: at\n", "  - from: at\n", "has no name", 13},
		{"feed: 1", "feed: 2", "this file says 2", 1},
		{"names: snake", "shape: {nestled: flatten}", "unknown field", 33},
		{"type: list", "type: struct", "has the parts of a list", 22},
		{"max_depth: 20", "max_depth: deep", "cannot unmarshal", 38},
		{"key: [gauge]", "key: [gauge", "", 0},
	} {
		_, err := Parse([]byte(strings.Replace(sample, test.from, test.to, 1)))
		var e *fault.Error
		if !errors.As(err, &e) || e.Kind != fault.Usage || !strings.Contains(err.Error(), test.want) || test.line > 0 && e.Line != test.line {
			t.Errorf("%s: %v", test.to, err)
		}
	}
	if _, err := Read(t.Context(), storage.Disk{}, "none.yaml"); fault.KindOf(err) != fault.Storage {
		t.Errorf("%v", err)
	}
}

// TestWrittenReadsBack writes a feed with comments and reads it again.
func TestWrittenReadsBack(t *testing.T) {
	f, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	text, err := f.Write(map[string][]string{"$.columns": {"The columns."}, "$.feed": {"A feed file.", "It may be changed."}})
	if err != nil || !bytes.Contains(text, []byte("# The columns.\ncolumns:")) {
		t.Fatalf("%v\n%s", err, text)
	}
	again, err := Parse(text)
	f.text, again.text = nil, nil
	if err != nil || !reflect.DeepEqual(again, f) {
		t.Errorf("%v\n%s", err, text)
	}
	fields, err := f.Fields()
	if err != nil {
		t.Fatal(err)
	}
	for i, field := range fields {
		if !reflect.DeepEqual(ColumnOf(field), f.Columns[i]) {
			t.Errorf("%+v\nwant %+v", ColumnOf(field), f.Columns[i])
		}
	}
}

// TestJSONSchema holds the keys that editors are told of against those that are read, and the copy in docs against the one in the program.
func TestJSONSchema(t *testing.T) {
	copied, err := os.ReadFile("../../docs/feed.schema.json")
	if err != nil || !bytes.Equal(copied, JSONSchema) {
		t.Errorf("docs/feed.schema.json differs from what the program prints: %v", err)
	}
	var s struct {
		Properties map[string]struct {
			Properties map[string]any
		}
		Defs map[string]struct{ Properties map[string]any } `json:"$defs"`
	}
	if err := json.Unmarshal(JSONSchema, &s); err != nil {
		t.Fatal(err)
	}
	if got, want := sorted(s.Properties), keysOf(reflect.TypeFor[Feed]()); !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	for name, of := range map[string]reflect.Type{"source": reflect.TypeFor[Source](), "reading": reflect.TypeFor[Reading](), "table": reflect.TypeFor[Table](), "limits": reflect.TypeFor[Limits]()} {
		if got, want := sorted(s.Properties[name].Properties), keysOf(of); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
	}
	if got, want := sorted(s.Defs["column"].Properties), keysOf(reflect.TypeFor[Column]()); !slices.Equal(got, want) {
		t.Errorf("column: %v, want %v", got, want)
	}
}

func sorted[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func keysOf(t reflect.Type) []string {
	var out []string
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if name == "" {
			continue
		}
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// FuzzParse reads any text: there is a feed that reads back the same, or an error.
func FuzzParse(f *testing.F) {
	f.Add(sample)
	f.Add("feed: 1\ncolumns:\n  - {name: a, type: 'date(%d/%m/%Y)'}\n")
	f.Add("feed: 1\nreading: {quote: none, nulls: ['']}\n")
	f.Fuzz(func(t *testing.T, text string) {
		read, err := Parse([]byte(text))
		if err != nil {
			return
		}
		written, err := read.Write(nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(written); err != nil {
			t.Fatalf("%v\n%s", err, written)
		}
	})
}
