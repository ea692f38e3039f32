package wordtable

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"trevak/internal/lexical"
)

// TestLookingAgreesWithAnyProcessor looks for texts both ways, and holds what is found against a map of what was added.
func TestLookingAgreesWithAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 7))
	for _, different := range []int{1, 10, 300, 5000} {
		table, added := New(), map[lexical.Word]uint32{}
		for round := range 1000 {
			n := random.IntN(lexical.Together + 1)
			var texts [lexical.Together]lexical.Word
			for i := range n {
				if random.IntN(5) > 0 {
					texts[i] = lexical.TextWord(fmt.Append(nil, "OS-", random.IntN(different))).Quoted(true, random.IntN(9) == 0)
				} else if random.IntN(9) == 0 {
					texts[i] = lexical.Word{}.Quoted(true, false)
				}
			}
			codes, codes2 := make([]uint32, n), make([]uint32, n)
			for i := range codes {
				codes[i], codes2[i] = 7, 7
			}
			present, missed := table.look(codes, &texts)
			present2, missed2 := table.lookOneByOne(codes2, &texts)
			if present != present2 || missed != missed2 || fmt.Sprint(codes) != fmt.Sprint(codes2) {
				t.Fatalf("round %d: %x, %x, %v; for any processor %x, %x, %v", round, present, missed, codes, present2, missed2, codes2)
			}
			present, others := table.Known(codes, &texts)
			for i := range n {
				id, there := added[texts[i]]
				switch bit := uint64(1) << i; {
				case there != (present&bit != 0) || there && codes[i] != id-1:
					t.Fatalf("round %d: text %v has code %d, present %v; its number is %d", round, texts[i], codes[i], present&bit != 0,
						id)
				case !there && (others&bit != 0) != (texts[i] != lexical.Word{}):
					t.Fatalf("round %d: text %v, which is not there, is others: %v", round, texts[i], others&bit != 0)
				}
			}
			for _, k := range texts[:n] {
				if _, there := added[k]; !there && k != (lexical.Word{}) {
					added[k] = uint32(len(added) + 1)
					table.Add(k, added[k])
				}
			}
		}
	}
}
