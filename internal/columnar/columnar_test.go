package columnar

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// everything has a column of each type that is written.
func everything() schema.Schema {
	scalar := func(name string, k schema.Kind) schema.Field {
		return schema.Field{Name: name, Type: schema.Type{Kind: k}}
	}
	element := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{
		scalar("sensor", schema.String), scalar("value", schema.Double)}}}
	tags := scalar(schema.ElementName, schema.String)
	inner := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.List, Element: &tags}}
	s := schema.Schema{Fields: []schema.Field{
		scalar("ok", schema.Boolean), scalar("small", schema.Int), scalar("id", schema.Long), scalar("ratio", schema.Float),
		scalar("depth", schema.Double), scalar("day", schema.Date), scalar("at", schema.Time), scalar("seen", schema.Timestamp),
		scalar("sent", schema.TimestampTz), scalar("note", schema.String),
		{Name: "position", Type: schema.Type{Kind: schema.Struct,
			Fields: []schema.Field{scalar("lat", schema.Double), scalar("label", schema.String)}}},
		{Name: "readings", Type: schema.Type{Kind: schema.List, Element: &element}},
		{Name: "groups", Type: schema.Type{Kind: schema.List, Element: &inner}},
		{Name: "must", Type: schema.Type{Kind: schema.Long}, Required: true},
	}}
	s.AssignIDs()
	return s
}

// rows are JSON records with nulls at every level.
const rows = `[
{"ok":true,"small":1,"id":7,"ratio":0.5,"depth":1.25,"day":"2031-05-01","at":"01:02:03.5","seen":"2031-05-01 01:02:03","sent":"2031-05-01T01:02:03Z","note":"a","position":{"lat":57.5,"label":"x"},"readings":[{"sensor":"t","value":1.5},{"sensor":null,"value":null}],"groups":[["a","b"],[],null,[null]],"must":1},
{"ok":null,"small":null,"id":null,"ratio":null,"depth":null,"day":null,"at":null,"seen":null,"sent":null,"note":null,"position":null,"readings":null,"groups":null,"must":2},
{"ok":false,"small":-1,"id":-7,"ratio":-0.5,"depth":-1.25,"day":"1969-12-31","at":"23:59:59.999999","seen":"1969-12-31 23:59:59","sent":"1969-12-31T23:59:59Z","note":"","position":{"lat":null,"label":null},"readings":[],"groups":[],"must":3},
{"ok":true,"small":5,"id":9223372036854775807,"ratio":1,"depth":2,"day":"2031-05-02","at":"00:00:00","seen":"2031-05-01 01:02:04","sent":"2031-05-01T01:02:04Z","note":"zebra über","position":{"lat":1,"label":"y"},"readings":[null,{"sensor":"s","value":2}],"groups":[["c"]],"must":4}]`

func batch(t testing.TB, s *arrow.Schema) arrow.RecordBatch {
	t.Helper()
	b, _, err := array.RecordFromJSON(memory.DefaultAllocator, s, strings.NewReader(rows))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// write writes batches to a file of its own and returns its path.
func write(t testing.TB, s schema.Schema, o Options, batches ...arrow.RecordBatch) (string, *Summary) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "out.parquet")
	sink, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer sink.Close()
	w, err := NewWriter(sink, s, o)
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range batches {
		if err := w.Write(context.Background(), b); err != nil {
			t.Fatal(err)
		}
	}
	summary, err := w.Close()
	if err != nil {
		t.Fatal(err)
	}
	return path, summary
}

