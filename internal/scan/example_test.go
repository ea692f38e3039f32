package scan_test

import (
	"context"
	"fmt"

	"trevak/internal/expr"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
)

func Example() {
	ctx, s := context.Background(), storage.NewMemory()
	_ = storage.WriteAll(ctx, s, "mem://harbour/in.csv", []byte("id,area\n1,Cairn Bay\n2,The Narrows\n3,Cairn Bay\n"), storage.Creation{})
	found, err := source.Survey(ctx, source.Reading{Store: s, Sources: []string{"mem://harbour/in.csv"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	target := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "area", Type: schema.Type{Kind: schema.String}}}}
	where, _ := expr.Parse("area = 'Cairn Bay'", target.Fields)
	request := scan.Request{Target: scan.Target{Schema: target}, Where: where, Budget: run.DefaultBudget()}
	err = scan.Of(found).Read(ctx, request, func(rows *scan.Rows) error {
		for row := range int(rows.Batch.NumRows()) {
			fmt.Println(rows.Batch.Column(0).ValueStr(row), "is record", rows.Rank(row)+1)
		}
		return nil
	})
	fmt.Println(err)
	// Output:
	// 1 is record 1
	// 3 is record 3
	// <nil>
}
