package delimited

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
	"unicode/utf8"

	"trevak/internal/parse"
)

// Records are the records of one block as positions within it: field c of record r is number r*Width+c. A parser may be
// given the same Records again and again, to reuse its memory.
type Records struct {
	Block *parse.Block
	// Width is the number of fields of each record, 0 when every record was taken with as many as it has.
	Width int
	// Rows is the number of records.
	Rows int
	// Problems are the records that are not among the rows, in order.
	Problems []parse.Problem
	// Surplus are the fields that records have beyond Width, where the parser lets them, in order.
	Surplus []Surplus
	// Repeated counts the records that were the header once more, and so are no data.
	Repeated int

	dialect Dialect
	fields  []span
	starts  []uint32 // per row: offset of the record
	firsts  []uint32 // per row, when Width is 0: number of its first field
}

// span delimits a field's text within the block; the top bits say whether it was quoted and whether it has doubled quotes.
type span struct{ start, end uint32 }

const flag = 1 << 31

// Text returns the field's text as it stands in the block, without the quotes around it, and whether there were any.
// doubled reports that it still has doubled quotes, to be undone with Dialect.Unquote.
func (r *Records) Text(row, column int) (text []byte, quoted, doubled bool) {
	f := r.fields[row*r.Width+column]
	return r.Block.Data[f.start&^flag : f.end&^flag], f.start&flag != 0, f.end&flag != 0
}

// Value is Text with doubled quotes undone, in scratch where that is needed.
func (r *Records) Value(row, column int, scratch *[]byte) (text []byte, quoted bool) {
	text, quoted, doubled := r.Text(row, column)
	if doubled {
		*scratch = r.dialect.Unquote((*scratch)[:0], text)
		text = *scratch
	}
	return text, quoted
}

// Start returns the offset of a record within the block.
func (r *Records) Start(row int) int { return int(r.starts[row]) }

// Span returns where a record begins and ends within the block, its line end included. Width must be set.
func (r *Records) Span(row int) (start, end int) {
	last := int(r.fields[(row+1)*r.Width-1].end &^ flag)
	if n := r.dialect.lineEnd(r.Block.Data[last:]); n >= 0 {
		return r.Start(row), last + n
	}
	return r.Start(row), len(r.Block.Data)
}

// Row returns the texts of a record, whatever its width, with quoting undone.
func (r *Records) Row(row int) []Field {
	first, end := row*r.Width, (row+1)*r.Width
	if r.Width == 0 {
		first, end = int(r.firsts[row]), len(r.fields)
		if row+1 < r.Rows {
			end = int(r.firsts[row+1])
		}
	}
	out := make([]Field, 0, end-first)
	for _, f := range r.fields[first:end] {
		text := r.Block.Data[f.start&^flag : f.end&^flag]
		if f.end&flag != 0 {
			text = r.dialect.Unquote(nil, text)
		}
		out = append(out, Field{Text: string(text), Quoted: f.start&flag != 0})
	}
	return out
}

// Surplus is what one record has beyond its place in the grid.
type Surplus struct {
	// Start is the offset of the record within the block.
	Start int
	// Texts are the fields, the first of which is number Width.
	Texts []string
}

// Field is one field's text.
type Field struct {
	Text   string
	Quoted bool
}

// Parser cuts blocks into Records.
type Parser struct {
	Dialect Dialect
	// Width is how many fields a record has; 0 takes any number.
	Width int
	// Pad fills records that have too few fields with empty ones, and sets aside the surplus of those that have too many. Otherwise
	// both are problems.
	Pad bool
	// SkipBlank makes blank lines no records even where records have one field.
	SkipBlank bool
	// Skip is how many records at the start of the object's first block are not data.
	Skip int
	// Header is the raw text of the header without its line end. A later record of the same text is passed over.
	Header string
}

// Parse fills r with the records of a block. The block's data must stay as it is while r is used.
func (p *Parser) Parse(block *parse.Block, r *Records) {
	*r = Records{Block: block, Width: p.Width, dialect: p.Dialect, fields: r.fields[:0], starts: r.starts[:0], firsts: r.firsts[:0],
		Problems: r.Problems[:0]}
	if guess := len(block.Data) / 8; cap(r.fields) == 0 {
		r.fields = make([]span, 0, guess)
	}
	s := scan{Parser: p, r: r, data: block.Data}
	if block.Index == 0 {
		s.skip = p.Skip
	}
	s.run()
	r.Rows = len(r.starts)
	if !utf8.Valid(block.Data) {
		r.dropInvalid()
	}
}

