package columnar

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// TestVeryWideFiles writes and reads a file of so many columns that it is read some at a time, nested ones among them.
func TestVeryWideFiles(t *testing.T) {
	var s schema.Schema
	for i := range wideLeaves + 50 {
		f := schema.Field{Name: fmt.Sprint("c", i), Type: schema.Type{Kind: schema.Long}}
		if i%100 == 7 {
			f.Type = schema.Type{Kind: schema.Struct, Fields: []schema.Field{{Name: "a", Type: schema.Type{Kind: schema.Long}},
				{Name: "b", Type: schema.Type{Kind: schema.String}}}}
		}
		s.Fields = append(s.Fields, f)
	}
	s.AssignIDs()
	const rows = 40
	b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for c := range s.Fields {
		for row := range rows {
			switch f := b.Field(c).(type) {
			case *array.Int64Builder:
				f.Append(int64(row*c) % 37)
			case *array.StructBuilder:
				f.Append(true)
				f.FieldBuilder(0).(*array.Int64Builder).Append(int64(row))
				f.FieldBuilder(1).(*array.StringBuilder).Append(fmt.Sprint("row ", row))
			}
		}
	}
	batch := b.NewRecordBatch()
	o := DefaultOptions
	o.RowGroupRows = rows
	path, _ := write(t, s, o, batch, batch)
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if !wide(f.reader) {
		t.Error("the file is not read some columns at a time")
	}
	groups := 0
	err = f.Batches(t.Context(), func(got arrow.RecordBatch) error {
		groups++
		if got.NumCols() != batch.NumCols() || got.NumRows() != rows {
			t.Fatalf("%d columns of %d rows", got.NumCols(), got.NumRows())
		}
		for c := range int(got.NumCols()) {
			if !array.Equal(got.Column(c), batch.Column(c)) {
				t.Fatalf("column %d is %v, want %v", c, got.Column(c), batch.Column(c))
			}
		}
		return nil
	})
	if err != nil || groups != 2 {
		t.Errorf("%d row groups, %v", groups, err)
	}
}

// TestBoundsOfLongTexts stay short, and below and above all texts.
func TestBoundsOfLongTexts(t *testing.T) {
	long := strings.Repeat("ä", 40_000)
	for _, test := range []struct {
		texts  []string
		low    string
		high   string
		unheld bool
	}{
		{texts: []string{"b", "a"}, low: "a", high: "b"},
		{texts: []string{long, "z" + long}, low: "z" + strings.Repeat("ä", 127), high: strings.Repeat("ä", 127) + "å"},
		{texts: []string{strings.Repeat("\U0010ffff", 100)}, unheld: true},
	} {
		s := schema.Schema{Fields: []schema.Field{{Name: "t", Type: schema.Type{Kind: schema.String}}}}
		s.AssignIDs()
		b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for _, text := range test.texts {
			b.Field(0).(*array.StringBuilder).Append(text)
		}
		path, summary := write(t, s, DefaultOptions, b.NewRecordBatch())
		r, err := file.OpenParquetFile(path, false)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		column, err := r.MetaData().RowGroup(0).ColumnChunk(0)
		if err != nil {
			t.Fatal(err)
		}
		stats, err := column.Statistics()
		if err != nil {
			t.Fatal(err)
		}
		if stats.HasMinMax() == test.unheld {
			t.Errorf("%.10q…: there are bounds: %v", test.texts[0], stats.HasMinMax())
		}
		if low, high := string(stats.EncodeMin()), string(stats.EncodeMax()); !test.unheld && (low != test.low || high != test.high) {
			t.Errorf("from %.300q to %.300q, want %.300q to %.300q", low, high, test.low, test.high)
		}
		if summary.Bytes > 5_000 {
			t.Errorf("%d bytes are written", summary.Bytes)
		}
	}
}
