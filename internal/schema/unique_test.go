package schema

import (
	"math/rand/v2"
	"testing"
)

// TestAllDiffer finds one hash that comes twice among many, wherever the two stand.
func TestAllDiffer(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 9))
	for round := range 60 {
		hashes := make([]uint64, 1+random.IntN(1<<(1+round%16)))
		for i := range hashes {
			hashes[i] = random.Uint64()&^0xf | uint64(i&0xf)
			if round%3 == 0 {
				// Hashes need not be well spread.
				hashes[i] = uint64(i) << (round % 40)
			}
		}
		random.Shuffle(len(hashes), func(i, j int) { hashes[i], hashes[j] = hashes[j], hashes[i] })
		if !allDiffer(append([]uint64(nil), hashes...)) {
			t.Fatalf("round %d: %d different hashes are said to repeat", round, len(hashes))
		}
		if len(hashes) > 1 {
			i := 1 + random.IntN(len(hashes)-1)
			hashes[i] = hashes[random.IntN(i)]
			if allDiffer(hashes) {
				t.Fatalf("round %d: that one of %d hashes comes twice is not seen", round, len(hashes))
			}
		}
	}
}

// BenchmarkAllDiffer looks through as many hashes as a key column of a million rows has.
func BenchmarkAllDiffer(b *testing.B) {
	random := rand.New(rand.NewPCG(2, 9))
	all := make([]uint64, 1_000_000)
	for i := range all {
		all[i] = random.Uint64()
	}
	hashes := make([]uint64, len(all))
	for b.Loop() {
		copy(hashes, all)
		if !allDiffer(hashes) {
			b.Fatal("they repeat")
		}
	}
}
