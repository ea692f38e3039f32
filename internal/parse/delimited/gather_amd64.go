package delimited

import (
	"math"
	"math/bits"

	"golang.org/x/sys/cpu"

	"trevak/internal/lexical"
)

// keysBMI gathers the texts of n fields, of which there must be one, that are width apart, by the instructions for bits of newer processors. Texts that
// begin behind last are among the others.
//
//go:noescape
func keysBMI(fields *span, width, n int, data *byte, last int, keys, sizes *[lexical.Together]uint64) (present, others uint64)

// keys is keysOneByOne.
func (r *Records) keys(fields []span, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	if cpu.X86.HasBMI2 && n > 0 && len(r.Block.Data) >= 8 {
		_ = fields[(n-1)*r.Width]
		return keysBMI(&fields[0], r.Width, n, &r.Block.Data[0], len(r.Block.Data)-8, keys, sizes)
	}
	return r.keysOneByOne(fields, n, keys, sizes)
}

// wordsSSE gathers the texts of n fields, of which there must be one, that are width apart, by instructions that every processor of the kind has. It says
// which have to do with quotes; that their words tell is left to be done. Texts that begin behind last are among the others.
//
//go:noescape
func wordsSSE(fields *span, width, n int, data *byte, last int, words *[lexical.Together]lexical.Word, masks *[lexical.WordBytes + 1][2]lexical.Word) (quoted, others uint64)

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
func (r *Records) gatherWords(fields []span, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	if n <= 0 || len(r.Block.Data) < 16 {
		return r.wordsOneByOne(fields, n, words)
	}
	_ = fields[(n-1)*r.Width]
	quoted, others := wordsSSE(&fields[0], r.Width, n, &r.Block.Data[0], len(r.Block.Data)-16, words, &wordMasks)
	for ; quoted != 0; quoted &= quoted - 1 {
		i := bits.TrailingZeros64(quoted)
		f := fields[i*r.Width]
		words[i] = words[i].Quoted(f.start&flag != 0, f.end&flag != 0)
	}
	return others
}
