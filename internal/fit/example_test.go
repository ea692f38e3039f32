package fit_test

import (
	"fmt"

	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

func ExampleDelimited() {
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "depth", Type: schema.Type{Kind: schema.Double}, Pinned: true}}}
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: 2}
	var records delimited.Records
	p.Begin(&parse.Block{Data: []byte("1,2.5\n2,deep\n"), Line: 1}, &records)
	result := fit.NewDelimited(s, false).Fit(&records, []int{0, 1}, nil)
	fmt.Println(result.Batch.Column(0), result.Batch.Column(1))
	for _, m := range result.Misfits {
		fmt.Printf("row %d, column %s: %q\n", m.Row, m.Column, m.Text)
	}
	// Output:
	// [1 2] [2.5 (null)]
	// row 1, column depth: "deep"
}