// dropInvalid makes problems of the records that are not UTF-8.
func (r *Records) dropInvalid() {
	kept, fields := 0, r.fields[:0]
	for row := range r.Rows {
		first, next := row*r.Width, (row+1)*r.Width
		if r.Width == 0 {
			first, next = int(r.firsts[row]), len(r.fields)
			if row+1 < r.Rows {
				next = int(r.firsts[row+1])
			}
		}
		start, end := int(r.starts[row]), int(r.fields[next-1].end&^flag)
		if !utf8.Valid(r.Block.Data[start:end]) {
			r.Problems = append(r.Problems, parse.NotText(r.Block, start, end))
			continue
		}
		r.starts[kept] = r.starts[row]
		if r.Width == 0 {
			r.firsts[kept] = uint32(len(fields))
		}
		fields = append(fields, r.fields[first:next]...)
		kept++
	}
	r.Rows, r.starts, r.fields = kept, r.starts[:kept], fields
	slices.SortFunc(r.Problems, func(a, b parse.Problem) int { return a.Start - b.Start })
}

// scan is the state of cutting one block.
type scan struct {
	*Parser
	r      *Records
	data   []byte
	record int        // where the record begins
	first  int        // number of its first field
	skip   int        // records still to be passed over
	junk   parse.Code // why the record is a problem, if it is
}

const (
	low  = 0x7f7f7f7f7f7f7f7f
	high = 0x8080808080808080
	ones = 0x0101010101010101
)

// matches sets the top bit of each byte of x that is zero, exactly: unlike the shorter well-known form no borrow runs into
// the next byte.
func matches(x uint64) uint64 { return ^((x&low + low) | x | low) }

// run walks over the block eight bytes at a time, stopping only at delimiters and line ends; a field that begins with a
// quote is taken by itself.
func (s *scan) run() {
	data, n := s.data, len(s.data)
	delimiters, lineEnds, returns := uint64(s.Dialect.Delimiter)*ones, uint64('\n')*ones, uint64('\n')*ones
	if s.Dialect.CR {
		returns = '\r' * ones
	}
	simple := s.Dialect.Rest == "" && !s.Dialect.Trim
	start := s.begin(0)
	for start < n {
		if s.Dialect.Trim {
			start = s.skipBlanks(start)
			if start == n {
				break
			}
		}
		if s.Dialect.Quote != 0 && data[start] == s.Dialect.Quote {
			start = s.quoted(start)
			continue
		}
		base := start
		var mask uint64
	field:
		for {
			for mask == 0 {
				if base+8 > n {
					start = s.tail(start, base)
					break field
				}
				w := binary.LittleEndian.Uint64(data[base:])
				mask = matches(w^delimiters) | matches(w^lineEnds)
				if s.Dialect.CR {
					mask |= matches(w ^ returns)
				}
				base += 8
			}
			at := base - 8 + bits.TrailingZeros64(mask)>>3
			mask &= mask - 1
			switch {
			case data[at] == '\n' || data[at] == '\r' && s.Dialect.CR:
				s.plain(start, s.textEnd(start, at))
				next := at + s.Dialect.lineEnd(data[at:])
				if start = s.finish(next); start != at+1 || !simple {
					break field
				}
			case simple:
				s.plain(start, at)
				start = at + 1
			default:
				length := s.Dialect.delimiterAt(data[at:])
				if length == 0 {
					continue
				}
				s.plain(start, at)
				start = at + length
				break field
			}
			if start == n || (data[start] == s.Dialect.Quote && s.Dialect.Quote != 0) {
				break
			}
		}
	}
	s.last()
}

// tail scans the last few bytes of the block, from base on, for the end of the field that began at start.
func (s *scan) tail(start, base int) int {
	for i := base; i < len(s.data); i++ {
		switch c := s.data[i]; {
		case c == '\n', c == '\r' && s.Dialect.CR:
			s.plain(start, s.textEnd(start, i))
			return s.finish(i + s.Dialect.lineEnd(s.data[i:]))
		case c == s.Dialect.Delimiter:
			if length := s.Dialect.delimiterAt(s.data[i:]); length > 0 {
				s.plain(start, i)
				return i + length
			}
		}
	}
	s.plain(start, s.textEnd(start, len(s.data)))
	return len(s.data)
}

func (s *scan) skipBlanks(at int) int {
	for at < len(s.data) && s.Dialect.blank(s.data[at]) {
		at++
	}
	return at
}

// last ends a record that has no line end after it.
func (s *scan) last() {
	n := len(s.data)
	if s.record == n {
		return
	}
	if len(s.r.fields) == s.first || s.Dialect.ends(bytes.TrimRight(s.data[s.record:n], s.blanks())) {
		s.plain(n, n)
	}
	s.finish(n)
}

// blanks are the characters that may stand behind a delimiter at the end of the data and mean nothing.
func (s *scan) blanks() string {
	switch {
	case !s.Dialect.Trim:
		return ""
	case s.Dialect.Delimiter == '\t':
		return " "
	}
	return " \t"
}

func (s *scan) plain(start, end int) {
	if s.Dialect.Trim {
		for end > start && s.Dialect.blank(s.data[end-1]) {
			end--
		}
	}
	s.r.fields = append(s.r.fields, span{uint32(start), uint32(end)})
}

