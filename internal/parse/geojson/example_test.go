package geojson_test

import (
	"fmt"

	"trevak/internal/parse/geojson"
)

func ExampleAppendWKB() {
	wkb, _, err := geojson.AppendWKB(nil, []byte(`{"type":"Point","coordinates":[1,2]}`))
	fmt.Printf("%x %v\n", wkb, err)
	// Output: 0101000000000000000000f03f0000000000000040 <nil>
}
