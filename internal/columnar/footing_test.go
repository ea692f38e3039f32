package columnar

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// TestFootingIsTheSummary reads back from a footer what was told when the file was written, and writes bounds as wider types.
func TestFootingIsTheSummary(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Int}}, {Name: "area", Type: schema.Type{Kind: schema.String}},
		{Name: "depth", Type: schema.Type{Kind: schema.Double}}, {Name: "at", Type: schema.Type{Kind: schema.TimestampTz}},
		{Name: "price", Type: schema.Type{Kind: schema.Decimal, Precision: 9, Scale: 2}}, {Name: "ok", Type: schema.Type{Kind: schema.Boolean}},
		{Name: "day", Type: schema.Type{Kind: schema.Date}}, {Name: "none", Type: schema.Type{Kind: schema.Long}}}}
	s.AssignIDs()
	b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	b.Field(0).(*array.Int32Builder).AppendValues([]int32{5, -7, 3}, nil)
	b.Field(1).(*array.StringBuilder).AppendValues([]string{"a name longer than sixteen characters", "", "Cairn Bay"}, []bool{true, false, true})
	b.Field(2).(*array.Float64Builder).AppendValues([]float64{1.5, -2, 0}, nil)
	b.Field(3).(*array.TimestampBuilder).AppendValues([]arrow.Timestamp{3, 1, 2}, nil)
	b.Field(4).(*array.Decimal128Builder).AppendValues([]decimal128.Num{decimal128.FromI64(-150), decimal128.FromI64(12), decimal128.FromI64(70000)}, nil)
	b.Field(5).(*array.BooleanBuilder).AppendValues([]bool{true, true, false}, nil)
	b.Field(6).(*array.Date32Builder).AppendValues([]arrow.Date32{9, 8, 7}, nil)
	b.Field(7).(*array.Int64Builder).AppendNulls(3)
	var text bytes.Buffer
	w, err := NewFile(&text, s, DefaultOptions)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Write(t.Context(), b.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	want, err := w.Close()
	if err != nil {
		t.Fatal(err)
	}
	place := filepath.Join(t.TempDir(), "x.parquet")
	if err := os.WriteFile(place, text.Bytes(), 0o666); err != nil {
		t.Fatal(err)
	}
	f, err := Open(t.Context(), storage.Disk{}, place)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	ids := map[string]schema.Field{}
	s.Walk(func(path string, f *schema.Field) { ids[path] = *f })
	got, err := f.Footing(func(path string) (int, schema.Type) { return ids[path].ID, ids[path].Type })
	if err != nil || got.Rows != want.Rows || got.Bytes != int64(text.Len()) || len(got.RowGroups) != 1 {
		t.Fatalf("%+v, %v", got, err)
	}
	for id, m := range want.Columns {
		g := got.Columns[id]
		if g == nil || g.Values != m.Values || g.Nulls != m.Nulls || !bytes.Equal(g.Lower, m.Lower) || !bytes.Equal(g.Upper, m.Upper) {
			t.Errorf("column %d: %+v, written as %+v", id, g, m)
		}
	}
	wide, err := f.Footing(func(path string) (int, schema.Type) {
		if path == "id" {
			return 1, schema.Type{Kind: schema.Long}
		}
		return 0, schema.Type{}
	})
	if err != nil || len(wide.Columns) != 1 || !bytes.Equal(wide.Columns[1].Lower, []byte{0xf9, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}) {
		t.Errorf("%+v, %v", wide.Columns[1], err)
	}
	if !f.IsParquet() || f.Unsigned() != "" {
		t.Errorf("%t %q", f.IsParquet(), f.Unsigned())
	}
}
