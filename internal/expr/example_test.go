package expr_test

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/expr"
	"trevak/internal/schema"
)

func Example() {
	fields := []schema.Field{{Name: "depth", Type: schema.Type{Kind: schema.Double}}}
	b := array.NewFloat64Builder(memory.DefaultAllocator)
	b.AppendValues([]float64{1.5, 12, 30}, []bool{true, true, false})
	columns := []arrow.Array{b.NewArray()}

	deep, err := expr.Parse("depth > 3", fields)
	if err != nil {
		fmt.Println(err)
		return
	}
	rows, _ := deep.Rows(columns, 3)
	fmt.Println("rows", rows)
	for _, bound := range deep.Bounds() {
		fmt.Println(bound.Column, bound.Op, bound.Values[0].Double)
	}
	feet, _ := expr.Parse("depth * 3.28084", fields)
	column, _ := feet.Column(columns, 3)
	fmt.Println(column)
	_, err = expr.Parse("depht > 3", fields)
	fmt.Println(err)
	// Output:
	// rows [1]
	// depth > 3
	// [4.92126 39.37008 (null)]
	// there is no column "depht"; the nearest name is depth, at character 1
	//     depht > 3
	//     ^
}
