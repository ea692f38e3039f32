package lexical

import (
	"encoding/binary"
	"math/bits"
)

// WordBytes is the size in bytes of the longest text that a Word can be.
const WordBytes = 15

// Word is a text of up to WordBytes bytes: all of them and, in the uppermost byte, how many there are and what quotes have to
// do with it. Texts are the same when their words are. It is zero for the empty text without quotes.
type Word struct{ Low, High uint64 }

// What is in the uppermost byte of a word beside the size: the text has doubled quotes, or it is empty in quotes.
const (
	doubledQuotes = 0x80 << 56
	emptyInQuotes = 0x40 << 56
)

// lowBytes and highBytes are what a text of a size has of the 16 bytes that it may lie in.
var lowBytes, highBytes = func() (low, high [WordBytes + 1]uint64) {
	for n := range low {
		low[n] = 1<<(8*min(n, 8)) - 1
		high[n] = 1<<(8*max(n-8, 0)) - 1
	}
	return low, high
}()

// WordOf returns the word of the text that is the first n bytes of 16.
func WordOf(data *[16]byte, n int) Word {
	return Word{binary.LittleEndian.Uint64(data[:]) & lowBytes[n&WordBytes],
		binary.LittleEndian.Uint64(data[8:])&highBytes[n&WordBytes] | uint64(n)<<56}
}

// TextWord returns the word of a text of up to WordBytes bytes. What follows the text in memory must be of the same owner.
func TextWord(text []byte) Word {
	if cap(text) >= 16 {
		return WordOf((*[16]byte)(text[:16]), len(text))
	}
	var data [16]byte
	copy(data[:], text)
	return WordOf(&data, len(text))
}

// Quoted returns the word of the text with quotes around it, or with doubled quotes in it.
func (w Word) Quoted(quoted, doubled bool) Word {
	if doubled {
		w.High |= doubledQuotes
	}
	if quoted && w.Low|w.High == 0 {
		w.High = emptyInQuotes
	}
	return w
}

// Hash returns a number whose uppermost bits tell most words apart.
func (w Word) Hash() uint64 {
	a, b := bits.Mul64(w.Low^0x9e3779b97f4a7c15, w.High^0xd6e8feb86659fd93)
	return a ^ b
}
