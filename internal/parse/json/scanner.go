// Package json walks over JSON text (RFC 8259) without building anything: it finds records in lines and gives the raw text
// of each value in turn, checked against the grammar.
//
// What comes in are blocks (package parse); what goes out are the places of records and, from a Scanner, the spans of keys
// and values within them. Errors are kept in the Scanner and end the walk, so callers look once, at the end of a record.
package json

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"unicode/utf16"
	"unicode/utf8"
)

// Kind is the kind of a JSON value, told by its first byte.
type Kind uint8

const (
	Invalid Kind = iota
	Null
	Boolean
	Number
	String
	Object
	Array
)

func (k Kind) String() string {
	return [...]string{"invalid", "null", "boolean", "number", "string", "object", "array"}[k]
}

// MaxDepth is how many objects and arrays may lie within each other where nothing else is said.
const MaxDepth = 200

// Scanner walks over one JSON text. Its methods do nothing once an error has occurred.
type Scanner struct {
	data  []byte
	pos   int
	depth int
	limit int // of depth, 0 for MaxDepth
	// lenient takes NaN, Infinity and -Infinity for numbers, which JSON does not have.
	lenient bool
	err     *SyntaxError
}

// SyntaxError says what is wrong with a text and where.
type SyntaxError struct {
	// Offset is the position in the text, in bytes.
	Offset int
	Reason string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("%s at byte %d of the record", e.Reason, e.Offset+1)
}

// Reset begins a new text.
func (s *Scanner) Reset(data []byte) { *s = Scanner{data: data, limit: s.limit, lenient: s.lenient} }

// Limit sets how many objects and arrays may lie within each other; 0 is MaxDepth.
func (s *Scanner) Limit(depth int) { s.limit = depth }

// Lenient sets whether NaN, Infinity and -Infinity are numbers.
func (s *Scanner) Lenient(yes bool) { s.lenient = yes }

// Err returns the first error.
func (s *Scanner) Err() *SyntaxError { return s.err }

// Fail ends the walk with an error at the current position, unless there is one already.
func (s *Scanner) Fail(format string, args ...any) {
	if s.err == nil {
		s.err = &SyntaxError{Offset: s.pos, Reason: fmt.Sprintf(format, args...)}
		s.pos = len(s.data)
	}
}

// Pos returns the offset of the next byte.
func (s *Scanner) Pos() int { return s.pos }

// Since returns the text from an earlier position to the current one.
func (s *Scanner) Since(pos int) []byte { return s.data[pos:s.pos] }

func (s *Scanner) space() {
	for s.pos < len(s.data) {
		switch s.data[s.pos] {
		case ' ', '\t', '\n', '\r':
			s.pos++
		default:
			return
		}
	}
}

// kinds maps the first byte of a value to its kind.
var kinds = func() (table [256]Kind) {
	for c := '0'; c <= '9'; c++ {
		table[c] = Number
	}
	table['-'], table['"'], table['{'], table['['], table['n'] = Number, String, Object, Array, Null
	table['t'], table['f'] = Boolean, Boolean
	return table
}()

// Peek passes over white space and returns the kind of the value that follows.
func (s *Scanner) Peek() Kind {
	if s.pos < len(s.data) && s.data[s.pos] <= ' ' {
		s.space()
	}
	if s.pos >= len(s.data) {
		s.Fail("the text ends where a value is expected")
		return Invalid
	}
	kind := kinds[s.data[s.pos]]
	if kind == Invalid {
		if s.special() > 0 {
			if s.lenient {
				return Number
			}
			s.Fail("%s is no number of JSON (--json-numbers lenient reads it)", s.data[s.pos:s.pos+s.special()])
			return Invalid
		}
		s.Fail("%q begins no value", rune(s.data[s.pos]))
	}
	return kind
}

// Literal passes over null, true or false and returns its text.
func (s *Scanner) Literal() []byte {
	for _, word := range [...]string{"null", "true", "false"} {
		if s.data[s.pos] == word[0] {
			if len(s.data)-s.pos >= len(word) && string(s.data[s.pos:s.pos+len(word)]) == word {
				s.pos += len(word)
				return s.data[s.pos-len(word) : s.pos]
			}
			s.Fail("this is not %s", word)
		}
		if s.err != nil {
			return nil
		}
	}
	return nil
}

