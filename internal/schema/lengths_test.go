package schema

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// TestLengths compares what is counted, in parts that are merged, with the lengths themselves.
func TestLengths(t *testing.T) {
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 3))
		most := []int{1, 5, 300, 100_000}[random.IntN(4)]
		var all []int
		var whole Lengths
		var rows int64
		for range 1 + random.IntN(4) {
			var part Lengths
			for range random.IntN(30) {
				n := random.IntN(most)
				all = append(all, n)
				rows += int64(max(1, n))
				part.add(n)
			}
			whole.merge(&part)
		}
		if len(all) == 0 {
			continue
		}
		slices.Sort(all)
		least, largest := whole.Range()
		if least != all[0] || largest != all[len(all)-1] || whole.Arrays() != int64(len(all)) || whole.Rows() != rows {
			t.Fatalf("seed %d: %d to %d, %d arrays, %d rows of %v", seed, least, largest, whole.Arrays(), whole.Rows(), all)
		}
		median := all[(len(all)-1)/2]
		switch got, exact := whole.Median(); {
		case exact && got != median:
			t.Fatalf("seed %d: median %d of %v, want %d", seed, got, all, median)
		case !exact && (got > median || 2*got < median):
			t.Fatalf("seed %d: median about %d of %v, want %d", seed, got, all, median)
		}
	}
}
