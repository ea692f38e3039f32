package profile_test

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/profile"
	"trevak/internal/schema"
)

func Example() {
	s := schema.Schema{Fields: []schema.Field{{Name: "area", Type: schema.Type{Kind: schema.String}}}}
	batch, _, err := array.RecordFromJSON(memory.DefaultAllocator, s.Arrow(),
		strings.NewReader(`[{"area":"Cairn Bay"},{"area":null},{"area":"The Narrows"},{"area":"Cairn Bay"}]`))
	if err != nil {
		fmt.Println(err)
		return
	}
	rows := profile.New(s)
	rows.Add(batch)
	c := rows.Columns()[0]
	fmt.Println(c.Path, c.Values, c.Nulls, c.Common)
	// Output: area 3 1 [{Cairn Bay 2} {The Narrows 1}]
}
