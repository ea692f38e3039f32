package convert_test

import (
	"context"
	"fmt"

	"trevak/internal/convert"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/write"
)

func ExampleConvert() {
	ctx, s := context.Background(), storage.NewMemory()
	_ = storage.WriteAll(ctx, s, "mem://harbour/in.csv", []byte("id,area\n1,Cairn Bay\n2,The Narrows\n"), storage.Creation{})
	r := infer.Reading{Reading: source.Reading{Store: s, Sources: []string{"mem://harbour/in.csv"}}}
	report, err := convert.Convert(ctx, convert.Request{Task: write.Task{Reading: r}, To: "mem://harbour/out.ndjson",
		Layout: layout.DefaultOptions}, run.DefaultBudget())
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(report.RecordsRead, "records read,", report.RowsWritten, "rows written")
	text, _ := storage.ReadAll(ctx, s, "mem://harbour/out.ndjson")
	fmt.Print(string(text))
	// Output:
	// 2 records read, 2 rows written
	// {"id":1,"area":"Cairn Bay"}
	// {"id":2,"area":"The Narrows"}
}
