package json

import (
	"encoding/binary"
	"math/bits"
)

// The functions below look for the ends of values in text that goes on behind them, without checking more of it than that takes. Margin is how many bytes there must be
// from where they begin.
const Margin = 16

// Is reports whether 16 bytes, as two numbers, the first byte lowest, begin like the key as it is usually written; a key that is no longer than that then stands there.
func (k *Key) Is(first, last uint64) bool {
	return (first^k.first)&k.firstMask|(last^k.last)&k.lastMask == 0
}

// Size returns how many bytes the key takes with its quotes and the colon behind it.
func (k *Key) Size() int { return len(k.text) }

// At returns the offset behind the key where it stands at an offset as it is usually written, -1 otherwise.
func (k *Key) At(data []byte, at int) int {
	if end := at + len(k.text); end > at && end <= len(data) && string(data[at:end]) == k.text {
		return end
	}
	return -1
}

// StringStop sets the top bit of the first byte of a word, the first byte lowest, that ends a string or is out of the usual in it: a quote, a backslash or a control
// character. Later bits may be set wrongly.
func StringStop(word uint64) uint64 { return special(word) }

// NumberStop sets the top bit of the first byte of a word, the first byte lowest, that is no digit, point or minus. Later bits may be set wrongly.
func NumberStop(word uint64) uint64 { return notOfNumbers(word) }

// StringEnd returns the offset of the quote that ends a string whose text begins at an offset, and whether that holds escapes. It is -1 where there is none within the
// text, which Margin bytes follow, or the string is not well-formed.
func StringEnd(data []byte, at int) (end int, escaped bool) {
	for at+8 <= len(data) {
		mask := special(binary.LittleEndian.Uint64(data[at:]))
		if mask == 0 {
			at += 8
			continue
		}
		at += bits.TrailingZeros64(mask) >> 3
		switch data[at] {
		case '"':
			return at, escaped
		case '\\':
			n := escapeLength(data[at:])
			if n == 0 {
				return -1, false
			}
			escaped = true
			at += n
		default:
			return -1, false
		}
	}
	return -1, false
}

// NumberEnd returns the offset behind what looks like a number that begins at an offset, which is that offset where none does. Whether it is one IsNumber tells.
func NumberEnd(data []byte, at int) int {
	for at+8 <= len(data) {
		other := notOfNumbers(binary.LittleEndian.Uint64(data[at:]))
		if other == 0 {
			at += 8
			continue
		}
		at += bits.TrailingZeros64(other) >> 3
		if c := data[at]; c|0x20 != 'e' && c != '+' {
			return at
		}
		at++
	}
	return at
}

// IsNumber reports whether a text is a number as JSON writes them.
func IsNumber(text []byte) bool {
	if len(text) == 0 {
		return false
	}
	s := Scanner{data: text}
	s.Number()
	return s.err == nil && s.pos == len(text)
}
