//go:build !amd64

package fit

// look is lookOneByOne.
func (t *numberTable) look(codes []uint32, texts *shortTexts, read uint64) (present uint64) {
	return t.lookOneByOne(codes, texts, read)
}
