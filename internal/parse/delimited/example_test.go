package delimited_test

import (
	"fmt"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
)

func ExampleParser() {
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ';', Quote: '"'}, Width: 2}
	var records delimited.Records
	p.Parse(&parse.Block{Data: []byte("1;\"Cairn; Bay\"\n2;x;y\n3;\n"), Line: 1}, &records)
	for row := range records.Rows {
		fields := records.Row(row)
		fmt.Printf("%q and %q\n", fields[0].Text, fields[1].Text)
	}
	for _, problem := range records.Problems {
		fmt.Println("the record", problem.Reason)
	}
	// Output:
	// "1" and "Cairn; Bay"
	// "3" and ""
	// the record has 3 fields where 2 are expected
}
