package sniff

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"

	"trevak/internal/fault"
)

// UTF8 is the encoding that needs no decoding.
const UTF8 = "utf-8"

// ParseEncoding checks a label of the WHATWG Encoding Standard and returns the encoding's name.
func ParseEncoding(label string) (string, error) {
	e, err := htmlindex.Get(label)
	if err != nil {
		return "", fault.New(fault.Usage, "%q is no text encoding",
			label).Try("use a label of the WHATWG Encoding Standard, like utf-8, utf-16le, windows-1252, iso-8859-2")
	}
	name, err := htmlindex.Name(e)
	if err != nil {
		return "", fault.New(fault.Usage, "%q is an encoding without a name", label)
	}
	return name, nil
}

// DetectEncoding tells the encoding of a text from its first bytes.
func DetectEncoding(head []byte) Reason {
	r := Reason{Rule: "encoding", Value: UTF8}
	switch {
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		r.Why = "it begins with a byte order mark"
	case bytes.HasPrefix(head, []byte("\xff\xfe")):
		r.Value, r.Why = "utf-16le", "it begins with a byte order mark"
	case bytes.HasPrefix(head, []byte("\xfe\xff")):
		r.Value, r.Why = "utf-16be", "it begins with a byte order mark"
	case mostlyZero(head, 1):
		r.Value, r.Why = "utf-16le", "every second byte is zero"
	case mostlyZero(head, 0):
		r.Value, r.Why = "utf-16be", "every second byte is zero"
	default:
		detectBytes(head[:lastRune(head)], &r)
	}
	return r
}

// mostlyZero reports whether nearly all bytes at even or odd positions are zero, as in UTF-16 text of Western scripts, and nearly
// none of the others.
func mostlyZero(head []byte, from int) bool {
	if bytes.IndexByte(head, 0) < 0 {
		return false
	}
	zeros, others := 0, 0
	for i, c := range head {
		if c != 0 {
			continue
		}
		if i%2 == from {
			zeros++
		} else {
			others++
		}
	}
	return len(head) >= 4 && zeros*5 > len(head)/2*4 && others*20 < len(head)
}

// asciiBefore returns how many bytes of ASCII come before another.
func asciiBefore(text []byte) (n int) {
	const high = 0x8080808080808080
	for ; n+8 <= len(text); n += 8 {
		if binary.LittleEndian.Uint64(text[n:])&high != 0 {
			break
		}
	}
	for n < len(text) && text[n] < utf8.RuneSelf {
		n++
	}
	return n
}

// detectBytes decides between UTF-8 and encodings of one byte a character by the sequences above ASCII.
func detectBytes(head []byte, r *Reason) {
	whole, broken, controls := 0, 0, 0
	for at := 0; at < len(head); {
		if at = at + asciiBefore(head[at:]); at == len(head) {
			break
		}
		c, size := utf8.DecodeRune(head[at:])
		switch {
		case c == utf8.RuneError && size == 1:
			broken++
			if head[at] >= 0x80 && head[at] < 0xa0 {
				controls++
			}
		case size > 1:
			whole++
		}
		at += size
	}
	switch {
	case whole+broken == 0:
		r.Why = fmt.Sprintf("only ASCII in the first %d bytes", len(head))
	case broken == 0:
		r.Why = fmt.Sprintf("the first %d bytes are valid", len(head))
	case whole >= broken:
		r.Why = fmt.Sprintf("%d characters are valid, though %d bytes are not", whole, broken)
		r.Unsure = true
	case controls > 0:
		r.Value, r.Unsure = "windows-1252", true
		r.Why = fmt.Sprintf("%d bytes are not UTF-8, and %d of them are characters of Windows-1252 that ISO-8859 lacks", broken, controls)
	default:
		r.Value, r.Unsure = "windows-1252", true
		r.Why = fmt.Sprintf("%d bytes are not UTF-8; ISO-8859-1 is read as its superset, state --encoding for another of that family",
			broken)
	}
}

// Decode returns the text of r as UTF-8. What is not valid in the encoding becomes a byte that is not valid UTF-8, so that it is
// noticed where the record is read.
func Decode(r io.Reader, name string) (io.Reader, error) {
	if name == UTF8 {
		return r, nil
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "%q is no text encoding", name)
	}
	return transform.NewReader(r, transform.Chain(e.NewDecoder(), exposer{})), nil
}

// exposer turns replacement characters into the byte 0xFF.
type exposer struct{ transform.NopResetter }

const replacement = "\ufffd"

func (exposer) Transform(dst, src []byte, atEOF bool) (written, read int, err error) {
	for read < len(src) {
		if src[read] == replacement[0] && !atEOF && len(src)-read < len(replacement) {
			return written, read, transform.ErrShortSrc
		}
		if written == len(dst) {
			return written, read, transform.ErrShortDst
		}
		if bytes.HasPrefix(src[read:], []byte(replacement)) {
			dst[written] = 0xff
			read += len(replacement)
		} else {
			dst[written] = src[read]
			read++
		}
		written++
	}
	return written, read, nil
}
