package decode_test

import (
	"errors"
	"fmt"

	"trevak/internal/columnar/decode"
	"trevak/internal/columnar/encode"
)

func ExampleHybrid() {
	data := encode.Hybrid(nil, []uint32{3, 3, 3, 3, 3, 3, 3, 3, 3, 3}, 2)
	values, err := decode.Hybrid([]uint32(nil), data, 2, 10)
	fmt.Println(values, "of", len(data), "bytes,", err)
	_, err = decode.Hybrid([]uint32(nil), data[:1], 2, 10)
	fmt.Println(errors.Is(err, decode.ErrDamaged))
	// Output:
	// [3 3 3 3 3 3 3 3 3 3] of 2 bytes, <nil>
	// true
}
