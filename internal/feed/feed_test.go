package feed

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"reflect"
	"strings"
	"testing"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/setting"
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
	want := "gauge string|at timestamp(%d.%m.%Y %H:%M)|buoy struct<code: string>|readings list<struct<value: decimal(9,2)>>|counts " +
		"map<string, long>"
	if strings.Join(got, "|") != want || fields[0].Origin != "Gauge Code" || !fields[0].Required || !fields[0].Pinned ||
		fields[1].Notation.Nulls[0] != "n/a" {
		t.Errorf("%q\n%+v", got, fields)
	}
	if f.One("source.lineage") != "true" || f.One("reading.header_rows") != "1" || f.One("limits.tolerate") != "1%" ||
		f.One("limits.max_depth") != "20" || f.One("names") != "snake" {
		t.Errorf("%+v", f)
	}
}

func TestErrorsNameTheLine(t *testing.T) {
	for _, test := range []struct {
		from, to, want string
		line           int64
	}{
		{"names: snake", "nmaes: snake", `the key "nmaes" is not known here; the nearest name is names`, 33},
		{"type: decimal(9,2)", "type: decimal(9)", "is no decimal", 27},
		{"type: string\n    required", "type: varchar\n    required", `column "gauge": "varchar" is not a type`, 11},
		{"  - name: at", "  - name: gauge", "is there twice", 13},
		{"  - name: at\n", "  - from: at\n", "has no name", 13},
		{"feed: 1", "feed: 2", "this file says 2", 1},
		{"names: snake", "shape: {nestled: flatten}", "the nearest name is nested (of shape)", 33},
		{"type: list", "type: struct", "has the parts of a list", 22},
		{"max_depth: 20", "max_depth: deep", `the key max_depth: "deep" is not a whole number`, 38},
		{"key: [gauge]", "key: [gauge", "", 0},
	} {
		_, err := Parse([]byte(strings.Replace(sample, test.from, test.to, 1)))
		var e *fault.Error
		if !errors.As(err, &e) || e.Kind != fault.Usage || !strings.Contains(err.Error(), test.want) || test.line > 0 &&
			e.Line != test.line {
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

// TestJSONSchema holds the keys that editors are told of against those of the settings, and the copy in docs against what the
// program prints.
func TestJSONSchema(t *testing.T) {
	text, err := JSONSchema()
	if err != nil {
		t.Fatal(err)
	}
	if copied, err := os.ReadFile("../../docs/feed.schema.json"); err != nil || !bytes.Equal(copied, text) {
		t.Errorf("docs/feed.schema.json differs from what trevak feed schema prints: %v", err)
	}
	var s struct {
		Properties map[string]struct {
			Type       string
			Properties map[string]any
		}
	}
	if err := json.Unmarshal(text, &s); err != nil {
		t.Fatal(err)
	}
	for _, of := range setting.Table {
		section, key, inside := strings.Cut(of.Key, ".")
		if _, ok := s.Properties[section].Properties[key]; of.Key != "" && inside && !ok {
			t.Errorf("%s is missing", of.Key)
		}
		if _, ok := s.Properties[section]; of.Key != "" && !ok {
			t.Errorf("%s is missing", section)
		}
	}
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
