package shape_test

import (
	"context"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
	"trevak/internal/shape"
)

func Example() {
	element := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Long}}
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "depths", Type: schema.Type{Kind: schema.List, Element: &element}}}}
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for id, depths := range [][]int64{{3, 5}, {}, {8}} {
		build.Field(0).(*array.Int64Builder).Append(int64(id))
		build.Field(1).(*array.ListBuilder).Append(true)
		build.Field(1).(*array.ListBuilder).ValueBuilder().(*array.Int64Builder).AppendValues(depths, nil)
	}
	plan, err := shape.New(s, shape.Spec{Unnest: [][]string{{"depths"}}})
	if err != nil {
		fmt.Println(err)
		return
	}
	result, _ := plan.Apply(context.Background(), s.Fields, build.NewRecordBatch())
	for i, f := range plan.Schema.Fields {
		fmt.Println(f.Name, result.Batch.Column(i))
	}
	fmt.Println("of the records", result.Origin)
	// Output:
	// id [0 0 1 2]
	// depths [3 5 (null) 8]
	// of the records [0 0 1 2]
}
