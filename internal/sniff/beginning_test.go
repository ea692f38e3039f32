package sniff

import (
	"fmt"
	"strings"
	"testing"

	"trevak/internal/locate"
)

func settled(t *testing.T, text string) Rules {
	t.Helper()
	head := []byte(text)
	r, err := Settle(head, true, locate.Plain, DetectEncoding(head), Stated{})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// Dialects are tried on the beginning of a long head, where it tells, and on all of it where it does not.
func TestTheBeginningTells(t *testing.T) {
	var plain, quoted, wide strings.Builder
	plain.WriteString("id;sea area;depth\n")
	for i := range 9000 {
		fmt.Fprintf(&plain, "%d;Cairn Bay;%d,5\n", i, i%40)
	}
	if r := settled(t, plain.String()); r.Dialect.Delimiter != ';' || !r.Header || len(r.Names) != 3 {
		t.Errorf("%c, %v", r.Dialect.Delimiter, r.Names)
	}
	// The first record ends only after the part that is tried at first, whose lines all lie in one quoted field.
	quoted.WriteString("id|note\n1|\"")
	for i := range 20_000 {
		fmt.Fprintf(&quoted, "line %d, of a long log; and more\n", i)
	}
	quoted.WriteString("\"\n2|calm\n3|calm\n4|calm\n")
	if r := settled(t, quoted.String()); r.Dialect.Delimiter != '|' || len(r.Names) != 2 {
		t.Errorf("%c, %v", r.Dialect.Delimiter, r.Names)
	}
	// Few lines, each longer than that part.
	for range 3 {
		for c := range 30_000 {
			fmt.Fprintf(&wide, "%d\t", c)
		}
		wide.WriteString("end\n")
	}
	if r := settled(t, wide.String()); r.Dialect.Delimiter != '\t' || len(r.Names) != 30_001 {
		t.Errorf("%c, %d names", r.Dialect.Delimiter, len(r.Names))
	}
	if got := beginning([]byte(plain.String())); len(got) != triedBytes {
		t.Errorf("%d bytes of many lines are tried", len(got))
	}
	if got := beginning([]byte(wide.String())); len(got) != wide.Len() {
		t.Errorf("%d bytes of few lines are tried", len(got))
	}
}
