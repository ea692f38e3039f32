package load_test

import (
	"context"
	"fmt"

	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

func ExampleLoad() {
	ctx, s := context.Background(), storage.NewMemory()
	w, _ := table.OpenWarehouse(s, "mem://harbour/store")
	name, _ := table.ParseName("ops.readings")
	for i, text := range []string{"id,area\n1,Cairn Bay\n", "id,area,depth\n2,The Narrows,3.5\n"} {
		uri := fmt.Sprintf("mem://harbour/%d.csv", i)
		_ = storage.WriteAll(ctx, s, uri, []byte(text), storage.Creation{})
		r := infer.Reading{Reading: source.Reading{Store: s, Sources: []string{uri}}}
		report, err := load.Load(ctx, load.Request{Task: write.Task{Reading: r}, Warehouse: w, Into: name, Layout: layout.DefaultOptions},
			run.DefaultBudget())
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(report.RowsWritten, "row, made", report.Created)
		for _, d := range report.Drift {
			fmt.Println(write.Sentence(d))
		}
	}
	// Output:
	// 1 row, made true
	// 1 row, made false
	// column depth is new, double
}
