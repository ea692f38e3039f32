package columnar

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"math"
	"math/rand"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// randomField makes a column of any type, with parts up to a depth.
func randomField(random *rand.Rand, name string, depth int) schema.Field {
	kinds := []schema.Kind{schema.Boolean, schema.Int, schema.Long, schema.Float, schema.Double, schema.Date, schema.Time,
		schema.Timestamp, schema.TimestampTz, schema.String, schema.Decimal, schema.UUID, schema.Binary}
	if depth > 0 {
		kinds = append(kinds, schema.Struct, schema.List, schema.Struct, schema.List, schema.Map)
	}
	f := schema.Field{Name: name, Type: schema.Type{Kind: kinds[random.Intn(len(kinds))]}, Required: random.Intn(5) == 0}
	switch f.Type.Kind {
	case schema.Decimal:
		f.Type.Precision = []int{1, 9, 10, 18, 19, 38}[random.Intn(6)]
		f.Type.Scale = random.Intn(f.Type.Precision + 1)
	case schema.Struct:
		for i := range 1 + random.Intn(3) {
			f.Type.Fields = append(f.Type.Fields, randomField(random, fmt.Sprint("f", i), depth-1))
		}
	case schema.List:
		element := randomField(random, schema.ElementName, depth-1)
		f.Type.Element = &element
	case schema.Map:
		value := randomField(random, "value", depth-1)
		parts := schema.Schema{Fields: []schema.Field{value}}
		parts.Walk(func(_ string, f *schema.Field) {
			if f.Type.Kind == schema.UUID {
				f.Type.Kind = schema.Binary // entries of maps are shown otherwise by the library
			}
		})
		value = parts.Fields[0]
		f.Type.Key, f.Type.Element = &schema.Field{Name: "key", Type: schema.Type{Kind: schema.String}, Required: true}, &value
	}
	return f
}

// appendRandom appends one value, null where the field allows it.
func appendRandom(random *rand.Rand, b array.Builder, f schema.Field) {
	if !f.Required && random.Intn(4) == 0 {
		b.AppendNull()
		return
	}
	switch b := b.(type) {
	case *array.BooleanBuilder:
		b.Append(random.Intn(2) == 0)
	case *array.Int32Builder:
		b.Append(int32(random.Intn(50) - 25))
	case *array.Int64Builder:
		b.Append(random.Int63n(1<<40) - 1<<39)
	case *array.Float32Builder:
		b.Append(random.Float32())
	case *array.Float64Builder:
		b.Append([]float64{random.NormFloat64(), 0, math.Copysign(0, -1), math.Inf(1), 1e-300}[random.Intn(5)])
	case *array.Date32Builder:
		b.Append(arrow.Date32(random.Intn(40000)))
	case *array.Time64Builder:
		b.Append(arrow.Time64(random.Int63n(86400e6)))
	case *array.TimestampBuilder:
		b.Append(arrow.Timestamp(random.Int63n(1 << 50)))
	case *array.StringBuilder:
		b.Append([]string{"", "a", "Cairn Bay", "über", strings.Repeat("long ", 10), fmt.Sprint(random.Intn(1000))}[random.Intn(6)])
	case *array.BinaryBuilder:
		b.Append([]byte{byte(random.Intn(256)), 0xff, 0}[:random.Intn(4)])
	case *array.FixedSizeBinaryBuilder:
		value := make([]byte, 16)
		random.Read(value[random.Intn(16):])
		b.Append(value)
	case *array.Decimal128Builder:
		v := decimal128.GetMaxValue(int32(1 + random.Intn(f.Type.Precision)))
		if random.Intn(2) == 0 {
			v = v.Negate()
		}
		b.Append(v)
	case *array.StructBuilder:
		b.Append(true)
		for i, part := range f.Type.Fields {
			appendRandom(random, b.FieldBuilder(i), part)
		}
	case *array.MapBuilder:
		b.Append(true)
		for i := range random.Intn(4) {
			b.KeyBuilder().(*array.StringBuilder).Append(fmt.Sprint("k", i))
			appendRandom(random, b.ItemBuilder(), *f.Type.Element)
		}
	case *array.ListBuilder:
		b.Append(true)
		for range random.Intn(4) {
			appendRandom(random, b.ValueBuilder(), *f.Type.Element)
		}
	}
}

