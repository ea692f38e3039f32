//go:build !amd64

package delimited

import "trevak/internal/lexical"

// keys is keysOneByOne.
func (r *Records) keys(fields []span, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	return r.keysOneByOne(fields, n, keys, sizes)
}

// gatherWords is wordsOneByOne.
func (r *Records) gatherWords(fields []span, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	return r.wordsOneByOne(fields, n, words)
}
