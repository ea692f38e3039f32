//go:build !amd64

package fit

import "trevak/internal/lexical"

// look is lookOneByOne.
func (t *wordTable) look(codes []uint32, texts *[lexical.Together]lexical.Word) (present, missed uint64) {
	return t.lookOneByOne(codes, texts)
}
