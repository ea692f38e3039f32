// Package delimited cuts delimited text into records and fields.
//
// What comes in are blocks (package parse) and a Dialect; what goes out are Records, a grid of field positions within the
// block, and a list of the records that have no place in the grid. The rule for quotes is one and the same in the cutter
// and in the parser: a quote opens a quoted field only as the first byte of a field, and within it a doubled quote stands
// for one; a quote anywhere else is an ordinary character.
package delimited

import (
	"bytes"
	"strconv"
	"strings"
)

// Dialect is how fields and records are told apart. The terms are those of the W3C's "Model for Tabular Data and Metadata
// on the Web", section 8 (dialect descriptions).
type Dialect struct {
	// Delimiter stands between fields; Rest is what follows it in a delimiter of several characters.
	Delimiter byte
	Rest      string
	// Quote encloses fields that hold delimiters, quotes or line breaks; 0 for none.
	Quote byte
	// Escape stands before a quote, or before itself, within a quoted field; 0 where quotes are doubled instead.
	Escape byte
	// CR says that a carriage return alone ends a line, as a line feed does, with or without a carriage return before it.
	CR bool
	// Trim leaves out spaces and tabs around fields, and around the quotes of quoted ones.
	Trim bool
	// Comment begins a line that is not a record; 0 for none.
	Comment byte
	// Blanks says that fields are told apart by any number of spaces and tabs, which mean nothing around a record. Delimiter is
	// a space then.
	Blanks bool
	// Widths are how many characters the fields have where nothing stands between them; blanks around a field, and fields that
	// a line does not reach, are empty. There are no quotes then.
	Widths []int
	// Closed says that a delimiter stands behind the last field of a record, too.
	Closed bool
}

// Cut returns the length of the whole records at the start of buf, which begins with a record. It makes a Dialect a
// parse.Cutter.
func (d Dialect) Cut(buf []byte) int {
	if d.Quote == 0 {
		return d.lastEnd(buf, 0, len(buf)) + 1
	}
	if cut, _ := d.cutSimple(buf); cut > 0 {
		return cut
	}
	return d.cutAny(buf)
}

// CutLines is Cut and Lines of what it cuts off. It makes a Dialect a parse.LineCutter.
func (d Dialect) CutLines(buf []byte) (cut, lines int) {
	if cut, lines = d.cutSimple(buf); cut > 0 {
		return cut, lines
	}
	cut = d.Cut(buf)
	return cut, d.Lines(buf[:cut])
}

// cutAny is Cut for any dialect with quotes.
func (d Dialect) cutAny(buf []byte) int {
	record := 0 // where the current record begins
	i := 0      // where the scan goes on; outside quotes, with no line end since record
	for {
		quote := bytes.IndexByte(buf[i:], d.Quote)
		plain := len(buf)
		if quote >= 0 {
			quote += i
			plain = quote
		}
		if end := d.lastEnd(buf, i, plain); end >= 0 {
			record = end + 1
		}
		switch {
		case quote < 0:
			return record
		case d.Comment != 0 && buf[record] == d.Comment:
			end := d.lineEnd(buf[quote:])
			if end < 0 || quote+end == len(buf) && buf[quote+end-1] == '\r' {
				return record
			}
			record = quote + end
			i = record
		case !d.opens(buf, record, quote):
			i = quote + 1
		default:
			closing, _ := d.closing(buf, quote)
			if closing < 0 {
				return record
			}
			i = closing + 1
		}
	}
}

// simple reports whether nothing but a delimiter of one character, quotes and line feeds means anything.
func (d Dialect) simple() bool {
	return d.Rest == "" && d.Quote != 0 && d.Escape == 0 && !d.CR && !d.Trim && d.Comment == 0 && !d.Blanks
}

// cutSimple is CutLines for a simple dialect with quotes. It returns 0 for others, where the last record does not end behind
// the last quote, and where quotes open otherwise than at the beginning of a field or doubled.
func (d Dialect) cutSimple(buf []byte) (cut, lines int) {
	e := ends{begins: 1}
	if !d.simple() || e.add(buf, d.Delimiter, d.Quote) != 0 || e.inside != 0 {
		return 0, 0
	}
	end := bytes.LastIndexByte(buf[e.last:], '\n')
	if end < 0 {
		return 0, 0
	}
	return e.last + end + 1, e.lines
}

// BlanksText and widthsText stand for a delimiter where there is none.
const (
	BlanksText = "blanks"
	NoneText   = "none"
	widthsText = "widths "
)

// noDelimiter is a byte that no text in UTF-8 has.
const noDelimiter = 0xff

// DelimiterText returns the whole delimiter, "blanks" for any number of them, or "widths 5,12" for fields without one.
func (d Dialect) DelimiterText() string {
	switch {
	case d.Blanks:
		return BlanksText
	case d.Delimiter == noDelimiter:
		return NoneText
	case len(d.Widths) > 0:
		var texts []string
		for _, w := range d.Widths {
			texts = append(texts, strconv.Itoa(w))
		}
		return widthsText + strings.Join(texts, ",")
	}
	return string(rune(d.Delimiter)) + d.Rest
}

