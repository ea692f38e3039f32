// Package delimited cuts delimited text into records and fields.
//
// What comes in are blocks (package parse) and a Dialect; what goes out are Records, a grid of field positions within the
// block, and a list of the records that have no place in the grid. The rule for quotes is one and the same in the cutter
// and in the parser: a quote opens a quoted field only as the first byte of a field, and within it a doubled quote stands
// for one; a quote anywhere else is an ordinary character.
package delimited

import "bytes"

// Dialect is how fields and records are told apart. The terms are those of the W3C's "Model for Tabular Data and Metadata
// on the Web", section 8 (dialect descriptions).
type Dialect struct {
	// Delimiter stands between fields.
	Delimiter byte
	// Quote encloses fields that hold delimiters, quotes or line breaks; 0 for none.
	Quote byte
	// Comment begins a line that is not a record; 0 for none.
	Comment byte
}

// Cut returns the length of the whole records at the start of buf, which begins with a record. It makes a Dialect a
// parse.Cutter.
func (d Dialect) Cut(buf []byte) int {
	if d.Quote == 0 {
		return bytes.LastIndexByte(buf, '\n') + 1
	}
	record := 0 // where the current record begins
	i := 0      // where the scan goes on; outside quotes, with no line end since record
	for {
		quote := bytes.IndexByte(buf[i:], d.Quote)
		plain := len(buf)
		if quote >= 0 {
			quote += i
			plain = quote
		}
		if end := bytes.LastIndexByte(buf[i:plain], '\n'); end >= 0 {
			record = i + end + 1
		}
		switch {
		case quote < 0:
			return record
		case d.Comment != 0 && buf[record] == d.Comment:
			end := bytes.IndexByte(buf[quote:], '\n')
			if end < 0 {
				return record
			}
			record = quote + end + 1
			i = record
		case quote != record && buf[quote-1] != d.Delimiter:
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

// closing returns where the quoted field that opens at open ends, or -1, and whether it holds doubled quotes.
func (d Dialect) closing(buf []byte, open int) (at int, doubled bool) {
	i := open + 1
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

// Unquote appends text to dst with each doubled quote made one.
func (d Dialect) Unquote(dst, text []byte) []byte {
	for {
		n := bytes.IndexByte(text, d.Quote)
		if n < 0 || n+1 >= len(text) {
			return append(dst, text...)
		}
		dst = append(dst, text[:n+1]...)
		text = text[n+2:]
	}
}
