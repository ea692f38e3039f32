package source_test

import (
	"context"
	"fmt"

	"trevak/internal/source"
	"trevak/internal/storage"
)

func ExampleSurvey() {
	ctx, s := context.Background(), storage.NewMemory()
	_ = storage.WriteAll(ctx, s, "mem://harbour/1.csv", []byte("id;Area\n1;Cairn Bay\n"), storage.Creation{})
	_ = storage.WriteAll(ctx, s, "mem://harbour/2.csv", []byte("id;Area\n2;The Narrows\n"), storage.Creation{})
	found, err := source.Survey(ctx, source.Reading{Store: s, Sources: []string{"mem://harbour"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, in := range found.Inputs {
		fmt.Println(in.Location, in.Rules.Format, in.Rules.Names)
	}
	// Output:
	// mem://harbour/1.csv delimited [id Area]
	// mem://harbour/2.csv delimited [id Area]
}
