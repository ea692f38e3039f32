package json

import (
	"bytes"
	"unicode/utf8"

	"trevak/internal/parse"
)

// Values cuts JSON values that follow one another, on however many lines, with nothing but white space and commas between them:
// concatenated documents, and the inside of an array.
type Values struct{}

// Cut returns the length of the whole values at the start of buf.
func (Values) Cut(buf []byte) int {
	end := separators(buf, 0)
	for at := end; at < len(buf); at = separators(buf, end) {
		n := balanced(buf[at:])
		if n < 0 || at+n == len(buf) && buf[at] != '{' && buf[at] != '[' {
			// A number or a word at the very end may go on.
			return end
		}
		end = at + n
	}
	return end
}

// separators passes over white space, commas, and the marks that stand before values in a text sequence (RFC 7464).
func separators(buf []byte, at int) int {
	for at < len(buf) && (buf[at] == ' ' || buf[at] == '\n' || buf[at] == '\r' || buf[at] == '\t' || buf[at] == ',' ||
		buf[at] == '\x1e') {
		at++
	}
	return at
}

// balanced returns the length of the value at the start of buf, told by its brackets and quotes alone, so that a value that is not
// well formed inside does not take the next ones with it; -1 where it does not end.
func balanced(buf []byte) int {
	depth := 0
	for i := 0; i < len(buf); i++ {
		switch buf[i] {
		case '"':
			n := stringLength(buf[i:])
			if n < 0 {
				return -1
			}
			i += n - 1
			if depth == 0 {
				return i + 1
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth <= 0 {
				return i + 1
			}
		case ',', ' ', '\n', '\r', '\t':
			if depth == 0 {
				return i
			}
		}
	}
	if depth == 0 {
		return len(buf)
	}
	return -1
}

// stringLength returns the length of the string at the start of buf, its quotes included, or -1.
func stringLength(buf []byte) int {
	for i := 1; ; {
		n := bytes.IndexByte(buf[i:], '"')
		if n < 0 {
			return -1
		}
		i += n + 1
		escapes := 0
		for i-2-escapes > 0 && buf[i-2-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 0 {
			return i
		}
	}
}

// ParseValues finds the block's values.
func (r *Records) ParseValues(block *parse.Block) {
	r.Block, r.spans, r.Problems = block, r.spans[:0], r.Problems[:0]
	valid := utf8.Valid(block.Data)
	data := block.Data
	for at := separators(data, 0); at < len(data); {
		n := balanced(data[at:])
		if n < 0 {
			n = len(data) - at
		}
		if !valid && !utf8.Valid(data[at:at+n]) {
			r.Problems = append(r.Problems, parse.NotText(block, at, at+n))
		} else {
			r.spans = append(r.spans, [2]uint32{uint32(at), uint32(at + n)})
		}
		at = separators(data, at+n)
	}
}

// Ends reports whether the brackets and quotes of the value at the start of a text close within it.
func Ends(text []byte) bool { return balanced(text[separators(text, 0):]) >= 0 }
