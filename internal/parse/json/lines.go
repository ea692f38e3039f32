package json

import (
	"bytes"
	"unicode/utf8"

	"trevak/internal/parse"
)

// Lines cuts JSON lines: a record a line, since a line break cannot stand unescaped within a JSON string.
type Lines struct{}

// Cut returns the length of the whole lines at the start of buf.
func (Lines) Cut(buf []byte) int { return bytes.LastIndexByte(buf, '\n') + 1 }

// Records are the records of one block. They can be filled again and again, to reuse their memory.
type Records struct {
	Block *parse.Block
	// Problems are the lines that are no text and so are not among the records.
	Problems []parse.Problem
	// MaxDepth is how many objects and arrays of a record may lie within each other; 0 is the package's MaxDepth.
	MaxDepth int
	// Lenient takes NaN, Infinity and -Infinity for numbers.
	Lenient bool
	spans   [][2]uint32
}

// Parse finds the block's lines. Lines of nothing but white space are no records.
func (r *Records) Parse(block *parse.Block) {
	r.Block, r.spans, r.Problems = block, r.spans[:0], r.Problems[:0]
	valid := utf8.Valid(block.Data)
	for at := 0; at < len(block.Data); {
		end := bytes.IndexByte(block.Data[at:], '\n')
		next := at + end + 1
		if end < 0 {
			next = len(block.Data)
			end = next - at
		}
		line := block.Data[at : at+end]
		if end > 0 && line[end-1] <= ' ' {
			line = bytes.TrimRight(line, " \t\r")
		}
		switch {
		case len(line) == 0 || line[0] <= ' ' && len(bytes.TrimLeft(line, " \t")) == 0:
		case !valid && !utf8.Valid(line):
			r.Problems = append(r.Problems, parse.NotText(block, at, at+len(line)))
		default:
			r.spans = append(r.spans, [2]uint32{uint32(at), uint32(at + len(line))})
		}
		at = next
	}
}

// Rows returns the number of records.
func (r *Records) Rows() int { return len(r.spans) }

// Text returns the text of a record.
func (r *Records) Text(row int) []byte { return r.Block.Data[r.spans[row][0]:r.spans[row][1]] }

// Span returns where a record begins and ends within the block.
func (r *Records) Span(row int) (start, end int) { return int(r.spans[row][0]), int(r.spans[row][1]) }
