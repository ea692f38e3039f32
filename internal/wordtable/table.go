// Package wordtable numbers short texts: given texts of up to lexical.WordBytes bytes, as words, it hands out the numbers that they
// were added with, of up to lexical.Together texts at once.
package wordtable

import (
	"math/bits"

	"trevak/internal/lexical"
	"trevak/internal/prefault"
)

// Table finds the numbers of texts of up to lexical.WordBytes bytes. It belongs to one worker. What is looked at for one is near
// together in memory for all of them: a slot of two bytes and a key.
type Table struct {
	slots []uint16       // the number plus one of what belongs there, or 0; three of four are empty, so that searches are short
	keys  []lexical.Word // by number plus one; keys[0] is zero
	shift int
	n     int
}

// MostNumbers is how many numbers there may be in a table.
const MostNumbers = 1<<16 - 1

const firstSlots = 256

// New makes an empty table.
func New() Table {
	return Table{slots: prefault.Table[uint16](firstSlots), keys: make([]lexical.Word, 1, firstSlots/4),
		shift: 64 - bits.TrailingZeros(firstSlots)}
}

// slot returns where the search for a key begins.
func (t *Table) slot(k lexical.Word) int {
	return int(k.Hash() >> (t.shift & 63))
}

// Find returns the number of a text plus one, or 0 where it is none or the empty text without quotes.
func (t *Table) Find(k lexical.Word) uint32 {
	at := t.slot(k)
	id := t.slots[at]
	for t.keys[id] != k && id != 0 {
		at = (at + 1) & (len(t.slots) - 1)
		id = t.slots[at]
	}
	return uint32(id)
}

// Add takes a text that is not there yet, with its number plus one, unless that is too large.
func (t *Table) Add(k lexical.Word, id uint32) {
	if id > MostNumbers {
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

func (t *Table) put(id uint16) {
	at := t.slot(t.keys[id])
	for t.slots[at] != 0 {
		at = (at + 1) & (len(t.slots) - 1)
	}
	t.slots[at] = id
}

// Known sets codes to the numbers of up to lexical.Together texts; present has a bit for each that has one, and others for each
// that was not met before. The rest are empty and without quotes.
func (t *Table) Known(codes []uint32, texts *[lexical.Together]lexical.Word) (present, others uint64) {
	present, missed := t.look(codes[:min(len(codes), lexical.Together)], texts)
	for ; missed != 0; missed &= missed - 1 {
		i := bits.TrailingZeros64(missed)
		switch id := t.Find(texts[i]); {
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
func (t *Table) lookOneByOne(codes []uint32, texts *[lexical.Together]lexical.Word) (present, missed uint64) {
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
