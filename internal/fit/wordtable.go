package fit

import (
	"math/bits"

	"trevak/internal/lexical"
	"trevak/internal/prefault"
)

// wordTable finds the numbers of texts of up to lexical.WordBytes bytes. What is looked at for one is near together in memory
// for all of them: a slot of two bytes and a key.
type wordTable struct {
	slots []uint16       // the number plus one of what belongs there, or 0; three of four are empty, so that searches are short
	keys  []lexical.Word // by number plus one; keys[0] is zero
	shift int
	n     int
}

// mostWordIDs is how many numbers there may be in a table.
const mostWordIDs = 1<<16 - 1

const firstSlots = 256

func newWordTable() wordTable {
	return wordTable{slots: prefault.Table[uint16](firstSlots), keys: make([]lexical.Word, 1, firstSlots/4),
		shift: 64 - bits.TrailingZeros(firstSlots)}
}

// slot returns where the search for a key begins.
func (t *wordTable) slot(k lexical.Word) int {
	return int(k.Hash() >> (t.shift & 63))
}

// find returns the number of a text plus one, or 0 where it is none or the empty text without quotes.
func (t *wordTable) find(k lexical.Word) uint32 {
	at := t.slot(k)
	id := t.slots[at]
	for t.keys[id] != k && id != 0 {
		at = (at + 1) & (len(t.slots) - 1)
		id = t.slots[at]
	}
	return uint32(id)
}

// add takes a text that is not there yet, with its number plus one, unless that is too large.
func (t *wordTable) add(k lexical.Word, id uint32) {
	if id > mostWordIDs {
		return
	}
	for len(t.keys) <= int(id) {
		t.keys = append(t.keys, lexical.Word{})
	}
	t.keys[id] = k
	if t.n++; t.n > len(t.slots)/4 {
		old := t.slots
		t.slots = prefault.Table[uint16](2 * len(old))
		t.shift--
		for _, id := range old {
			if id != 0 {
				t.put(id)
			}
		}
	}
	t.put(uint16(id))
}

func (t *wordTable) put(id uint16) {
	at := t.slot(t.keys[id])
	for t.slots[at] != 0 {
		at = (at + 1) & (len(t.slots) - 1)
	}
	t.slots[at] = id
}

// known sets codes to the numbers of up to lexical.Together texts; present has a bit for each that has one, and others for each
// that was not met before. The rest are empty and without quotes.
func (t *wordTable) known(codes []uint32, texts *[lexical.Together]lexical.Word) (present, others uint64) {
	present, missed := t.look(codes[:min(len(codes), lexical.Together)], texts)
	for ; missed != 0; missed &= missed - 1 {
		i := bits.TrailingZeros64(missed)
		switch id := t.find(texts[i]); {
		case id != 0:
			codes[i] = id - 1
			present |= 1 << i
		case texts[i] != lexical.Word{}:
			others |= 1 << i
		}
	}
	return present, others
}

// lookOneByOne looks for texts where their searches begin: present has a bit for each whose number is there, to which its code
// is set, and missed for each that may be elsewhere. The codes of the rest are 0.
func (t *wordTable) lookOneByOne(codes []uint32, texts *[lexical.Together]lexical.Word) (present, missed uint64) {
	for i := range codes {
		k := texts[i]
		codes[i] = 0
		switch id := t.slots[t.slot(k)]; {
		case t.keys[id] != k:
			missed |= 1 << i
		case id != 0:
			codes[i] = uint32(id) - 1
			present |= 1 << i
		}
	}
	return present, missed
}