// read returns every row of a file as JSON text.
func read(t testing.TB, path string) (out []string) {
	t.Helper()
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	err = f.Batches(context.Background(), func(b arrow.RecordBatch) error {
		out = append(out, rowTexts(t, b)...)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func rowTexts(t testing.TB, b arrow.RecordBatch) (out []string) {
	t.Helper()
	for row := range int(b.NumRows()) {
		var line []string
		for c := range int(b.NumCols()) {
			line = append(line, fmt.Sprint(b.Column(c).GetOneForMarshal(row)))
			if raw, ok := b.Column(c).GetOneForMarshal(row).([]byte); ok && len(raw) != 16 {
				line[c] = string(raw)
			}
		}
		out = append(out, strings.Join(line, " | "))
	}
	return out
}

func TestWrittenReadsBackEqual(t *testing.T) {
	s := everything()
	b := batch(t, s.Arrow())
	want := append(append(rowTexts(t, b), rowTexts(t, b)...), rowTexts(t, b.NewSlice(1, 4))...)
	for _, codec := range CodecNames() {
		for _, groupRows := range []int64{1, 3, 1 << 20} {
			o := Options{Codec: Codec(codec), RowGroupRows: groupRows, RowGroupBytes: 1 << 20, Workers: 2}
			path, summary := write(t, s, o, b, b, b.NewSlice(1, 4))
			if got := read(t, path); !reflect.DeepEqual(got, want) {
				t.Fatalf("%s, groups of %d:\n%s\nwant\n%s", codec, groupRows, strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
			if info, _ := os.Stat(path); summary.Rows != 11 || summary.Bytes != info.Size() {
				t.Errorf("the summary counts %d rows and %d bytes, the file has %d bytes", summary.Rows, summary.Bytes, info.Size())
			}
		}
	}
}

func TestEmptyFile(t *testing.T) {
	path, summary := write(t, everything(), DefaultOptions)
	if got := read(t, path); len(got) != 0 || summary.Rows != 0 {
		t.Errorf("%d rows, summary %+v", len(got), summary)
	}
}

func TestSummary(t *testing.T) {
	s := everything()
	path, summary := write(t, s, Options{Codec: "none", RowGroupRows: 2, RowGroupBytes: 1 << 20}, batch(t, s.Arrow()))
	metrics := func(name string) *Metrics {
		var m *Metrics
		s.Walk(func(p string, f *schema.Field) {
			if p == name {
				m = summary.Columns[f.ID]
			}
		})
		if m == nil {
			t.Fatalf("no metrics for %s", name)
		}
		return m
	}
	tests := []struct {
		column        string
		values, nulls int64
		lower, upper  string
	}{
		{"id", 4, 1, "f9ffffffffffffff", "ffffffffffffff7f"},
		{"day", 4, 1, "ffffffff", "81570000"},
		{"ok", 4, 1, "00", "01"},
		{"note", 4, 1, "", "7a6562726120c3bc626572"},
		{"position.lat", 4, 2, "000000000000f03f", "0000000000c04c40"},
		{"readings.element.value", 6, 4, "", ""},
		{"groups.element.element", 8, 5, "", ""},
		{"must", 4, 0, "0100000000000000", "0400000000000000"},
	}
	for _, test := range tests {
		m := metrics(test.column)
		if m.Values != test.values || m.Nulls != test.nulls || fmt.Sprintf("%x", m.Lower) != test.lower ||
			fmt.Sprintf("%x", m.Upper) != test.upper {
			t.Errorf("%s: %d values, %d nulls, %x to %x", test.column, m.Values, m.Nulls, m.Lower, m.Upper)
		}
	}
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	layout, err := f.Layout()
	if err != nil || len(layout.Groups) != 2 || len(summary.RowGroups) != 2 || layout.Rows != 4 {
		t.Errorf("%+v, %v", layout, err)
	}
}

func TestBoundsOfTextsAndNaN(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{{ID: 1, Name: "t", Type: schema.Type{Kind: schema.String}},
		{ID: 2, Name: "d", Type: schema.Type{Kind: schema.Double}}}}
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	build.Field(0).(*array.StringBuilder).AppendValues(
		[]string{strings.Repeat("é", 20), strings.Repeat("a", 15) + "\U0010ffff" + "z", "b"}, nil)
	build.Field(1).(*array.Float64Builder).AppendValues([]float64{math.NaN(), 2, math.NaN()}, nil)
	_, summary := write(t, s, DefaultOptions, build.NewRecordBatch())
	text, number := summary.Columns[1], summary.Columns[2]
	if got, want := string(text.Lower), strings.Repeat("a", 15)+"\U0010ffff"; got != want {
		t.Errorf("lower %q, want %q", got, want)
	}
	if got, want := string(text.Upper), strings.Repeat("é", 15)+"ê"; got != want {
		t.Errorf("upper %q, want %q", got, want)
	}
	if number.NaNs != 2 || !bytes.Equal(number.Lower, number.Upper) {
		t.Errorf("%+v", number)
	}
	m := Metrics{Lower: []byte("a"), Upper: []byte(strings.Repeat("\U0010ffff", 17))}
	if m.shorten(); m.Upper != nil {
		t.Errorf("an upper bound that cannot be raised stays: %q", m.Upper)
	}
}

func TestOpenRefusesDamage(t *testing.T) {
	s := everything()
	path, _ := write(t, s, DefaultOptions, batch(t, s.Arrow()))
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"cut": whole[:len(whole)/2], "tail": append([]byte("PAR1"), whole[len(whole)-9:]...),
		"text": []byte("PAR1 hello")} {
		bad := filepath.Join(t.TempDir(), "bad.parquet")
		if err := os.WriteFile(bad, data, 0o644); err != nil {
			t.Fatal(err)
		}
		if f, err := Open(context.Background(), storage.Disk{}, bad); err == nil {
			f.Close()
			t.Errorf("%s: opened", name)
		} else if !strings.Contains(err.Error(), bad) {
			t.Errorf("%s: %v does not name the file", name, err)
		}
	}
}

func BenchmarkWrite(b *testing.B) {
	s := schema.Schema{Fields: []schema.Field{{ID: 1, Name: "id", Type: schema.Type{Kind: schema.Long}},
		{ID: 2, Name: "t", Type: schema.Type{Kind: schema.String}}}}
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for i := range 10000 {
		build.Field(0).(*array.Int64Builder).Append(int64(i))
		build.Field(1).(*array.StringBuilder).Append([]string{"Cairn Bay", "The Narrows", "Marrow Deep"}[i%3])
	}
	rows := build.NewRecordBatch()
	for b.Loop() {
		w, err := NewWriter(&bytes.Buffer{}, s, DefaultOptions)
		if err != nil {
			b.Fatal(err)
		}
		if err := w.Write(b.Context(), rows); err != nil {
			b.Fatal(err)
		}
		if _, err := w.Close(); err != nil {
			b.Fatal(err)
		}
	}
}
