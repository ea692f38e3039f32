package table_test

import (
	"context"
	"fmt"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

func Example() {
	ctx := context.Background()
	w, err := table.OpenWarehouse(storage.NewMemory(), "mem://harbour/store")
	if err != nil {
		fmt.Println(err)
		return
	}
	name, _ := table.ParseName("ops.readings")
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}}}}
	first, _ := w.Create(name, s, nil, nil, columnar.Parquet)
	if _, err := first.Commit(ctx, nil); err != nil {
		fmt.Println(err)
	}
	_, err = w.Commit(ctx, name, "a note", table.Change{Quiet: true, Properties: map[string]string{"owner": "the harbour office"}})
	fmt.Println(err)
	now, _ := w.Find(ctx, name)
	fmt.Println(now.Name, now.Schema.Fields[0].Name, len(now.Snapshots()), "snapshot")
	// Output:
	// <nil>
	// ops.readings id 1 snapshot
}