// TestAnyTableReadsBackEqual writes random rows of random schemas and reads them back with the library's reader.
func TestAnyTableReadsBackEqual(t *testing.T) {
	seeds := int64(60)
	if testing.Short() {
		seeds = 2
	}
	for seed := range seeds {
		random := rand.New(rand.NewSource(seed))
		s := schema.Schema{}
		for i := range 1 + random.Intn(4) {
			s.Fields = append(s.Fields, randomField(random, fmt.Sprint("c", i), 3))
		}
		s.AssignIDs()
		var batches []arrow.RecordBatch
		var want []string
		for range 1 + random.Intn(3) {
			build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
			for range random.Intn(60) {
				for c, f := range s.Fields {
					appendRandom(random, build.Field(c), f)
				}
			}
			b := build.NewRecordBatch()
			batches = append(batches, b)
			want = append(want, rowTexts(t, b)...)
		}
		o := Options{Codec: Codec(CodecNames()[seed%6]), Codecs: map[string]Codec{"c1": "zstd:19"},
			RowGroupRows: []int64{1, 13, 1 << 20}[seed%3], RowGroupBytes: 1 << 20, Workers: 2, SecondPages: seed%2 == 1}
		for _, f := range s.Fields {
			if !f.Type.Nested() && bloomable(f.Type.Arrow()) {
				o.Bloom = append(o.Bloom, f.Name)
			}
		}
		path, summary := write(t, s, o, batches...)
		if got := uuidsAsBytes(read(t, path)); strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Fatalf("seed %d: %s\n%s\nwant\n%s", seed, s.Arrow(), strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
		if summary.Rows != int64(len(want)) {
			t.Errorf("seed %d: the summary counts %d rows of %d", seed, summary.Rows, len(want))
		}
	}
}

var uuidText = regexp.MustCompile(`[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}`)

// uuidsAsBytes writes uuids, which the library's reader shows as such, like the bytes that were written.
func uuidsAsBytes(rows []string) []string {
	for i, row := range rows {
		rows[i] = uuidText.ReplaceAllStringFunc(row, func(text string) string {
			value, err := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
			if err != nil {
				return text
			}
			return fmt.Sprint(value)
		})
	}
	return rows
}

// TestDictionariesAreLeft writes columns whose dictionaries pay at first, later, or never, over several row groups.
func TestDictionariesAreLeft(t *testing.T) {
	if testing.Short() {
		t.Skip("300,000 rows")
	}
	names := []string{"few", "unique", "late", "sequence", "text", "notes"}
	kinds := []schema.Kind{schema.Double, schema.Double, schema.Long, schema.Long, schema.String, schema.String}
	s := schema.Schema{}
	for i, name := range names {
		s.Fields = append(s.Fields, schema.Field{Name: name, Type: schema.Type{Kind: kinds[i]}})
	}
	s.AssignIDs()
	random := rand.New(rand.NewSource(5))
	var batches []arrow.RecordBatch
	var want []string
	for n := range 30 {
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for i := range 10_000 {
			row := n*10_000 + i
			build.Field(0).(*array.Float64Builder).Append(float64(random.Intn(300)) / 10)
			build.Field(1).(*array.Float64Builder).Append(random.Float64())
			late := int64(row % 10)
			if row > 50_000 {
				late = random.Int63()
			}
			build.Field(2).(*array.Int64Builder).Append(late)
			build.Field(3).(*array.Int64Builder).Append(int64(row))
			build.Field(4).(*array.StringBuilder).Append(fmt.Sprintf("row number %d", row))
			build.Field(5).(*array.StringBuilder).Append([]string{"calm", "swell", ""}[row%3])
		}
		b := build.NewRecordBatch()
		batches = append(batches, b)
		want = append(want, rowTexts(t, b)...)
	}
	o := DefaultOptions
	o.RowGroupRows = 200_000
	path, _ := write(t, s, o, batches...)
	if got := read(t, path); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Error("the rows differ")
	}
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	l, err := f.Layout()
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"plain rle-dictionary", "byte-stream-split", "plain rle-dictionary", "delta-binary-packed",
		"delta-byte-array", "plain rle-dictionary"} {
		if got := strings.Join(l.Columns[i].Encodings, " "); len(strings.Fields(got)) != len(strings.Fields(want)) ||
			!strings.Contains(got, strings.Fields(want)[len(strings.Fields(want))-1]) {
			t.Errorf("%s: %s, want %s", names[i], got, want)
		}
	}
}

