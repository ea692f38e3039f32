package delimited

import (
	"math"
	"slices"
	"unicode/utf8"

	"trevak/internal/parse"
	"trevak/internal/parse/cells"
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
	// Padded counts the records that had too few fields and were filled.
	Padded int

	dialect Dialect
	scan    *scan
	fields  []cells.Span
	starts  []uint32 // per row: offset of the record
	firsts  []uint32 // per row, when Width is 0: number of its first field
}

// Column returns the texts of one field of all records, which are those read so far. They are r's, whose dialect undoes their
// doubled quotes.
func (r *Records) Column(field int) cells.Column {
	return cells.Column{Data: r.Block.Data, Spans: r.fields[min(field, len(r.fields)):], Stride: r.Width, Unquoter: &r.dialect}
}

// Text returns the field's text as it stands in the block, without the quotes around it, and whether there were any.
// doubled reports that it still has doubled quotes, to be undone with Dialect.Unquote.
func (r *Records) Text(row, column int) (text []byte, quoted, doubled bool) {
	f := r.fields[row*r.Width+column]
	return f.Text(r.Block.Data), f.Quoted(), f.Escaped()
}

// Place returns where the field's text lies within the block, without the quotes around it; quoted and doubled are as Text has them.
func (r *Records) Place(row, column int) (start, end int, quoted, doubled bool) {
	f := r.fields[row*r.Width+column]
	return int(f.Start &^ cells.Flag), int(f.End &^ cells.Flag), f.Quoted(), f.Escaped()
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
	last := int(r.fields[(row+1)*r.Width-1].End &^ cells.Flag)
	if n := r.dialect.lineEnd(r.Block.Data[last:]); n >= 0 {
		return r.Start(row), last + n
	}
	return r.Start(row), len(r.Block.Data)
}

// Row returns the texts of a record, whatever its width, with quoting undone.
func (r *Records) Row(row int) []Field {
	fields := r.spans(row)
	out := make([]Field, 0, len(fields))
	for _, f := range fields {
		text := f.Text(r.Block.Data)
		if f.Escaped() {
			text = r.dialect.Unquote(nil, text)
		}
		out = append(out, Field{Text: string(text), Quoted: f.Quoted()})
	}
	return out
}

// spans returns the fields of a record.
func (r *Records) spans(row int) []cells.Span {
	if r.Width > 0 {
		return r.fields[row*r.Width : (row+1)*r.Width]
	}
	end := len(r.fields)
	if row+1 < r.Rows {
		end = int(r.firsts[row+1])
	}
	return r.fields[r.firsts[row]:end]
}

// Table returns the texts of all records as Row does. They share one copy of the block.
func (r *Records) Table() [][]Field {
	data := string(r.Block.Data)
	rows, all := make([][]Field, r.Rows), make([]Field, 0, len(r.fields))
	for row := range rows {
		first := len(all)
		for _, f := range r.spans(row) {
			text := data[f.Start&^cells.Flag : f.End&^cells.Flag]
			if f.Escaped() {
				text = string(r.dialect.Unquote(nil, []byte(text)))
			}
			all = append(all, Field{Text: text, Quoted: f.Quoted()})
		}
		rows[row] = all[first:len(all):len(all)]
	}
	return rows
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
	// Least is how many fields a record must have to be filled with empty ones, where Pad is not set; 0 fills none.
	Least int
	// SkipBlank makes blank lines no records even where records have one field.
	SkipBlank bool
	// Skip is how many records at the start of the object's first block are not data.
	Skip int
	// Header is the raw text of the header without its line end. A later record of the same text is passed over.
	Header string
}

// Parse fills r with the records of a block. The block's data must stay as it is while r is used.
func (p *Parser) Parse(block *parse.Block, r *Records) {
	p.Begin(block, r)
	r.More(math.MaxInt)
}

// Begin prepares r for the records of a block, which Records.More then reads. The block's data must stay as it is while r is used.
func (p *Parser) Begin(block *parse.Block, r *Records) {
	*r = Records{Block: block, Width: p.Width, dialect: p.Dialect, fields: r.fields[:0], starts: r.starts[:0], firsts: r.firsts[:0],
		Problems: r.Problems[:0], scan: r.scan}
	if guess := len(block.Data) / 8; cap(r.fields) == 0 {
		r.fields = make([]cells.Span, 0, guess)
	}
	if r.scan == nil {
		r.scan = new(scan)
	}
	r.scan.begin(p, r)
}

// More reads so many more rows, or what is left of the block, so that they can be worked on while they are near the processor.
// It reports whether there are any.
func (r *Records) More(rows int) bool {
	known := r.Rows
	for r.Rows == known && !r.scan.done {
		// The scan may have ended within a record.
		from := r.scan.record
		plain := r.scan.run(max(rows, known+rows))
		r.Rows = len(r.starts)
		if !plain && !utf8.Valid(r.Block.Data[from:r.scan.next]) {
			r.dropInvalid(known)
		}
	}
	return r.Rows > known
}

// dropInvalid makes problems of the records from a row on that are not UTF-8.
func (r *Records) dropInvalid(from int) {
	if from == r.Rows {
		return
	}
	kept, fields := from, r.fields[:from*r.Width]
	if r.Width == 0 {
		fields = r.fields[:r.firsts[from]]
	}
	begun := slices.Clone(r.fields[r.scan.first:])
	for row := from; row < r.Rows; row++ {
		first, next := row*r.Width, (row+1)*r.Width
		if r.Width == 0 {
			first, next = int(r.firsts[row]), len(r.fields)
			if row+1 < r.Rows {
				next = int(r.firsts[row+1])
			}
		}
		start, end := int(r.starts[row]), int(r.fields[next-1].End&^cells.Flag)
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
	if r.Width == 0 {
		r.firsts = r.firsts[:kept]
	}
	r.scan.first = len(fields)
	r.fields = append(r.fields, begun...)
	slices.SortFunc(r.Problems, func(a, b parse.Problem) int { return a.Start - b.Start })
}
