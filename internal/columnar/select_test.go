package columnar

import (
	"context"
	"fmt"
	"io"
	"math/rand"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/expr"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// soundings is a file of rows in the order of their ids, in several row groups with several pages each.
func soundings(t testing.TB, second bool) *File {
	t.Helper()
	deep := schema.Type{Kind: schema.Struct, Fields: []schema.Field{{Name: "depth", Type: schema.Type{Kind: schema.Double}}}}
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "area", Type: schema.Type{Kind: schema.String}},
		{Name: "at", Type: schema.Type{Kind: schema.Timestamp}}, {Name: "spot", Type: deep},
		{Name: "gap", Type: schema.Type{Kind: schema.Long}},
		{Name: "price", Type: schema.Type{Kind: schema.Decimal, Precision: 9, Scale: 2}},
		{Name: "code", Type: schema.Type{Kind: schema.Long}},
		{Name: "tags", Type: schema.Type{Kind: schema.List,
			Element: &schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Long}}}}}}
	s.AssignIDs()
	random := rand.New(rand.NewSource(5))
	var batches []arrow.RecordBatch
	for b := range 10 {
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for i := range 20_000 {
			id := int64(b*20_000 + i)
			build.Field(0).(*array.Int64Builder).Append(id)
			build.Field(1).(*array.StringBuilder).Append([]string{"Cairn Bay", "Lantern Bank", "The Narrows"}[id/80_000])
			build.Field(2).(*array.TimestampBuilder).Append(arrow.Timestamp(id * 1_000_000))
			build.Field(3).(*array.StructBuilder).Append(true)
			build.Field(3).(*array.StructBuilder).FieldBuilder(0).(*array.Float64Builder).Append(float64(id) / 10)
			if id < 100_000 {
				build.Field(4).AppendNull()
			} else {
				build.Field(4).(*array.Int64Builder).Append(id % 7)
			}
			build.Field(5).(*array.Decimal128Builder).Append(decimal128.FromI64(id))
			build.Field(6).(*array.Int64Builder).Append(int64(random.Intn(1 << 40)))
			tags := build.Field(7).(*array.ListBuilder)
			tags.Append(true)
			for tag := range id % 3 {
				tags.ValueBuilder().(*array.Int64Builder).Append(tag)
			}
		}
		batches = append(batches, build.NewRecordBatch())
	}
	path, _ := write(t, s, Options{Codec: "snappy", RowGroupRows: 80_000, RowGroupBytes: 64 << 20, SecondPages: second,
		Bloom: []string{"code"}}, batches...)
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

// TestSelectionsHaveAllThatIsWanted holds what is read with bounds against all rows, and that the rest is passed over.
func TestSelectionsHaveAllThatIsWanted(t *testing.T) {
	for _, second := range []bool{true, false} {
		if !second && testing.Short() {
			break
		}
		f := soundings(t, second)
		for _, test := range []struct {
			where         string
			groups, pages bool // that are passed over
		}{
			{"id = 90123", true, true}, {"id > 199990", true, true}, {"id < 5", true, true}, {"id between 79990 and 80010", true, true},
			{"id in (3, 150000)", true, true},
			{"id >= 0", false, false}, {"area = 'The Narrows'", true, false}, {"area = 'Marrow Deep'", true, false},
			{"at < timestamp '1970-01-01 00:10:00'", true, true},
			{"spot.depth <= 0.5", true, true}, {"gap is null", true, true}, {"gap is not null", true, true},
			{"gap = 3 and id < 100100", true, true}, {"price < 12.5", true, true},
			{"code = 5", true, false}, {"id + 1 = 7", false, false}, {"not id = 7", false, false},
			{"id = 5 or area = 'Cairn Bay'", false, false}, {"id = 500000", true, false},
			{"gap = 99", true, false},
		} {
			where, err := expr.Parse(test.where, f.Schema.Fields)
			if err != nil {
				t.Fatal(test.where, err)
			}
			collect := func(s Selection) (ids []int64) {
				err := f.Select(t.Context(), s, func(b arrow.RecordBatch, first int64) error {
					rows, err := where.Rows(b.Columns(), int(b.NumRows()))
					if err != nil {
						return err
					}
					for _, row := range rows {
						id := b.Column(0).(*array.Int64).Value(int(row))
						if id != first+int64(row) {
							t.Fatalf("%s: row %d has the id %d", test.where, first+int64(row), id)
						}
						if from, to := b.Column(7).(*array.List).ValueOffsets(int(row)); to-from != id%3 {
							t.Fatalf("%s: row %d has other tags", test.where, id)
						}
						ids = append(ids, id)
					}
					return nil
				})
				if err != nil {
					t.Fatal(test.where, err)
				}
				return ids
			}
			var skipped Skipped
			want, got := collect(Selection{}), collect(Selection{Bounds: where.Bounds(), Skipped: &skipped})
			if !slices.Equal(got, want) {
				t.Errorf("%s: %d rows, want %d", test.where, len(got), len(want))
			}
			if skipped.Groups > 0 != test.groups || skipped.Pages > 0 != test.pages {
				t.Errorf("%s: %+v", test.where, skipped)
			}
		}
	}
}

// TestSelectionsOfColumns reads some columns, in another order, of some row groups, and ends early.
func TestSelectionsOfColumns(t *testing.T) {
	f := soundings(t, false)
	if groups := f.Groups(); fmt.Sprint(groups) != "[80000 80000 40000]" {
		t.Errorf("%v", groups)
	}
	rows := int64(0)
	err := f.Select(t.Context(), Selection{Columns: []int{6, 0}, From: 1, To: 2}, func(b arrow.RecordBatch, first int64) error {
		if b.NumCols() != 2 || b.Schema().Field(1).Name != "id" || b.Column(1).(*array.Int64).Value(0) != first || first != 80_000+rows {
			t.Fatalf("%s from %d on", b.Schema(), first)
		}
		rows += b.NumRows()
		return nil
	})
	if err != nil || rows != 80_000 {
		t.Errorf("%d rows, %v", rows, err)
	}
	batches := 0
	if err := f.Select(t.Context(), Selection{}, func(arrow.RecordBatch, int64) error { batches++; return io.EOF }); err != nil ||
		batches != 1 {
		t.Errorf("%d batches, %v", batches, err)
	}
}