// Number passes over a number and returns its text, every digit of it.
func (s *Scanner) Number() []byte {
	start := s.pos
	if n := s.special(); n > 0 && s.lenient {
		s.pos += n
		return s.data[start:s.pos]
	} else if n > 0 {
		s.Fail("%s is no number of JSON (--json-numbers lenient reads it)", s.data[s.pos:s.pos+n])
		return nil
	}
	if s.data[s.pos] == '-' {
		s.pos++
	}
	whole := s.digits()
	if whole == 0 || (whole > 1 && s.data[s.pos-whole] == '0') {
		s.Fail("a number has no digits or a leading zero")
		return nil
	}
	if s.pos < len(s.data) && s.data[s.pos] == '.' {
		s.pos++
		if s.digits() == 0 {
			s.Fail("a number has no digits after its point")
			return nil
		}
	}
	if s.pos < len(s.data) && s.data[s.pos]|0x20 == 'e' {
		s.pos++
		if s.pos < len(s.data) && (s.data[s.pos] == '+' || s.data[s.pos] == '-') {
			s.pos++
		}
		if s.digits() == 0 {
			s.Fail("a number has no digits in its exponent")
			return nil
		}
	}
	return s.data[start:s.pos]
}

// special returns the length of NaN, Infinity or -Infinity where one stands at the current position, 0 otherwise.
func (s *Scanner) special() int {
	c := s.data[s.pos]
	if c != 'N' && c != 'I' && (c != '-' || s.pos+1 == len(s.data) || s.data[s.pos+1] != 'I') {
		return 0
	}
	for _, word := range [...]string{"NaN", "Infinity", "-Infinity"} {
		if len(s.data)-s.pos >= len(word) && string(s.data[s.pos:s.pos+len(word)]) == word {
			return len(word)
		}
	}
	return 0
}

func (s *Scanner) digits() int {
	start := s.pos
	for s.pos < len(s.data) && s.data[s.pos]-'0' <= 9 {
		s.pos++
	}
	return s.pos - start
}

const (
	low  = 0x7f7f7f7f7f7f7f7f
	high = 0x8080808080808080
	ones = 0x0101010101010101
)

// special sets the top bit of the first byte of w that is a quote, a backslash or a control character; later bits may be
// set wrongly, earlier ones never are.
func special(w uint64) uint64 {
	quote, backslash := w^('"'*ones), w^('\\'*ones)
	return ((quote - ones) &^ quote & high) | ((backslash - ones) &^ backslash & high) | ((w - ' '*ones) &^ w & high)
}

// String passes over a string and returns what is between its quotes, and whether that holds escapes.
func (s *Scanner) String() (text []byte, escaped bool) {
	data, start := s.data, s.pos+1
	i := start
	for {
		if i+8 <= len(data) {
			mask := special(binary.LittleEndian.Uint64(data[i:]))
			if mask == 0 {
				i += 8
				continue
			}
			i += bits.TrailingZeros64(mask) >> 3
		}
		if i >= len(data) {
			s.pos = start - 1
			s.Fail("a string is not closed")
			return nil, false
		}
		switch c := data[i]; {
		case c == '"':
			s.pos = i + 1
			return data[start:i], escaped
		case c == '\\':
			escaped = true
			n := escapeLength(data[i:])
			if n == 0 {
				s.pos = i
				s.Fail("a backslash begins no escape")
				return nil, false
			}
			i += n
		case c < ' ':
			s.pos = i
			s.Fail("a control character stands in a string")
			return nil, false
		default:
			i++
		}
	}
}

// escapeLength returns the length of the escape at the start of b, 0 if it is none.
func escapeLength(b []byte) int {
	if len(b) < 2 {
		return 0
	}
	switch b[1] {
	case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
		return 2
	case 'u':
		if _, ok := hex4(b[2:]); ok {
			return 6
		}
	}
	return 0
}

func hex4(b []byte) (rune, bool) {
	if len(b) < 4 {
		return 0, false
	}
	var r rune
	for _, c := range b[:4] {
		switch {
		case c >= '0' && c <= '9':
			r = r<<4 | rune(c-'0')
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			r = r<<4 | rune(c|0x20-'a'+10)
		default:
			return 0, false
		}
	}
	return r, true
}

