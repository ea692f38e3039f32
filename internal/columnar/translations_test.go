package columnar

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestTranslations looks up random codes of dictionaries that grow, over several pages: each comes out as what it stands for,
// and once a page as new to it.
func TestTranslations(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 1))
	for round := range 200 {
		var known translations
		var place byte
		ids := map[uint32]uint32{}
		n := 1 + random.IntN(2000)
		for page := uint32(1); page < 6; page++ {
			occurred := map[uint32]bool{}
			for range 1 + random.IntN(3) {
				in := known.table(&place, n)
				codes, out := make([]uint32, random.IntN(5000)), make([]uint32, 5000)
				var want []uint32
				for i := range codes {
					codes[i] = random.Uint32N(uint32(n))
					if !occurred[codes[i]] {
						occurred[codes[i]] = true
						want = append(want, codes[i])
					}
				}
				fresh := known.look(in, codes, out, page)
				if !slices.Equal(fresh, want) {
					t.Fatalf("round %d, page %d: %d of %d codes are new, want %d", round, page, len(fresh), len(codes), len(want))
				}
				for _, code := range fresh {
					if in.entries[code].id == 0 {
						in.entries[code].id = uint32(len(ids)) + 1
						ids[code] = uint32(len(ids))
					}
				}
				lookAgain(in.entries, codes, out)
				for i, code := range codes {
					if out[i] != ids[code] {
						t.Fatalf("round %d, page %d: code %d stands for %d, want %d", round, page, code, out[i], ids[code])
					}
				}
				n += random.IntN(2) * random.IntN(300)
			}
		}
	}
}

// TestLookRefusesCodesBeyondTheDictionary reads codes that a damaged file may hold.
func TestLookRefusesCodesBeyondTheDictionary(t *testing.T) {
	for _, codes := range [][]uint32{{5}, {0, 1, 1 << 31}, {0, 1, 2, 3, 4, 0xffffffff}} {
		func() {
			defer func() {
				if recover() == nil {
					t.Errorf("%v of 5 entries are looked up", codes)
				}
			}()
			var known translations
			in := known.table(new(byte), 5)
			known.look(in, codes, make([]uint32, len(codes)), 1)
		}()
	}
}

func BenchmarkLook(b *testing.B) {
	for _, n := range []int{4, 4000, 12000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			random := rand.New(rand.NewPCG(1, 1))
			codes, ids := make([]uint32, pageRows), make([]uint32, pageRows)
			for i := range codes {
				codes[i] = random.Uint32N(uint32(n))
			}
			var known translations
			in := known.table(new(byte), n)
			for page := uint32(1); b.Loop(); page++ {
				known.look(in, codes, ids, page)
			}
		})
	}
}
