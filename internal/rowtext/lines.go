package rowtext

import (
	"bytes"

	"github.com/apache/arrow-go/v18/arrow"
)

// JSON appends the rows of a batch as JSON lines, an object a row with every column in order.
func JSON(dst []byte, batch arrow.RecordBatch) []byte {
	fields := batch.Schema().Fields()
	for row := range int(batch.NumRows()) {
		dst = append(dst, '{')
		for c, f := range fields {
			if c > 0 {
				dst = append(dst, ',')
			}
			dst = append(appendString(dst, f.Name), ':')
			dst = AppendJSON(dst, batch.Column(c), row)
		}
		dst = append(dst, '}', '\n')
	}
	return dst
}

// Header appends the names of the columns as a record of delimited text.
func Header(dst []byte, s *arrow.Schema, delimiter byte) []byte {
	for c, f := range s.Fields() {
		if c > 0 {
			dst = append(dst, delimiter)
		}
		dst = appendField(dst, []byte(f.Name), delimiter)
	}
	return append(dst, '\n')
}

// Delimited appends the rows of a batch as delimited text (RFC 4180, with line feeds): null is an empty field, an empty text
// one in quotes, and values with parts are JSON.
func Delimited(dst []byte, batch arrow.RecordBatch, delimiter byte) []byte {
	var text []byte
	for row := range int(batch.NumRows()) {
		at := len(dst)
		for c := range int(batch.NumCols()) {
			if c > 0 {
				dst = append(dst, delimiter)
			}
			a := batch.Column(c)
			if a.IsNull(row) {
				continue
			}
			text = AppendText(text[:0], a, row)
			dst = appendField(dst, text, delimiter)
		}
		if len(dst) == at {
			// A null in the only column would be a blank line, which is no record to many readers.
			dst = append(dst, `""`...)
		}
		dst = append(dst, '\n')
	}
	return dst
}

// appendField writes one field, in quotes where it is empty or holds what would end it.
func appendField(dst, text []byte, delimiter byte) []byte {
	if len(text) > 0 && bytes.IndexByte(text, delimiter) < 0 && bytes.IndexByte(text, '"') < 0 && bytes.IndexByte(text, '\n') < 0 &&
		bytes.IndexByte(text, '\r') < 0 &&
		text[0] != ' ' && text[len(text)-1] != ' ' && text[0] != '#' {
		return append(dst, text...)
	}
	dst = append(dst, '"')
	for _, c := range text {
		if c == '"' {
			dst = append(dst, '"')
		}
		dst = append(dst, c)
	}
	return append(dst, '"')
}