// TestSameRowsGiveTheSameBytes writes the same batches twice with different numbers of workers.
func TestSameRowsGiveTheSameBytes(t *testing.T) {
	s := everything()
	b := batch(t, s.Arrow())
	var files [2][]byte
	for i, workers := range []int{1, 4} {
		o := DefaultOptions
		o.Workers = workers
		path, _ := write(t, s, o, b, b, b)
		var err error
		if files[i], err = os.ReadFile(path); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(files[0], files[1]) {
		t.Error("the files differ")
	}
}

// FuzzOpen reads damaged files: whatever they hold, there is an error or there are rows, but no panic.
func FuzzOpen(f *testing.F) {
	s := schema.Schema{Fields: []schema.Field{{ID: 1, Name: "a", Type: schema.Type{Kind: schema.Long}},
		{ID: 2, Name: "b", Type: schema.Type{Kind: schema.String}}}}
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for i := range 20 {
		build.Field(0).(*array.Int64Builder).Append(int64(i))
		build.Field(1).(*array.StringBuilder).Append(fmt.Sprint("text ", i%3))
	}
	var whole bytes.Buffer
	w, err := NewWriter(&whole, s, Options{Codec: "none", RowGroupRows: 7, RowGroupBytes: 1 << 20})
	if err != nil {
		f.Fatal(err)
	}
	rows := build.NewRecordBatch()
	if err := w.Write(context.Background(), rows); err != nil {
		f.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		f.Fatal(err)
	}
	for _, format := range []Format{ORC, Arrow, Avro} {
		var other bytes.Buffer
		w, err := NewFile(&other, s, Options{Format: format, Codec: "none"})
		if err != nil {
			f.Fatal(err)
		}
		if err := w.Write(context.Background(), rows); err != nil {
			f.Fatal(err)
		}
		if _, err := w.Close(); err != nil {
			f.Fatal(err)
		}
		f.Add(other.Bytes(), 0, byte(0))
		for at := 5; at < other.Len(); at += 41 {
			f.Add(other.Bytes(), at, byte(0xff))
		}
	}
	f.Add(whole.Bytes(), 0, byte(0))
	f.Add(whole.Bytes()[:whole.Len()-20], 0, byte(0))
	for at := 5; at < whole.Len(); at += 37 {
		f.Add(whole.Bytes(), at, byte(0xff))
	}
	f.Fuzz(func(t *testing.T, data []byte, at int, flip byte) {
		damaged := bytes.Clone(data)
		if at >= 0 && at < len(damaged) {
			damaged[at] ^= flip
		}
		path := filepath.Join(t.TempDir(), "x.parquet")
		if err := os.WriteFile(path, damaged, 0o644); err != nil {
			t.Fatal(err)
		}
		file, err := Open(context.Background(), storage.Disk{}, path)
		if err != nil {
			return
		}
		defer file.Close()
		if _, err := file.Layout(); err != nil {
			return
		}
		rows := int64(0)
		err = file.Batches(t.Context(), func(b arrow.RecordBatch) error {
			rows += b.NumRows()
			return nil
		})
		if err == nil && rows != file.Rows() {
			t.Logf("%d rows of %d", rows, file.Rows())
		}
	})
}
