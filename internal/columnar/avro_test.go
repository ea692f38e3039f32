package columnar

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/twmb/avro"
	"github.com/twmb/avro/ocf"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// byLibrary writes records with the library's own encoder and returns the path of the file.
func byLibrary(t *testing.T, text string, codec ocf.Codec, records ...any) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x.avro")
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	described, err := avro.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	var options []ocf.WriterOpt
	if codec != nil {
		options = append(options, ocf.WithCodec(codec))
	}
	e, err := ocf.NewWriter(file, described, options...)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range records {
		if err := e.Encode(r); err != nil {
			t.Fatal(err)
		}
	}
	if err := e.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

// What others write has forms that are never written here.
func TestAvroOfOthers(t *testing.T) {
	day := time.Date(2031, 5, 1, 10, 20, 30, 456_000_000, time.UTC)
	packed, err := ocf.ZstdCodec(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, of string
		value    any
		want     string
	}{
		{"enumeration", `{"type":"enum","name":"state","symbols":["calm","rough"]}`, "rough", `"rough"`},
		{"fixed", `{"type":"fixed","name":"four","size":4}`, [4]byte{1, 2, 3, 4}, `"AQIDBA=="`},
		{"fixed decimal", `{"type":"fixed","name":"amount","size":6,"logicalType":"decimal","precision":12,"scale":3}`,
			big.NewRat(-12345, 1000), `-12.345`},
		{"decimal", `{"type":"bytes","logicalType":"decimal","precision":38,"scale":2}`, big.NewRat(255, 2), `127.50`},
		{"date", `{"type":"int","logicalType":"date"}`, day, `"2031-05-01"`},
		{"time in milliseconds", `{"type":"int","logicalType":"time-millis"}`, 90 * time.Minute, `"01:30:00"`},
		{"time", `{"type":"long","logicalType":"time-micros"}`, time.Second + time.Microsecond, `"00:00:01.000001"`},
		{"instant in milliseconds", `{"type":"long","logicalType":"timestamp-millis"}`, day, `"2031-05-01T10:20:30.456Z"`},
		{"local timestamp", `{"type":"long","logicalType":"local-timestamp-micros"}`, day, `"2031-05-01T10:20:30.456"`},
		{"uuid", `{"type":"string","logicalType":"uuid"}`, "3f2504e0-4f89-11d3-9a0c-0305e82c3301",
			`"3f2504e0-4f89-11d3-9a0c-0305e82c3301"`},
		{"null first", `["null","long"]`, nil, `null`},
		{"null last", `["long","null"]`, map[string]any{"long": int64(7)}, `7`},
		{"text of several types", `["null","long","string",{"type":"array","items":"long"}]`, map[string]any{"long": int64(7)}, `"7"`},
		{"list of several types", `["null","long","string",{"type":"array","items":"long"}]`,
			map[string]any{"array": []any{int64(1), int64(2)}}, `"[1,2]"`},
		{"null of several types", `["null","long","string"]`, nil, `null`},
		{"nothing but null", `"null"`, nil, `null`},
		{"map", `{"type":"map","values":["null","double"]}`, map[string]any{"depth": map[string]any{"double": 1.5}}, `{"depth":1.5}`},
		{"list of lists", `{"type":"array","items":{"type":"array","items":"string"}}`, []any{[]any{"a"}, []any{}}, `[["a"],[]]`},
	} {
		for _, codec := range []ocf.Codec{nil, ocf.DeflateCodec(6), ocf.SnappyCodec(), ocf.NopCloser(packed)} {
			path := byLibrary(t, `{"type":"record","name":"r","fields":[{"name":"v","type":`+c.of+`}]}`, codec,
				map[string]any{"v": c.value})
			if got, want := jsonOf(t, path), `{"v":`+c.want+"}\n"; got != want {
				t.Errorf("%s, %T: %s, want %s", c.name, codec, got, want)
			}
		}
	}
}

