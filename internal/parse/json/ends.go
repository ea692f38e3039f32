package json

import (
	"encoding/binary"
	"math"
	"math/bits"
	"strings"
)

// Margin is how many bytes of text there must be from where a key is looked for, and behind a value whose end is: Key,
// StringEnd and NumberEnd look at several at once, and check no more of the text than that takes.
const Margin = 16

// Key is a key as it is usually written, with the colon behind it.
type Key struct {
	text string
	// The first eight bytes and the eight behind them, and masks of those that there are.
	first, last, firstMask, lastMask uint64
}

// NewKey returns the key of a name; it is found nowhere when that cannot stand between quotes as it is.
func NewKey(name string) Key {
	if strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == '"' || r == '\\' || r == '\ufffd' }) {
		return Key{first: math.MaxUint64, firstMask: math.MaxUint64} // no text is eight such bytes
	}
	k := Key{text: `"` + name + `":`}
	var text, mask [16]byte
	for i := range copy(text[:], k.text) {
		mask[i] = math.MaxUint8
	}
	k.first, k.last = binary.LittleEndian.Uint64(text[:]), binary.LittleEndian.Uint64(text[8:])
	k.firstMask, k.lastMask = binary.LittleEndian.Uint64(mask[:]), binary.LittleEndian.Uint64(mask[8:])
	return k
}

// Is reports whether 16 bytes, as two numbers, the first byte lowest, begin like the key as it is usually written; a key that
// is no longer than that then stands there.
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

// StringStop sets the top bit of the first byte of a word, the first byte lowest, that ends a string or is out of the usual in
// it: a quote, a backslash or a control character. Later bits may be set wrongly.
func StringStop(word uint64) uint64 { return special(word) }

// NumberStop sets the top bit of the first byte of a word, the first byte lowest, that is no digit, point or minus. Later bits
// may be set wrongly, and what is not set behind a minus or a point ends no number.
func NumberStop(word uint64) uint64 {
	digit, point, sign := word^('0'*ones), word^('.'*ones), word^('-'*ones)
	return (digit + 0x76*ones | digit) & ^((point - ones) &^ point) & ^((sign - ones) &^ sign) & high
}

// Space returns the offset behind the white space that stands at an offset.
func Space(data []byte, at int) int {
	for at < len(data) {
		switch data[at] {
		case ' ', '\t', '\n', '\r':
			at++
		default:
			return at
		}
	}
	return at
}

// StringEnd returns the offset of the quote that ends a string whose text begins at an offset, and whether that holds escapes.
// It is -1 where there is none within the text, which Margin bytes follow, or the string is not well-formed.
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

// NumberEnd returns the offset behind what looks like a number that begins at an offset, which is that offset where none does.
// Whether it is one IsNumber tells.
func NumberEnd(data []byte, at int) int {
	for at+8 <= len(data) {
		other := NumberStop(binary.LittleEndian.Uint64(data[at:]))
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