// SetDelimiter takes a delimiter as DelimiterText writes it.
func (d *Dialect) SetDelimiter(text string) {
	widths, fixed := strings.CutPrefix(text, widthsText)
	switch {
	case text == BlanksText:
		d.Delimiter, d.Rest, d.Blanks = ' ', "", true
	case text == NoneText:
		d.Delimiter, d.Rest = noDelimiter, ""
	case fixed:
		d.Delimiter, d.Rest, d.Quote = 0, "", 0
		for _, w := range strings.Split(widths, ",") {
			if n, err := strconv.Atoi(w); err == nil && n > 0 {
				d.Widths = append(d.Widths, n)
			}
		}
	default:
		d.Delimiter, d.Rest = text[0], text[1:]
	}
}

// space reports whether a character stands between fields that are told apart by blanks.
func (d Dialect) space(c byte) bool { return c == ' ' || c == '\t' }

// opens reports whether the quote at a position is the first byte of a field of the record.
func (d Dialect) opens(buf []byte, record, quote int) bool {
	if d.Blanks {
		return quote == record || d.space(buf[quote-1])
	}
	for quote > record && !d.ends(buf[record:quote]) {
		if !d.Trim || !d.blank(buf[quote-1]) {
			return false
		}
		quote--
	}
	return true
}

// blank reports whether a character is white space that Trim leaves out.
func (d Dialect) blank(c byte) bool { return (c == ' ' || c == '\t') && c != d.Delimiter }

// ends reports whether a text ends in the delimiter.
func (d Dialect) ends(text []byte) bool {
	if d.Rest == "" {
		return len(text) > 0 && text[len(text)-1] == d.Delimiter
	}
	n := len(text) - len(d.Rest)
	return n > 0 && text[n-1] == d.Delimiter && string(text[n:]) == d.Rest
}

// delimiterAt returns the length of the delimiter at the start of text, 0 if it does not begin with one.
func (d Dialect) delimiterAt(text []byte) int {
	if len(text) == 0 || text[0] != d.Delimiter || d.Rest != "" && !bytes.HasPrefix(text[1:], []byte(d.Rest)) {
		return 0
	}
	return 1 + len(d.Rest)
}

// lastEnd returns the position of the last byte of the last line end from a position to another, or -1. A carriage return at the
// very end of buf may still be followed by a line feed, so it is not one yet.
func (d Dialect) lastEnd(buf []byte, from, to int) int {
	if !d.CR {
		if n := bytes.LastIndexByte(buf[from:to], '\n'); n >= 0 {
			return from + n
		}
		return -1
	}
	for i := to - 1; i >= from; i-- {
		if buf[i] == '\n' || buf[i] == '\r' && i+1 < len(buf) {
			return i
		}
	}
	return -1
}

// lineEnd returns where the next line begins, or -1 where there is no line end.
func (d Dialect) lineEnd(buf []byte) int {
	if !d.CR {
		if n := bytes.IndexByte(buf, '\n'); n >= 0 {
			return n + 1
		}
		return -1
	}
	n := bytes.IndexAny(buf, "\r\n")
	switch {
	case n < 0:
		return -1
	case buf[n] == '\r' && n+1 < len(buf) && buf[n+1] == '\n':
		return n + 2
	}
	return n + 1
}

// Lines counts the line ends in a text. It makes a Dialect a parse.LineCounter.
func (d Dialect) Lines(text []byte) int {
	n := bytes.Count(text, []byte{'\n'})
	if d.CR {
		n += bytes.Count(text, []byte{'\r'}) - bytes.Count(text, []byte("\r\n"))
	}
	return n
}

// closing returns where the quoted field that opens at open ends, or -1, and whether it holds doubled quotes or escapes.
func (d Dialect) closing(buf []byte, open int) (at int, doubled bool) {
	i := open + 1
	if d.Escape != 0 {
		for ; i < len(buf); i++ {
			switch buf[i] {
			case d.Escape:
				doubled = true
				i++
			case d.Quote:
				return i, doubled
			}
		}
		return -1, doubled
	}
	for {
		n := bytes.IndexByte(buf[i:], d.Quote)
		if n < 0 {
			return -1, doubled
		}
		i += n
		if i+1 >= len(buf) || buf[i+1] != d.Quote {
			return i, doubled
		}
		doubled = true
		i += 2
	}
}

// Unquote appends text to dst with each doubled quote made one, or each escape undone.
func (d Dialect) Unquote(dst, text []byte) []byte {
	mark := d.Quote
	if d.Escape != 0 {
		mark = d.Escape
	}
	for {
		n := bytes.IndexByte(text, mark)
		if n < 0 || n+1 >= len(text) {
			return append(dst, text...)
		}
		dst = append(append(dst, text[:n]...), text[n+1])
		text = text[n+2:]
	}
}
