package json

import (
	"encoding/binary"
	"math"
	"math/bits"
	"strings"
)

// The methods below take what is written the way it usually is, without white space but one blank, without escapes, in few bytes. Where it is not, they pass
// over nothing, and the others tell what there is.

// Key is a key as it is usually written, with the colon behind it.
type Key struct {
	text string
	// The first eight bytes and the eight behind them, and masks of those that there are.
	first, last, firstMask, lastMask uint64
}

// NewKey returns the key of a name; it is found nowhere when that cannot stand between quotes as it is.
func NewKey(name string) Key {
	if strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == '"' || r == '\\' || r == '\ufffd' }) {
		return Key{firstMask: math.MaxUint64}
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

// Expect passes over the key of member n when the text goes on with it as it is usually written. Otherwise nothing is passed over, and NextKey tells what
// there is.
func (s *Scanner) Expect(n int, key *Key) bool {
	at, data := s.pos, s.data
	if n > 0 {
		if at+1 >= len(data) || data[at] != ',' {
			return false
		}
		at++
		if data[at] == ' ' {
			at++
		}
	}
	end := at + key.Size()
	if at+Margin > len(data) || !key.Is(binary.LittleEndian.Uint64(data[at:]), binary.LittleEndian.Uint64(data[at+8:])) || key.Size() > Margin {
		if end = key.At(data, at); end < 0 {
			return false
		}
	}
	s.pos = end
	return true
}

// Closes passes over the end of an object or array that stands right here. Otherwise nothing is passed over.
func (s *Scanner) Closes(closing byte) bool {
	if s.pos < len(s.data) && s.data[s.pos] == closing {
		s.pos++
		s.depth--
		return true
	}
	return false
}

// ShortNumber passes over what may be a number of up to eight bytes, with something behind it, and returns its length and eight bytes from its first
// one on, that one lowest. Otherwise nothing is passed over, and Peek tells what there is.
func (s *Scanner) ShortNumber() (word uint64, n int, ok bool) {
	at := s.pos
	if at < len(s.data) && s.data[at] == ' ' {
		at++
	}
	if at+8 >= len(s.data) {
		return 0, 0, false
	}
	word = binary.LittleEndian.Uint64(s.data[at:])
	n = 8
	if other := notOfNumbers(word); other != 0 {
		n = bits.TrailingZeros64(other) >> 3
	}
	if c := s.data[at+n]; n == 0 || c != ',' && c != '}' && c != ']' {
		return 0, 0, false
	}
	s.pos = at + n
	return word, n, true
}

// PlainString passes over a string without escapes that stands here, and returns what is between its quotes. Otherwise nothing is passed over.
func (s *Scanner) PlainString() (text []byte, ok bool) {
	data, start := s.data, s.pos
	if start < len(data) && data[start] == ' ' {
		start++
	}
	if start >= len(data) || data[start] != '"' {
		return nil, false
	}
	start++
	for i := start; i+8 <= len(data); i += 8 {
		if mask := special(binary.LittleEndian.Uint64(data[i:])); mask != 0 {
			i += bits.TrailingZeros64(mask) >> 3
			if data[i] != '"' {
				return nil, false
			}
			s.pos = i + 1
			return data[start:i], true
		}
	}
	return nil, false
}

// Ahead returns the first byte of the value that stands here, 0 where the text ends. White space before it is passed over only where it is one blank.
func (s *Scanner) Ahead() byte {
	if s.pos < len(s.data) && s.data[s.pos] == ' ' {
		s.pos++
	}
	if s.pos < len(s.data) {
		return s.data[s.pos]
	}
	return 0
}

// PlainNull passes over null that stands here. Otherwise nothing is passed over.
func (s *Scanner) PlainNull() bool {
	if len(s.data)-s.pos >= 5 && binary.LittleEndian.Uint32(s.data[s.pos:]) == 'n'|'u'<<8|'l'<<16|'l'<<24 {
		s.pos += 4
		return true
	}
	return false
}

// PlainBoolean passes over true or false that stands here. Otherwise nothing is passed over.
func (s *Scanner) PlainBoolean() (value, ok bool) {
	at := s.pos
	if at < len(s.data) && s.data[at] == ' ' {
		at++
	}
	if len(s.data)-at < 6 {
		return false, false
	}
	switch word := binary.LittleEndian.Uint32(s.data[at:]); {
	case word == 't'|'r'<<8|'u'<<16|'e'<<24:
		s.pos = at + 4
		return true, true
	case word == 'f'|'a'<<8|'l'<<16|'s'<<24 && s.data[at+4] == 'e':
		s.pos = at + 5
		return false, true
	}
	return false, false
}

// Unread goes back over the last n bytes, which one of the methods that pass over plain values passed over.
func (s *Scanner) Unread(n int) { s.pos -= n }

// notOfNumbers sets the top bit of the first byte of w that is no digit, point or sign; later bits may be set wrongly, earlier ones never are.
func notOfNumbers(w uint64) uint64 {
	digit, point, sign := w^('0'*ones), w^('.'*ones), w^('-'*ones)
	return (digit + 0x76*ones | digit) & ^((point - ones) &^ point) & ^((sign - ones) &^ sign) & high
}
