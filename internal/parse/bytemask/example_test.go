package bytemask_test

import (
	"fmt"
	"math/bits"

	"trevak/internal/parse/bytemask"
)

func ExampleOf() {
	text := "1,Cairn Bay\n2,\"The Narrows\"\n"
	for _, word := range bytemask.Of(make([]uint64, 1), []byte(text), ',', '\n', '"') {
		for ; word != 0; word &= word - 1 {
			fmt.Print(bits.TrailingZeros64(word), " ")
		}
	}
	// Output: 1 11 13 14 26 27
}
