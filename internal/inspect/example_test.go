package inspect_test

import (
	"context"
	"fmt"

	"trevak/internal/infer"
	"trevak/internal/inspect"
	"trevak/internal/source"
	"trevak/internal/storage"
)

func ExamplePreviewSource() {
	ctx, s := context.Background(), storage.NewMemory()
	_ = storage.WriteAll(ctx, s, "mem://harbour/in.csv", []byte("id,area\n1,Cairn Bay\n2,\n"), storage.Creation{})
	p, err := inspect.PreviewSource(ctx, infer.Reading{Reading: source.Reading{Store: s, Sources: []string{"mem://harbour/in.csv"}}}, 10)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(p.Columns)
	for _, row := range p.Rows {
		fmt.Println(row[0].Text, row[1].Text, row[1].Null)
	}
	// Output:
	// [id area]
	// 1 Cairn Bay false
	// 2  true
}
