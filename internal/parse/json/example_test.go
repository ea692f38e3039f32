package json_test

import (
	"fmt"
	"io"
	"strings"

	"trevak/internal/parse"
	"trevak/internal/parse/json"
)

func ExampleRecords() {
	var records json.Records
	records.Parse(&parse.Block{Data: []byte("{\"id\":1}\n{\"id\":\n{\"id\":3}\n"), Line: 1})
	for row := range records.Rows() {
		fmt.Printf("%s\n", records.Text(row))
	}
	// Output:
	// {"id":1}
	// {"id":
	// {"id":3}
}

func ExampleFollow() {
	path, _ := json.ParsePath("$.data.items[*]")
	records, err := json.Follow(strings.NewReader(`{"page":1,"data":{"items":[{"id":1},{"id":2}]}}`), json.Following{Path: path})
	if err != nil {
		fmt.Println(err)
		return
	}
	text, _ := io.ReadAll(records)
	fmt.Println(strings.TrimSpace(string(text)))
	// Output: {"id":1},{"id":2}
}
