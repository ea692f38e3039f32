package sniff_test

import (
	"fmt"

	"trevak/internal/locate"
	"trevak/internal/sniff"
)

func ExampleSettle() {
	head := []byte("id;Sea Area;depth\n1;Cairn Bay;12,5\n2;The Narrows;3,25\n")
	rules, err := sniff.Settle(head, true, locate.Plain, sniff.DetectEncoding(head), sniff.Stated{Name: "in.csv"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, name := range []string{"format", "delimiter", "header"} {
		fmt.Println(name, rules.Reason(name).Value)
	}
	fmt.Println(rules.Names)
	// Output:
	// format delimited text
	// delimiter semicolon
	// header yes
	// [id Sea Area depth]
}
