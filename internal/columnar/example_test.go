package columnar_test

import (
	"context"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

func Example() {
	ctx, store := context.Background(), storage.NewMemory()
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "area", Type: schema.Type{Kind: schema.String}}}}
	s.AssignIDs()
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	build.Field(0).(*array.Int64Builder).AppendValues([]int64{1, 2}, nil)
	build.Field(1).(*array.StringBuilder).AppendValues([]string{"Cairn Bay", "The Narrows"}, nil)

	object, err := store.Create(ctx, "mem://harbour/in.parquet", storage.Creation{})
	if err != nil {
		fmt.Println(err)
		return
	}
	w, _ := columnar.NewWriter(object, s, columnar.DefaultOptions)
	_ = w.Write(ctx, build.NewRecordBatch())
	summary, _ := w.Close()
	_ = object.Commit()
	fmt.Println(summary.Rows, "rows; column 1 has", summary.Columns[1].Values, "values and", summary.Columns[1].Nulls, "nulls")

	f, err := columnar.Open(ctx, store, "mem://harbour/in.parquet")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer f.Close()
	_ = f.Select(ctx, columnar.Selection{Columns: []int{1}}, func(b arrow.RecordBatch, first int64) error {
		fmt.Println("from row", first, b.Column(0))
		return nil
	})
	// Output:
	// 2 rows; column 1 has 2 values and 0 nulls
	// from row 0 ["Cairn Bay" "The Narrows"]
}