func TestAvroRefuses(t *testing.T) {
	if _, err := Open(context.Background(), storage.Disk{}, byLibrary(t, `"long"`, nil, int64(1))); err == nil ||
		!strings.Contains(err.Error(), "not records") {
		t.Errorf("%v", err)
	}
	nested := `{"type":"record","name":"r","fields":[{"name":"next","type":["null","r"]}]}`
	if _, err := Open(context.Background(), storage.Disk{}, byLibrary(t, nested, nil)); err == nil ||
		!strings.Contains(err.Error(), "holds itself") {
		t.Errorf("%v", err)
	}
	path := byLibrary(t, `{"type":"record","name":"r","fields":[{"name":"v","type":"string"}]}`, nil,
		map[string]any{"v": "deep water"}, map[string]any{"v": "shallow"})
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for at, want := range map[int]string{len(whole) - 5: "block 1", len(whole) - 30: "block 1"} {
		if err := os.WriteFile(path, whole[:at], 0o644); err != nil {
			t.Fatal(err)
		}
		f, err := Open(context.Background(), storage.Disk{}, path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.Layout(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("cut at %d: %v, want %q", at, err, want)
		}
		f.Close()
	}
}

// The library's own decoder reads what is written here, and the same rows give the same bytes.
func TestAvroByLibrary(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{
		{ID: 1, Name: "depth (m)", Type: schema.Type{Kind: schema.Double}},
		{ID: 2, Name: "amount", Type: schema.Type{Kind: schema.Decimal, Precision: 20, Scale: 2}, Required: true},
		{ID: 3, Name: "by_hour", Type: schema.Type{Kind: schema.Map,
			Key:     &schema.Field{ID: 4, Name: schema.KeyName, Type: schema.Type{Kind: schema.Int}, Required: true},
			Element: &schema.Field{ID: 5, Name: schema.ValueName, Type: schema.Type{Kind: schema.String}}}},
		{ID: 6, Name: "tags", Type: schema.Type{Kind: schema.List,
			Element: &schema.Field{ID: 7, Name: schema.ElementName, Type: schema.Type{Kind: schema.String}}}},
	}}
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	build.Field(0).(*array.Float64Builder).AppendValues([]float64{2.5, 0}, []bool{true, false})
	build.Field(1).(*array.Decimal128Builder).AppendValues([]decimal128.Num{decimal128.FromI64(-129), decimal128.FromI64(1 << 60)}, nil)
	hours := build.Field(2).(*array.MapBuilder)
	hours.Append(true)
	hours.KeyBuilder().(*array.Int32Builder).AppendValues([]int32{23, 5}, nil)
	hours.ItemBuilder().(*array.StringBuilder).AppendValues([]string{"late", ""}, []bool{true, false})
	hours.AppendNull()
	tags := build.Field(3).(*array.ListBuilder)
	tags.Append(true)
	tags.Append(true)
	tags.ValueBuilder().(*array.StringBuilder).Append("ä")
	batch := build.NewRecordBatch()
	write := func(codec Codec) []byte {
		var out bytes.Buffer
		w, err := NewFile(&out, s, Options{Format: Avro, Codec: codec})
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Write(context.Background(), batch); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	for _, codec := range []Codec{"none", "snappy", "zstd", "gzip:9", "zstd:9"} {
		file := write(codec)
		if !bytes.Equal(file, write(codec)) {
			t.Errorf("%s: the same rows gave other bytes", codec)
		}
		readByLibrary(t, file)
	}
	path := filepath.Join(t.TempDir(), "x.avro")
	if err := os.WriteFile(path, write("zstd"), 0o644); err != nil {
		t.Fatal(err)
	}
	want := `{"depth__m_":2.5,"amount":-1.29,"by_hour":{"23":"late","5":null},"tags":[]}` + "\n" +
		`{"depth__m_":null,"amount":11529215046068469.76,"by_hour":null,"tags":["ä"]}` + "\n"
	if got := jsonOf(t, path); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

func readByLibrary(t *testing.T, file []byte) {
	t.Helper()
	d, err := ocf.NewReader(bytes.NewReader(file))
	if err != nil {
		t.Fatal(err)
	}
	fields := d.Schema().Root().Fields
	if fields[0].Name != "depth__m_" || fields[0].Doc != "depth (m)" || fields[1].Props["field-id"] != int64(2) {
		t.Errorf("%+v", fields)
	}
	var rows []map[string]any
	for {
		var row map[string]any
		err := d.Decode(&row)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row)
	}
	if len(rows) != 2 || rows[0]["amount"].(*big.Rat).Cmp(big.NewRat(-129, 100)) != 0 ||
		rows[1]["amount"].(*big.Rat).Cmp(big.NewRat(1<<60, 100)) != 0 || rows[1]["by_hour"] != nil {
		t.Errorf("%v", rows)
	}
}

// Files that say nothing of their columns are counted.
func TestLayoutCounts(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{{Name: "n", Type: schema.Type{Kind: schema.Long}},
		{Name: "l", Type: schema.Type{Kind: schema.List,
			Element: &schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.String}}}}}}
	s.AssignIDs()
	b, _, err := array.RecordFromJSON(memory.DefaultAllocator, s.Arrow(),
		strings.NewReader(`[{"n":9,"l":["b","a",null]},{"n":null,"l":[]},{"n":10,"l":null}]`))
	if err != nil {
		t.Fatal(err)
	}
	for _, format := range []Format{Arrow, Avro} {
		path := filepath.Join(t.TempDir(), "x"+string(format))
		file, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		w, err := NewFile(file, s, Options{Format: format, Codec: "zstd"})
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Write(context.Background(), b); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Close(); err != nil {
			t.Fatal(err)
		}
		file.Close()
		f, err := Open(context.Background(), storage.Disk{}, path)
		if err != nil {
			t.Fatal(err)
		}
		l, err := f.Layout()
		f.Close()
		if err != nil || l.Rows != 3 || len(l.Groups) != 1 || len(l.Columns) != 2 {
			t.Fatalf("%s: %+v, %v", format, l, err)
		}
		n, e := l.Columns[0], l.Columns[1]
		if n.Values != 3 || n.Nulls != 1 || n.Smallest != "9" || n.Largest != "10" || e.Values != 3 || e.Nulls != 1 ||
			e.Smallest != "a" || e.Largest != "b" {
			t.Errorf("%s: %+v", format, l.Columns)
		}
		if format == Avro && (len(n.Codecs) != 1 || n.Codecs[0] != "zstandard" || n.ID == 0) {
			t.Errorf("%+v", n)
		}
	}
}

