package cells_test

import (
	"fmt"

	"trevak/internal/parse/cells"
)

func ExampleColumn_Text() {
	// The first column of two records of two fields.
	c := cells.Column{Data: []byte("Cairn Bay,1\n\"The Narrows\",2\n"), Stride: 2,
		Spans: []cells.Span{{0, 9}, {10, 11}, {13 | cells.Flag, 24}, {26, 27}}}
	for i := range 2 {
		text, quoted, _ := c.Text(i)
		fmt.Printf("%s, in quotes: %v\n", text, quoted)
	}
	// Output:
	// Cairn Bay, in quotes: false
	// The Narrows, in quotes: true
}
