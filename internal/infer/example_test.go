package infer_test

import (
	"context"
	"fmt"

	"trevak/internal/infer"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
)

func ExampleInfer() {
	ctx, s := context.Background(), storage.NewMemory()
	_ = storage.WriteAll(ctx, s, "mem://harbour/in.ndjson", []byte("{\"id\":1,\"at\":\"2031-05-01\"}\n{\"id\":2.5}\n"),
		storage.Creation{})
	i, err := infer.Infer(ctx, infer.Reading{Reading: source.Reading{Store: s, Sources: []string{"mem://harbour/in.ndjson"}}},
		run.DefaultBudget())
	if err != nil {
		fmt.Println(err)
		return
	}
	i.Walk(func(path string, f *schema.Field, n *schema.Node, _ int) {
		fmt.Println(path, f.Type, n.Evidence.Values(), "values")
	})
	// Output:
	// id double 2 values
	// at date 1 values
}