// Unescape appends the text of a string with its escapes undone. A surrogate without its partner stands for no character:
// it ends the walk with an error.
func (s *Scanner) Unescape(dst, text []byte) []byte {
	for i := 0; i < len(text); {
		if text[i] != '\\' {
			dst = append(dst, text[i])
			i++
			continue
		}
		c := text[i+1]
		i += 2
		switch c {
		case 'b':
			dst = append(dst, '\b')
		case 'f':
			dst = append(dst, '\f')
		case 'n':
			dst = append(dst, '\n')
		case 'r':
			dst = append(dst, '\r')
		case 't':
			dst = append(dst, '\t')
		case 'u':
			r, _ := hex4(text[i:])
			i += 4
			if utf16.IsSurrogate(r) {
				var low rune
				if i+6 <= len(text) && text[i] == '\\' && text[i+1] == 'u' {
					low, _ = hex4(text[i+2:])
				}
				r = utf16.DecodeRune(r, low)
				if r == utf8.RuneError {
					s.Fail("a string holds half of a surrogate pair")
					return dst
				}
				i += 6
			}
			dst = utf8.AppendRune(dst, r)
		default:
			dst = append(dst, c)
		}
	}
	return dst
}

// Unnamed is the name of a column for an empty key.
const Unnamed = `""`

// Name returns what NextKey gave as the name of a column: with its escapes undone, and never empty.
func (s *Scanner) Name(key []byte, escaped bool) []byte {
	if escaped {
		key = s.Unescape(nil, key)
	}
	if len(key) == 0 {
		return []byte(Unnamed)
	}
	return key
}

// Open passes over the { or [ that the last Peek found.
func (s *Scanner) Open() {
	s.pos++
	s.depth++
	limit := s.limit
	if limit == 0 {
		limit = MaxDepth
	}
	if s.depth > limit {
		s.Fail("objects and arrays lie more than %d deep, which --max-depth can allow", limit)
	}
}

// NextKey returns the next key of the object that was opened, or false at its end, which it passes over. n is how many
// members were taken already.
func (s *Scanner) NextKey(n int) (key []byte, escaped, ok bool) {
	if !s.next(n, '}') {
		return nil, false, false
	}
	if s.data[s.pos] != '"' {
		s.Fail("a key is expected here")
		return nil, false, false
	}
	key, escaped = s.String()
	if s.pos >= len(s.data) || s.data[s.pos] != ':' {
		s.space()
	}
	if s.pos >= len(s.data) || s.data[s.pos] != ':' {
		s.Fail("a colon is expected after the key")
		return nil, false, false
	}
	s.pos++
	return key, escaped, s.err == nil
}

// NextElement reports whether the array that was opened has another element; it passes over the end of the array otherwise.
// n is how many elements were taken already.
func (s *Scanner) NextElement(n int) bool { return s.next(n, ']') }

// next passes over the comma before the member or element number n, or over the closing bracket.
func (s *Scanner) next(n int, closing byte) bool {
	if at := s.pos + 1; n > 0 && at < len(s.data) && s.data[s.pos] == ',' && s.data[at] > ' ' && s.data[at] != closing {
		s.pos = at
		return true
	}
	s.space()
	if s.err != nil {
		return false
	}
	if s.pos >= len(s.data) {
		s.Fail("the text ends within an object or array")
		return false
	}
	c := s.data[s.pos]
	if c == closing {
		s.pos++
		s.depth--
		return false
	}
	if n == 0 {
		return true
	}
	if c != ',' {
		s.Fail("a comma or %q is expected here", rune(closing))
		return false
	}
	s.pos++
	s.space()
	if s.pos >= len(s.data) || s.data[s.pos] == closing {
		s.Fail("a comma stands before the end of an object or array")
		return false
	}
	return true
}

// Skip passes over one value of any kind and returns its text.
func (s *Scanner) Skip() []byte {
	kind := s.Peek()
	start := s.pos
	switch kind {
	case Null, Boolean:
		s.Literal()
	case Number:
		s.Number()
	case String:
		s.String()
	case Object:
		s.Open()
		for n := 0; ; n++ {
			if _, _, ok := s.NextKey(n); !ok {
				break
			}
			s.Skip()
		}
	case Array:
		s.Open()
		for n := 0; s.NextElement(n); n++ {
			s.Skip()
		}
	}
	if s.err != nil {
		return nil
	}
	return s.data[start:s.pos]
}

// End checks that nothing but white space follows.
func (s *Scanner) End() {
	s.space()
	if s.err == nil && s.pos < len(s.data) {
		s.Fail("text follows the end of the record")
	}
}
