package json

import (
	"encoding/binary"
	"math/bits"
)

// The methods below take what is written the way it usually is, without white space but one blank, without escapes, in few bytes. Where it is not, they pass
// over nothing, and the others tell what there is.

// Expect passes over the key of member n when the text goes on with it as it is usually written: literal is the key in its quotes, with the colon.
// Otherwise nothing is passed over, and NextKey tells what there is.
func (s *Scanner) Expect(n int, literal string) bool {
	at := s.pos
	if n > 0 {
		if at+1 >= len(s.data) || s.data[at] != ',' {
			return false
		}
		at++
		if s.data[at] == ' ' {
			at++
		}
	}
	if len(s.data)-at < len(literal) || string(s.data[at:at+len(literal)]) != literal {
		return false
	}
	s.pos = at + len(literal)
	return true
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
