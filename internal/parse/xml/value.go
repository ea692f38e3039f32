package xml

import (
	"bytes"
	"strconv"
	"strings"
	"unicode/utf8"
)

// where is where a value stands.
type where uint8

const (
	inText where = iota
	inQuotes
	inSection
)

// special are the bytes of values that must be looked at: what cannot stand in a value, or not as it is.
var special = func() (out [256]bool) {
	for c := range out {
		out[c] = c < ' ' && c != '\n' && c != '\t' || c >= utf8.RuneSelf || c == '&' || c == '<' || c == ']'
	}
	return out
}()

// value returns a value with line ends and entities as the specification has them (XML 1.0, sections 2.11 and 4.1).
func (t *tokens) value(b []byte, w where) ([]byte, error) {
	for i, c := range b {
		if special[c] {
			return t.rewritten(b, i, w)
		}
	}
	return b, nil
}

// rewritten is value from the first byte on that must be looked at.
func (t *tokens) rewritten(b []byte, at int, w where) ([]byte, error) {
	from := len(t.text)
	t.text = append(t.text, b[:at]...)
	for at < len(b) {
		switch c := b[at]; {
		case c == '\r':
			t.text = append(t.text, '\n')
			if at++; at < len(b) && b[at] == '\n' {
				at++
			}
		case c == '&' && w != inSection:
			n, err := t.entity(b[at:])
			if err != nil {
				return nil, err
			}
			at += n
		case c == '<' && w == inQuotes:
			return nil, malformed("there is a < within quotes")
		case c == ']' && w == inText && bytes.HasPrefix(b[at:], []byte("]]>")):
			return nil, malformed("]]> stands outside of a CDATA section")
		case c < utf8.RuneSelf:
			if c < ' ' && c != '\n' && c != '\t' {
				return nil, malformed("there is the character U+00" + strconv.FormatUint(uint64(c)+0x100, 16)[1:])
			}
			t.text = append(t.text, c)
			at++
		default:
			r, size := utf8.DecodeRune(b[at:])
			if r == utf8.RuneError && size == 1 {
				return nil, malformed("there is a byte that is not UTF-8")
			}
			if r == 0xfffe || r == 0xffff {
				return nil, malformed("there is the character U+" + strings.ToUpper(strconv.FormatUint(uint64(r), 16)))
			}
			t.text = append(t.text, b[at:at+size]...)
			at += size
		}
	}
	return t.text[from:], nil
}

// entities are XML's own.
var entities = map[string]byte{"lt": '<', "gt": '>', "amp": '&', "apos": '\'', "quot": '"'}

// entity appends what an entity stands for, and returns how many bytes it has.
func (t *tokens) entity(b []byte) (int, error) {
	length := bytes.IndexByte(b, ';')
	if length < 0 {
		return 0, malformed("an entity has no ; at its end")
	}
	name := string(b[1:length])
	if c, ok := entities[name]; ok {
		t.text = append(t.text, c)
		return length + 1, nil
	}
	digits, base := strings.TrimPrefix(name, "#"), 10
	if hex, ok := strings.CutPrefix(digits, "x"); ok {
		digits, base = hex, 16
	}
	r, err := strconv.ParseUint(digits, base, 32)
	if !strings.HasPrefix(name, "#") || err != nil || r > utf8.MaxRune || strings.HasPrefix(digits, "+") {
		return 0, malformed("there is the entity &" + name[:min(len(name), 40)] + ";, which is none of XML's own")
	}
	if r < ' ' && r != '\n' && r != '\r' && r != '\t' || r == 0xfffe || r == 0xffff {
		return 0, malformed("there is the character U+" + strings.ToUpper(strconv.FormatUint(r, 16)))
	}
	t.text = utf8.AppendRune(t.text, rune(r))
	return length + 1, nil
}
