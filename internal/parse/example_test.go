package parse_test

import (
	"context"
	"fmt"
	"strings"

	"trevak/internal/parse"
	"trevak/internal/parse/json"
)

func ExampleBlocks() {
	text := strings.Repeat(`{"area":"Cairn Bay"}`+"\n", 3)
	limits := parse.DefaultLimits
	limits.BlockBytes = 42
	err := parse.Blocks(context.Background(), strings.NewReader(text), json.Lines{}, limits,
		func(n int) ([]byte, error) { return make([]byte, 0, n), nil },
		func(b parse.Block) error {
			fmt.Printf("block %d begins at line %d, byte %d, and has %d bytes\n", b.Index, b.Line, b.Offset, len(b.Data))
			return nil
		})
	if err != nil {
		fmt.Println(err)
	}
	// Output:
	// block 0 begins at line 1, byte 0, and has 42 bytes
	// block 1 begins at line 3, byte 42, and has 21 bytes
}
