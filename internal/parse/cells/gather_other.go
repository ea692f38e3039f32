//go:build !amd64

package cells

import "trevak/internal/lexical"

// keys is keysOneByOne.
func (c *Column) keys(spans []Span, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	return c.keysOneByOne(spans, n, keys, sizes)
}

// gatherWords is wordsOneByOne.
func (c *Column) gatherWords(spans []Span, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	return c.wordsOneByOne(spans, n, words)
}
