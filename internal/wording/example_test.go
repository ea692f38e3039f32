package wording_test

import (
	"fmt"

	"trevak/internal/wording"
)

func ExampleCount() {
	fmt.Println(wording.Count(1, true, "record", "records"))
	fmt.Println(wording.Count(1234567, false, "record", "records"))
	// Output:
	// 1 record
	// about 1234567 records
}

func ExampleSome() {
	fmt.Println(wording.Some([]string{"stations.csv", "tides.csv"}))
	// Output: stations.csv, tides.csv
}
