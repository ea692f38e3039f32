package schema_test

import (
	"fmt"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

func ExampleObserved() {
	var records delimited.Records
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: 2}
	p.Parse(&parse.Block{Data: []byte("007,1.5\n12,3\n"), Line: 1}, &records)
	var seen schema.Observed
	seen.Delimited(&records, []string{"Buoy Code", "depth"})
	settled, _ := seen.Settle(schema.Corrections{})
	for _, f := range settled.Fields {
		fmt.Println(f.Name, f.Type)
	}
	// Output:
	// Buoy_Code string
	// depth double
}

func ExampleEvolve() {
	column := func(name string, k schema.Kind) schema.Field {
		return schema.Field{Name: name, Type: schema.Type{Kind: k}}
	}
	table := schema.Schema{Fields: []schema.Field{column("id", schema.Int), column("note", schema.String)}}
	table.AssignIDs()
	next := table.LastID() + 1
	grown, differences := schema.Evolve(table,
		schema.Schema{Fields: []schema.Field{column("id", schema.Long), column("crew", schema.String)}}, schema.SafeNames, &next)
	for _, d := range differences {
		fmt.Println(d.Kind, d.Column)
	}
	fmt.Println(len(grown.Fields), "columns")
	// Output:
	// widened id
	// added crew
	// missing note
	// likely_rename note
	// 3 columns
}
