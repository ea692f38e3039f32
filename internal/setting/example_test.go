package setting_test

import (
	"fmt"

	"trevak/internal/setting"
)

func Example() {
	f := setting.New()
	s, _ := setting.ByKey("reading.delimiter")
	_ = s.Set(f, []string{"tab"})
	fmt.Println("--"+s.Flag, s.Get(f))
	drift, _ := setting.ByFlag("drift")
	fmt.Println(drift.Key, drift.Get(f), drift.Words)
	// Output:
	// --delimiter [tab]
	// table.drift [grow] [grow hold stop]
}
