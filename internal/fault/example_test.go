package fault_test

import (
	"fmt"

	"trevak/internal/fault"
)

func ExampleError() {
	value := "deep"
	err := fault.New(fault.Input, "is not a long").In("soundings.csv").Try("mend it, or keep the column as text")
	err.Line, err.Column, err.Value = 7, "depth", &value
	fmt.Println(err)
	fmt.Println(fault.KindOf(fmt.Errorf("while loading: %w", err)) == fault.Input)
	// Output:
	// soundings.csv:7: column "depth": "deep" is not a long; mend it, or keep the column as text
	// true
}
