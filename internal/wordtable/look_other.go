//go:build !amd64

package wordtable

import "trevak/internal/lexical"

// look is lookOneByOne.
func (t *Table) look(codes []uint32, texts *[lexical.Together]lexical.Word) (present, missed uint64) {
	return t.lookOneByOne(codes, texts)
}
