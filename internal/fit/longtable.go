package fit

import (
	"bytes"

	"github.com/zeebo/xxh3"

	"trevak/internal/prefault"
)

// longTable finds the numbers of texts that are too long to be a lexical.Word. It keeps its own copy of each.
type longTable struct {
	slots []longSlot // half of them at least are empty
	texts []byte     // one after the other
	ends  []int      // of each, by the order in which they were added
}

type longSlot struct {
	hash  uint32
	text  uint32 // by the order in which they were added, plus one; 0 in an empty slot
	id    uint32 // the number plus one
	quote bool   // the text has doubled quotes, or escapes
}

// place returns the slot of a text, or the empty one where it belongs. There must be one.
func (t *longTable) place(text []byte, doubled bool, hash uint32) *longSlot {
	at := int(hash) & (len(t.slots) - 1)
	for {
		s := &t.slots[at]
		if s.text == 0 || s.hash == hash && s.quote == doubled && bytes.Equal(t.text(s.text-1), text) {
			return s
		}
		at = (at + 1) & (len(t.slots) - 1)
	}
}

func (t *longTable) text(i uint32) []byte {
	if i == 0 {
		return t.texts[:t.ends[0]]
	}
	return t.texts[t.ends[i-1]:t.ends[i]]
}

// find returns the number of a text plus one, or 0.
func (t *longTable) find(text []byte, doubled bool) uint32 {
	if len(t.slots) == 0 {
		return 0
	}
	return t.place(text, doubled, uint32(xxh3.Hash(text))).id
}

// add takes a text that is not there yet, with its number plus one.
func (t *longTable) add(text []byte, doubled bool, id uint32) {
	if 2*(len(t.ends)+1) > len(t.slots) {
		old := t.slots
		t.slots = prefault.Table[longSlot](max(16, 2*len(old)))
		for _, s := range old {
			if s.text != 0 {
				*t.place(t.text(s.text-1), s.quote, s.hash) = s
			}
		}
	}
	hash := uint32(xxh3.Hash(text))
	s := t.place(text, doubled, hash)
	t.texts = append(t.texts, text...)
	t.ends = append(t.ends, len(t.texts))
	*s = longSlot{hash, uint32(len(t.ends)), id, doubled}
}
