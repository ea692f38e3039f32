package lexical

import "bytes"

// Special reads the values of floating-point numbers that are no numbers: nan, inf and infinity in any letter case, the
// infinities with a sign or without.
func Special(b []byte) (float64, bool) {
	if len(b) < 3 || len(b) > 9 {
		return 0, false
	}
	return special(b)
}

// Plain writes a number with the given decimal mark and separators between thousands the usual way: 1.234,5 becomes 1234.5. The
// text may still be none, but ok is false where it certainly is not. scratch is used for the result.
func Plain(b []byte, mark byte, scratch *[]byte) (plain []byte, ok bool) {
	if len(b) == 0 {
		return nil, false
	}
	whole, fraction, marked := bytes.Cut(b, []byte{mark})
	out := (*scratch)[:0]
	if !ungroup(whole, &out, mark) {
		return nil, false
	}
	if marked {
		out = append(append(out, '.'), fraction...)
		for _, c := range fraction {
			if (c < '0' || c > '9') && c|0x20 != 'e' && c != '-' && c != '+' {
				return nil, false
			}
		}
	}
	*scratch = out
	return out, true
}

// separators are what may stand between thousands besides the point or comma that is not the decimal mark.
var separators = [...]string{" ", "'", "\u00a0", "\u202f", "\u2019"}

// ungroup appends the digits of a whole number whose thousands may be set apart: in groups of three, by one separator.
func ungroup(whole []byte, out *[]byte, mark byte) bool {
	i := 0
	if i < len(whole) && (whole[0] == '-' || whole[0] == '+') {
		*out = append(*out, whole[0])
		i++
	}
	start := i
	for i < len(whole) && whole[i]-'0' <= 9 {
		i++
	}
	*out = append(*out, whole[start:i]...)
	if i == len(whole) {
		return true
	}
	separator := groupSeparator(whole[i:], mark)
	if separator == "" || i == start || i-start > 3 {
		if i < len(whole) && whole[i]|0x20 == 'e' && i > start {
			*out = append(*out, whole[i:]...)
			return true
		}
		return false
	}
	for i < len(whole) {
		if !bytes.HasPrefix(whole[i:], []byte(separator)) {
			return false
		}
		i += len(separator)
		if i+3 > len(whole) {
			return false
		}
		for _, c := range whole[i : i+3] {
			if c-'0' > 9 {
				return false
			}
		}
		*out = append(*out, whole[i:i+3]...)
		i += 3
	}
	return true
}

// groupSeparator returns the separator that a text begins with.
func groupSeparator(b []byte, mark byte) string {
	if mark == ',' && b[0] == '.' {
		return "."
	}
	if mark == '.' && b[0] == ',' {
		return ","
	}
	for _, s := range separators {
		if bytes.HasPrefix(b, []byte(s)) {
			return s
		}
	}
	return ""
}

// Inside returns the number out of a text that has a unit or a currency around it, by a format with # in the number's place: #%, € #.
// White space around number and text is left out.
func Inside(b []byte, format string) ([]byte, bool) {
	before, after, ok := bytes.Cut([]byte(format), []byte("#"))
	if !ok {
		return nil, false
	}
	rest, ok := bytes.CutPrefix(b, bytes.TrimSpace(before))
	if !ok {
		return nil, false
	}
	rest, ok = bytes.CutSuffix(rest, bytes.TrimSpace(after))
	return bytes.TrimSpace(rest), ok
}

// UUID reads eight, four, four, four and twelve hexadecimal digits in lower case with hyphens between them (RFC 9562,
// section 4). Upper case would not come back the same.
func UUID(b []byte) (id [16]byte, ok bool) { return uuid(b, false) }

// StatedUUID reads a UUID in any letter case, with or without hyphens and braces.
func StatedUUID(b []byte) (id [16]byte, ok bool) {
	if len(b) == 38 && b[0] == '{' && b[37] == '}' {
		b = b[1:37]
	}
	if len(b) == 32 {
		whole := make([]byte, 0, 36)
		for i, c := range b {
			if i == 8 || i == 12 || i == 16 || i == 20 {
				whole = append(whole, '-')
			}
			whole = append(whole, c)
		}
		b = whole
	}
	return uuid(b, true)
}

func uuid(b []byte, anyCase bool) (id [16]byte, ok bool) {
	if len(b) != 36 || b[8] != '-' || b[13] != '-' || b[18] != '-' || b[23] != '-' {
		return id, false
	}
	at := 0
	for i := 0; i < 36; i += 2 {
		if b[i] == '-' {
			i--
			continue
		}
		high, low := hexDigit(b[i], anyCase), hexDigit(b[i+1], anyCase)
		if high > 15 || low > 15 {
			return id, false
		}
		id[at] = high<<4 | low
		at++
	}
	return id, true
}

// hexDigit returns a number above 15 for what is no hexadecimal digit.
func hexDigit(c byte, anyCase bool) byte {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10
	case anyCase && c >= 'A' && c <= 'F':
		return c - 'A' + 10
	}
	return 255
}

// Words are two words that stand for true and false.
type Words struct{ True, False string }

// YesNo and Letters are the pairs besides true and false that inference takes for booleans.
var (
	YesNo   = Words{"yes", "no"}
	Letters = Words{"t", "f"}
)

// Read reads one of the words in any letter case.
func (w Words) Read(b []byte) (value, ok bool) {
	switch {
	case equalFold(b, w.True):
		return true, true
	case equalFold(b, w.False):
		return false, true
	}
	return false, false
}