// textEnd returns the end of a field's text before the line end at at, which may have a carriage return before it.
func (s *scan) textEnd(start, at int) int {
	if at > start && s.data[at-1] == '\r' {
		return at - 1
	}
	return at
}

// begin starts a record at or after at, passing over comment lines, and returns where it begins.
func (s *scan) begin(at int) int {
	if s.Dialect.Comment != 0 {
		for at < len(s.data) && s.data[at] == s.Dialect.Comment {
			end := s.Dialect.lineEnd(s.data[at:])
			if end < 0 {
				at = len(s.data)
				break
			}
			at += end
		}
	}
	s.record, s.first, s.junk = at, len(s.r.fields), ""
	return at
}

// finish ends the record whose line end lies just before next, and begins the one after it.
func (s *scan) finish(next int) int {
	fields := s.r.fields[s.first:]
	switch {
	case len(fields) == 1 && (s.Width != 1 || s.SkipBlank) && fields[0].start&flag == 0 && fields[0].start == fields[0].end:
		// A blank line is no record, unless records have one field only.
		s.r.fields = s.r.fields[:s.first]
	case s.skip > 0:
		s.skip--
		s.r.fields = s.r.fields[:s.first]
	case s.Header != "" && s.isHeader(next):
		s.r.Repeated++
		s.r.fields = s.r.fields[:s.first]
	case s.junk != "":
		s.problem(next, s.junk, junkReasons[s.junk], "close the quote at the end of its field, and double a quote within it")
	case s.Width == 0:
		s.r.firsts = append(s.r.firsts, uint32(s.first))
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) == s.Width:
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) < s.Width && s.Pad:
		for range s.Width - len(fields) {
			s.plain(next, next)
		}
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) > s.Width && s.Pad:
		s.setAside(fields[s.Width:])
		s.r.fields = s.r.fields[:s.first+s.Width]
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) < s.Width:
		s.problem(next, parse.TooFewFields, fmt.Sprintf("has %s where %d are expected", fieldCount(len(fields)), s.Width),
			"mend the record, or fill short records with nulls by --ragged pad")
	default:
		s.problem(next, parse.TooManyFields, fmt.Sprintf("has %s where %d are expected", fieldCount(len(fields)), s.Width),
			"mend the record, quoting a field that holds the delimiter, or keep the surplus by --ragged pad")
	}
	return s.begin(next)
}

// setAside keeps the surplus fields of the record.
func (s *scan) setAside(fields []span) {
	out := Surplus{Start: s.record}
	for _, f := range fields {
		text := s.data[f.start&^flag : f.end&^flag]
		if f.end&flag != 0 {
			text = s.Dialect.Unquote(nil, text)
		}
		out.Texts = append(out.Texts, string(text))
	}
	s.r.Surplus = append(s.r.Surplus, out)
}

// isHeader reports whether the record is the header once more.
func (s *scan) isHeader(next int) bool {
	n := next - s.record - len(s.Header)
	return n >= 0 && n <= 2 && string(s.data[s.record:s.record+len(s.Header)]) == s.Header &&
		len(bytes.TrimRight(s.data[s.record+len(s.Header):next], "\r\n")) == 0
}

func fieldCount(n int) string {
	if n == 1 {
		return "1 field"
	}
	return fmt.Sprintf("%d fields", n)
}

// problem takes the record out of the grid.
func (s *scan) problem(next int, code parse.Code, reason, wayOut string) {
	s.r.fields = s.r.fields[:s.first]
	s.r.Problems = append(s.r.Problems, parse.Problem{Start: s.record, End: next, Code: code, Reason: reason, WayOut: wayOut})
}

// junkReasons say what is wrong with a record whose quotes are.
var junkReasons = map[parse.Code]string{
	parse.OpenQuote: "opens a quote that is never closed",
	parse.StrayText: "has text after the closing quote of a field",
}

// quoted takes the field that opens with a quote at start, and returns where the next one begins.
func (s *scan) quoted(start int) int {
	end, doubled := s.Dialect.closing(s.data, start)
	if end < 0 {
		s.junk = parse.OpenQuote
		s.plain(start, len(s.data))
		return len(s.data)
	}
	f := span{uint32(start+1) | flag, uint32(end)}
	if doubled {
		f.end |= flag
	}
	s.r.fields = append(s.r.fields, f)
	i := end + 1
	if s.Dialect.Trim {
		i = s.skipBlanks(i)
	}
	if i < len(s.data) && s.data[i] == '\r' && !s.Dialect.CR && (i+1 == len(s.data) || s.data[i+1] == '\n') {
		i++
	}
	for ; i < len(s.data); i++ {
		switch c := s.data[i]; {
		case c == '\n', c == '\r' && s.Dialect.CR:
			return s.finish(i + s.Dialect.lineEnd(s.data[i:]))
		case c == s.Dialect.Delimiter:
			if length := s.Dialect.delimiterAt(s.data[i:]); length > 0 {
				return i + length
			}
		}
		s.junk = parse.StrayText
	}
	return i
}
