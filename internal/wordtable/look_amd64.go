package wordtable

import (
	"golang.org/x/sys/cpu"

	"trevak/internal/lexical"
)

// lookBMI is look by the instructions for bits of newer processors, for n texts, of which there must be one.
//
//go:noescape
func lookBMI(codes *uint32, texts *lexical.Word, n int, slots *uint16, shift int, keys *lexical.Word) (present, missed uint64)

// look is lookOneByOne.
func (t *Table) look(codes []uint32, texts *[lexical.Together]lexical.Word) (present, missed uint64) {
	if cpu.X86.HasBMI2 && len(codes) > 0 {
		return lookBMI(&codes[0], &texts[0], len(codes), &t.slots[0], t.shift, &t.keys[0])
	}
	return t.lookOneByOne(codes, texts)
}
