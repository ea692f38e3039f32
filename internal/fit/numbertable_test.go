package fit

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"trevak/internal/lexical"
)

// TestNumbersAreFoundAlikeByAnyProcessor looks for numbers both ways, and holds what is found against a map of what was added.
func TestNumbersAreFoundAlikeByAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 8))
	for _, different := range []int{1, 10, 300, 50_000} {
		room := mostNumbers
		table, added := newNumberTable(&room), map[string]uint32{}
		for round := range 1000 {
			n := random.IntN(lexical.Together + 1)
			var texts, texts2 shortTexts
			list := make([]string, n)
			for i := range n {
				v := random.IntN(2*different) - different
				switch random.IntN(9) {
				case 0:
					list[i] = fmt.Sprint(v)
				case 1:
					list[i] = "calm"
				case 2:
				default:
					list[i] = fmt.Sprintf("%.2f", float64(v)/100)
				}
				texts.keys[i], texts.sizes[i] = lexical.ShortKey([]byte(list[i])), uint64(len(list[i]))
			}
			read := lexical.Numbers(&texts.values, &texts.scales, &texts.keys, &texts.sizes, n)
			texts2 = texts
			codes, codes2 := make([]uint32, n), make([]uint32, n)
			present, present2 := table.look(codes, &texts, read), table.lookOneByOne(codes2, &texts2, read)
			if present != present2 || fmt.Sprint(codes) != fmt.Sprint(codes2) {
				t.Fatalf("round %d: %x, %v; for any processor %x, %v", round, present, codes, present2, codes2)
			}
			for i, text := range list {
				id, there := added[text]
				if there != (present>>i&1 != 0) || there && codes[i] != id-1 {
					t.Fatalf("round %d: %q has code %d, present %v; its number is %d", round, text, codes[i], present>>i&1 != 0, id)
				}
			}
			for _, text := range list {
				if _, there := added[text]; !there {
					if took, _ := table.add([]byte(text), uint32(len(added)+1)); took {
						added[text] = uint32(len(added) + 1)
					}
				}
			}
		}
	}
}
