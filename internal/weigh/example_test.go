package weigh_test

import (
	"context"
	"fmt"
	"strings"

	"trevak/internal/infer"
	"trevak/internal/run"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/weigh"
)

func ExampleRequest_Run() {
	ctx, s := context.Background(), storage.NewMemory()
	text := "id,area\n" + strings.Repeat("1,Cairn Bay\n2,The Narrows\n", 500)
	_ = storage.WriteAll(ctx, s, "mem://harbour/in.csv", []byte(text), storage.Creation{})
	r := infer.Reading{Reading: source.Reading{Store: s, Sources: []string{"mem://harbour/in.csv"}}}
	w, err := weigh.Request{Reading: r, Favor: weigh.FavorSize}.Run(ctx, run.DefaultBudget())
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, c := range w.Columns {
		fmt.Println(c.Path, c.Type, c.Best.Bytes < c.PlainBytes)
	}
	// Output:
	// id long true
	// area string true
}
