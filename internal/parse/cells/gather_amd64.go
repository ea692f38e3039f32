package cells

import (
	"math"
	"math/bits"

	"golang.org/x/sys/cpu"

	"trevak/internal/lexical"
)

// keysBMI gathers the texts of n spans, of which there must be one, that are stride apart, by the instructions for bits of newer
// processors. Texts that begin behind last are among the others.
//
//go:noescape
func keysBMI(spans *Span, stride, n int, data *byte, last int, keys, sizes *[lexical.Together]uint64) (present, others uint64)

// keys is keysOneByOne.
func (c *Column) keys(spans []Span, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	if cpu.X86.HasBMI2 && n > 0 && len(c.Data) >= 8 {
		_ = spans[(n-1)*c.Stride]
		return keysBMI(&spans[0], c.Stride, n, &c.Data[0], len(c.Data)-8, keys, sizes)
	}
	return c.keysOneByOne(spans, n, keys, sizes)
}

// wordsSSE gathers the texts of n spans, of which there must be one, that are stride apart, by instructions that every processor
// of the kind has. It says which have to do with quotes; that their words tell is left to be done. Texts that begin behind last
// are among the others.
//
//go:noescape
func wordsSSE(spans *Span, stride, n int, data *byte, last int, words *[lexical.Together]lexical.Word,
	masks *[lexical.WordBytes + 1][2]lexical.Word) (quoted, others uint64)

// wordMasks are, for each size of a text, what its word has of the 16 bytes that it lies in, and what more the word is.
var wordMasks = func() (masks [lexical.WordBytes + 1][2]lexical.Word) {
	for n := range masks {
		var ones, zeros [16]byte
		for i := range lexical.WordBytes {
			ones[i] = math.MaxUint8
		}
		more := lexical.WordOf(&zeros, n)
		whole := lexical.WordOf(&ones, n)
		masks[n] = [2]lexical.Word{{Low: whole.Low, High: whole.High &^ more.High}, more}
	}
	return masks
}()

// gatherWords is wordsOneByOne.
func (c *Column) gatherWords(spans []Span, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	if n <= 0 || len(c.Data) < 16 {
		return c.wordsOneByOne(spans, n, words)
	}
	_ = spans[(n-1)*c.Stride]
	quoted, others := wordsSSE(&spans[0], c.Stride, n, &c.Data[0], len(c.Data)-16, words, &wordMasks)
	for ; quoted != 0; quoted &= quoted - 1 {
		i := bits.TrailingZeros64(quoted)
		f := spans[i*c.Stride]
		words[i] = words[i].Quoted(f.Start&Flag != 0, f.End&Flag != 0)
	}
	return others
}
