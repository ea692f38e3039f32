package sniff

import (
	"fmt"
	"strings"
	"testing"

	"trevak/internal/locate"
)

// BenchmarkSettle settles the rules of a beginning with many columns of all sorts.
func BenchmarkSettle(b *testing.B) {
	var text strings.Builder
	for c := range 200 {
		fmt.Fprintf(&text, "column %d,", c)
	}
	text.WriteString("note\n")
	for row := range 400 {
		for c := range 200 {
			switch c % 4 {
			case 0:
				fmt.Fprintf(&text, "%d,", row*c)
			case 1:
				fmt.Fprintf(&text, "%d.%02d,", row, c%100)
			case 2:
				fmt.Fprintf(&text, "2031-05-%02d,", 1+row%28)
			default:
				fmt.Fprintf(&text, "Cairn Bay %d,", row%7)
			}
		}
		text.WriteString("calm\n")
	}
	head := []byte(text.String())[:HeadBytes]
	b.SetBytes(int64(len(head)))
	for b.Loop() {
		if _, err := Settle(head, false, locate.Plain, Reason{Rule: "encoding", Value: UTF8}, Stated{}); err != nil {
			b.Fatal(err)
		}
	}
}
