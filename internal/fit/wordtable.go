package fit

import (
	"encoding/binary"
	"math/bits"

	"trevak/internal/lexical"
)

// Texts of up to shortWord bytes are looked up by one number that is all of them, of up to wideWord by two.
const (
	shortWord = 8
	wideWord  = 16
)

// firstSlots is how many slots a table begins with.
const firstSlots = 64

// crowded reports whether so many texts want a table of more slots: three of four are empty in all but small ones, so that searches are short.
func crowded(n, slots int) bool { return n > slots/4 && (n > slots/2 || slots >= 4<<10) }

// shortWords finds the numbers of short texts. Half of the slots at least are empty.
type shortWords struct {
	slots []shortSlot
	shift int
	n     int
}

type shortSlot struct {
	key  uint64 // the text, as lexical.ShortKey has it
	size uint32 // in bytes
	id   uint32 // the number plus one, 0 in an empty slot
}

func newShortWords() shortWords {
	return shortWords{slots: make([]shortSlot, firstSlots), shift: 64 - bits.TrailingZeros(firstSlots)}
}

// slot returns where the search for a key begins.
func (t *shortWords) slot(key uint64) int { return int(key * 0x9e3779b97f4a7c15 >> (t.shift & 63)) }

// find returns the number of a text plus one, or 0.
func (t *shortWords) find(text []byte) uint32 {
	return t.slots[t.place(lexical.ShortKey(text), uint32(len(text)))].id
}

// place returns the slot of a key, or the empty one where it belongs.
func (t *shortWords) place(key uint64, size uint32) int {
	at := t.slot(key)
	for s := &t.slots[at]; s.id != 0 && (s.key != key || s.size != size); s = &t.slots[at] {
		at = (at + 1) & (len(t.slots) - 1)
	}
	return at
}

// add takes a text that is not there yet.
func (t *shortWords) add(text []byte, id uint32) {
	if t.n++; crowded(t.n, len(t.slots)) {
		old := t.slots
		t.slots = make([]shortSlot, 2*len(old))
		t.shift--
		for _, s := range old {
			if s.id != 0 {
				t.slots[t.place(s.key, s.size)] = s
			}
		}
	}
	s := shortSlot{lexical.ShortKey(text), uint32(len(text)), id}
	t.slots[t.place(s.key, s.size)] = s
}

// wideWords finds the numbers of texts of 9 to 16 bytes. Half of the slots at least are empty.
type wideWords struct {
	slots []wideSlot
	shift int
	n     int
}

type wideSlot struct {
	low, high uint64 // the first eight bytes of the text and the last eight
	size      uint32 // in bytes
	id        uint32 // the number plus one, 0 in an empty slot
}

func newWideWords() wideWords {
	return wideWords{slots: make([]wideSlot, firstSlots), shift: 64 - bits.TrailingZeros(firstSlots)}
}

// slot returns where the search begins.
func (t *wideWords) slot(low, high uint64) int {
	a, b := bits.Mul64(low^0x9e3779b97f4a7c15, high^0xd6e8feb86659fd93)
	return int((a ^ b) >> (t.shift & 63))
}

// wideKey returns a slot with all of a text but its number.
func wideKey(text []byte) wideSlot {
	return wideSlot{low: binary.LittleEndian.Uint64(text), high: binary.LittleEndian.Uint64(text[len(text)-8:]), size: uint32(len(text))}
}

// find returns the number of a text plus one, or 0.
func (t *wideWords) find(text []byte) uint32 { return t.slots[t.place(wideKey(text))].id }

// place returns the slot of a text, or the empty one where it belongs.
func (t *wideWords) place(key wideSlot) int {
	at := t.slot(key.low, key.high)
	for s := &t.slots[at]; s.id != 0 && (s.low != key.low || s.high != key.high || s.size != key.size); s = &t.slots[at] {
		at = (at + 1) & (len(t.slots) - 1)
	}
	return at
}

// add takes a text that is not there yet.
func (t *wideWords) add(text []byte, id uint32) {
	if t.n++; crowded(t.n, len(t.slots)) {
		old := t.slots
		t.slots = make([]wideSlot, 2*len(old))
		t.shift--
		for _, s := range old {
			if s.id != 0 {
				t.slots[t.place(s)] = s
			}
		}
	}
	s := wideKey(text)
	s.id = id
	t.slots[t.place(s)] = s
}