// readAvro opens bytes as a file and reads all of it; what goes wrong is an error.
func readAvro(t *testing.T, path string, data []byte) (rows int64, err error) {
	t.Helper()
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	err = f.Batches(context.Background(), func(b arrow.RecordBatch) error {
		rows += b.NumRows()
		return nil
	})
	return rows, err
}

// A damaged file is an error or other rows, never a panic, and no claim of its counts makes it take long.
func TestDamagedAvro(t *testing.T) {
	if testing.Short() {
		t.Skip("a file for each byte and bit")
	}
	whole, err := os.ReadFile(
		byLibrary(t, `{"type":"record","name":"r","fields":[{"name":"v","type":["null","string"]},{"name":"l","type":{"type":"array","items":["null","long"]}},{"name":"m","type":{"type":"map","values":"double"}}]}`,
			nil, map[string]any{"v": map[string]any{"string": "deep"}, "l": []any{map[string]any{"long": int64(300)}, nil},
				"m": map[string]any{"a": 1.5}}, map[string]any{"v": nil, "l": []any{}, "m": map[string]any{}}))
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "x.avro")
	if rows, err := readAvro(t, path, whole); rows != 2 || err != nil {
		t.Fatalf("%d rows, %v", rows, err)
	}
	end := len(whole) - 16
	for at := range whole {
		if rows, err := readAvro(t, path, whole[:at]); err == nil && rows != 0 {
			t.Errorf("%d rows of the first %d bytes", rows, at)
		}
		for _, flip := range []byte{1, 0x40, 0x80, 0xff} {
			damaged := bytes.Clone(whole)
			damaged[at] ^= flip
			rows, err := readAvro(t, path, damaged)
			if at >= end && err == nil {
				t.Errorf("the mark was changed at %d, and %d rows were read", at, rows)
			}
		}
	}
}

// Records that take no bytes can be said to be any number.
func TestRecordsWithoutBytes(t *testing.T) {
	nothing := `{"type":"record","name":"r","fields":[{"name":"v","type":"null"}]}`
	path := byLibrary(t, nothing, nil, map[string]any{"v": nil}, map[string]any{"v": nil})
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if rows, err := readAvro(t, path, data); rows != 2 || err != nil {
		t.Errorf("%d rows, %v", rows, err)
	}
	mark := data[len(data)-16:]
	at := len(data) - 18 // the number of records, then that of bytes
	many := append(append(binary.AppendVarint(bytes.Clone(data[:at]), 1<<60), 0), mark...)
	if rows, err := readAvro(t, path, many); err == nil || rows != 0 || !strings.Contains(err.Error(), "records in 0 bytes") {
		t.Errorf("%d rows, %v", rows, err)
	}
}
