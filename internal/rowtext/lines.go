package rowtext

import (
	"github.com/apache/arrow-go/v18/arrow"
)

// JSON appends the rows of a batch as JSON lines, an object a row with every column in order.
func JSON(dst []byte, batch arrow.RecordBatch) []byte {
	line := members(batch.Schema().Fields(), batch.Column, "}\n")
	for row := range int(batch.NumRows()) {
		dst = line(dst, row)
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
	columns := make([]cell, batch.NumCols())
	for c := range columns {
		columns[c] = fields(batch.Column(c), delimiter)
	}
	for row := range int(batch.NumRows()) {
		at := len(dst)
		for c, column := range columns {
			if c > 0 {
				dst = append(dst, delimiter)
			}
			dst = column(dst, row)
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
func appendField[T string | []byte](dst []byte, text T, delimiter byte) []byte {
	if len(text) > 0 && text[0] != ' ' && text[len(text)-1] != ' ' && text[0] != '#' {
		plain := true
		for i := range len(text) {
			if c := text[i]; c == delimiter || c == '"' || c == '\n' || c == '\r' {
				plain = false
				break
			}
		}
		if plain {
			return append(dst, text...)
		}
	}
	dst = append(dst, '"')
	for i := range len(text) {
		if text[i] == '"' {
			dst = append(dst, '"')
		}
		dst = append(dst, text[i])
	}
	return append(dst, '"')
}
