package delimited

import (
	"math/rand/v2"
	"testing"

	"trevak/internal/parse/bytemask"
)

// TestEndsAgreeWithAnyProcessor looks for the ends of records both ways, in random text, some words at a time.
func TestEndsAgreeWithAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 2))
	for round := range 5000 {
		text := randomText(random, 1+random.IntN(9), []int{8, 60, 1000, 100_000}[random.IntN(4)])
		a, b := ends{begins: 1}, ends{begins: 1}
		for len(text) > 0 {
			n := min(len(text), bytemask.Word*(1+random.IntN(50)))
			odd, odd2 := a.add(text[:n], ',', '"'), b.addMasks(text[:n], ',', '"')
			if (odd == 0) != (odd2 == 0) || odd == 0 && a != b {
				t.Fatalf("round %d: %+v, %x; for any processor %+v, %x", round, a, odd, b, odd2)
			}
			if odd != 0 {
				break
			}
			text = text[n:]
		}
	}
}
