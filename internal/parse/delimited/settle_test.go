package delimited

import (
	"math/rand/v2"
	"testing"

	"trevak/internal/parse/bytemask"
)

// TestSettlingAgreesWithAnyProcessor settles masks of random text both ways.
func TestSettlingAgreesWithAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 6))
	for round := range 20_000 {
		text := randomText(random, 1+random.IntN(9), []int{8, 60, 1000, 100_000}[random.IntN(4)])
		var m masks
		words, _ := bytemask.Fields(m.ends[:], m.feeds[:], m.quotes[:], text[:min(len(text), windowWords*bytemask.Word)], ',', '"')
		i := random.IntN(words + 1)
		from := random.IntN(bytemask.Word)
		if random.IntN(3) == 0 {
			from = 0
		}
		var a, b outside
		settled, regular := a.settle(&m, i, words, from)
		settled2, regular2 := b.settleGo(&m, i, words, from)
		if settled != settled2 || regular != regular2 {
			t.Fatalf("round %d: %d of %d words from %d, regular %v; for any processor %d, %v", round, settled, words, i, regular,
				settled2, regular2)
		}
		for w := i; w < i+settled; w++ {
			if a.ends[w] != b.ends[w] || a.feeds[w] != b.feeds[w] || a.opens[w] != b.opens[w] || a.doubled[w] != b.doubled[w] {
				t.Fatalf("round %d: word %d of %d from %d differs from that for any processor", round, w, words, i)
			}
		}
	}
}
