package quarantine_test

import (
	"context"
	"fmt"
	"io"

	"trevak/internal/quarantine"
	"trevak/internal/storage"
)

func Example() {
	ctx, s := context.Background(), storage.NewMemory()
	kept := quarantine.New(s, "mem://harbour/bad.ndjson", quarantine.Seal{})
	_ = kept.Add(ctx, quarantine.Record{Object: "in.csv", Line: 3, Reason: "too-few-fields", Header: "id,area\n", Delimiter: ","},
		[]byte("7\n"))
	if err := kept.Close(); err != nil {
		fmt.Println(err)
		return
	}
	o, _ := s.Stat(ctx, kept.URI())
	file, _ := s.Open(ctx, o)
	text, _ := io.ReadAll(quarantine.Unwrap(file))
	fmt.Printf("%q\n", text)
	// Output: "id,area\n7\n"
}
