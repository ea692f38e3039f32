package layout_test

import (
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

func ExampleRouter() {
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "area", Type: schema.Type{Kind: schema.String}}}}
	s.AssignIDs()
	spec, err := layout.ParseSpec("area", s)
	if err != nil {
		fmt.Println(err)
		return
	}
	ctx, store, n := context.Background(), storage.NewMemory(), 0
	r := layout.NewRouter(s, spec, layout.DefaultOptions, func(ctx context.Context, folder string) (func() (storage.Writer, error), string, error) {
		n++
		uri := storage.Join("mem://harbour", folder, fmt.Sprintf("%d.parquet", n))
		return func() (storage.Writer, error) { return store.Create(ctx, uri, storage.Creation{}) }, uri, nil
	})
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	build.Field(0).(*array.Int64Builder).AppendValues([]int64{1, 2, 3}, nil)
	build.Field(1).(*array.StringBuilder).AppendValues([]string{"Cairn Bay", "The Narrows", "Cairn Bay"}, nil)
	_ = r.Write(ctx, build.NewRecordBatch())
	files, err := r.Close(ctx)
	var lines []string
	for _, f := range files {
		lines = append(lines, fmt.Sprintf("%s: %d rows", f.Folder, f.Summary.Rows))
	}
	slices.Sort(lines)
	fmt.Println(lines[0], err)
	fmt.Println(lines[1])
	// Output:
	// area=Cairn%20Bay: 2 rows <nil>
	// area=The%20Narrows: 1 rows
}
