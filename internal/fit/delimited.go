package fit

import (
	"context"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// Delimited fits the records of delimited text. It belongs to one worker.
type Delimited struct {
	schema schema.Schema
	arrow  *arrow.Schema
	filler
	out    Result
	bad    map[int]parse.Problem
	widens bool
	words  []*words // by column, nil for those whose texts are not numbered
	pool   columnPool
}

// NewDelimited prepares for a schema. Nested columns stay null. Where coded is set, columns in which values repeat come as
// Arrow dictionaries, which grow from batch to batch.
func NewDelimited(s schema.Schema, coded bool) *Delimited {
	d := &Delimited{schema: s, arrow: s.Arrow(), words: make([]*words, len(s.Fields)), pool: make(columnPool, mostSpareColumns)}
	room := mostNumbers
	coded = coded && fewColumns(s)
	for i, f := range s.Fields {
		if coded && numbered(f.Type.Kind) && !f.Opened {
			d.words[i] = newWords(f, &room)
		}
	}
	return d
}

// Fit makes a batch of the records, reading those that are not read yet. fields gives for each column of the schema the number
// of its field in the records, or -1 where the object does not have it and the column is null.
//
// kept are fields without a column, whose values are misfits.
func (d *Delimited) Fit(r *delimited.Records, fields []int, kept []Kept) Result {
	d.out, d.bad, d.widens = Result{}, nil, false
	r.More(lexical.Together)
	columns := d.columns(r, fields)
	for from := 0; from < r.Rows; r.More(rowsAtATime(r)) {
		for i, field := range fields {
			if d.column(columns[i], r, field, from, r.Rows); d.widens {
				break
			}
		}
		if from = r.Rows; d.widens {
			r.More(math.MaxInt)
			break
		}
	}
	for i, c := range columns {
		if c.nulls > 0 && c.required() && !d.widens {
			d.refuseNulls(columns[i], r)
		}
		if c.words != nil {
			c.words.looked += r.Rows - c.nulls
		}
	}
	if d.widens {
		for row := range r.Rows {
			if p, ok := d.bad[row]; ok {
				d.out.Problems = append(d.out.Problems, p)
			}
		}
		return d.out
	}
	count(&d.out, columns)
	d.keep(r, kept)
	if len(d.bad) == 0 {
		d.out.Batch, d.out.pool, d.out.columns = batch(d.arrow, columns, r.Rows), d.pool, columns
		return d.out
	}
	d.without(r, columns)
	return d.out
}

// columns prepares for the records of a block, in the memory of a batch that is done with where there is one.
func (d *Delimited) columns(r *delimited.Records, fields []int) []*column {
	if d.rows = r.Rows; r.Rows > 1 {
		// There are about as many more as those so far foretell.
		start := r.Start(r.Rows - 1)
		d.rows += (len(r.Block.Data) - start) * r.Rows / start
	}
	d.share = len(r.Block.Data) / max(1, r.Width)
	columns := d.pool.get()
	if columns == nil {
		columns = make([]*column, len(fields))
	}
	for i, field := range fields {
		w := d.words[i]
		if field < 0 || w != nil && !w.pays() {
			w = nil
		}
		switch {
		case columns[i] != nil && columns[i].words == w:
		case w != nil:
			columns[i] = newCoded(d.schema.Fields[i], d.rows, w)
		default:
			columns[i] = newColumn(d.schema.Fields[i], nil, d.rows)
		}
	}
	return columns
}

// Kept is a field without a column, by its number, and its name in the source.
type Kept struct {
	Field int
	Name  string
}

// keep makes misfits of the values of fields without a column.
func (d *Delimited) keep(r *delimited.Records, kept []Kept) {
	for _, k := range kept {
		for row := range r.Rows {
			if text, quoted := r.Value(row, k.Field, &d.scratch); len(text) > 0 || quoted {
				d.out.Misfits = append(d.out.Misfits,
					Misfit{Row: row, Start: r.Start(row), Column: k.Name, Of: k.Name, Text: string(text)})
			}
		}
	}
}

// rowsAtATime is how many records go through all columns before the next do: so few that their texts and places stay near the
// processor, as every column goes through all of them, and as many as are read together.
func rowsAtATime(r *delimited.Records) int {
	const cache, place = 96 << 10, 8
	rows := cache / (1 + r.Start(r.Rows-1)/r.Rows + place*r.Width)
	return max(1, rows/lexical.Together) * lexical.Together
}

// column fills one column with the values of some records.
func (d *Delimited) column(c *column, r *delimited.Records, field, from, to int) {
	if field >= 0 && c.field.Opened && !c.field.Skip {
		d.openColumn(c, r, field, from, to)
		return
	}
	if field < 0 || c.field.Skip || c.field.Type.Nested() {
		for range to - from {
			c.null()
		}
		return
	}
	in := r.Column(field)
	for row := d.fill(c, &in, from, to); row >= 0; row = d.fill(c, &in, row+1, to) {
		text, _ := r.Value(row, field, &d.scratch)
		widens := c.asksWider(text)
		if widens || c.required() {
			start, end := r.Span(row)
			d.refuse(row, unfit(start, end, c, text, widens))
		} else {
			d.out.Misfits = append(d.out.Misfits, Misfit{Row: row, Start: r.Start(row), Column: c.field.Name, Of: c.field.Name,
				Known: true, Text: string(text)})
		}
		if widens {
			d.widens = true
			return
		}
		c.null()
	}
}

func (d *Delimited) refuse(row int, p parse.Problem) {
	if d.bad == nil {
		d.bad = map[int]parse.Problem{}
	}
	if _, known := d.bad[row]; !known || p.Widens {
		d.bad[row] = p
	}
}

// refuseNulls makes bad records of those without a value in a required column.
func (d *Delimited) refuseNulls(c *column, r *delimited.Records) {
	for row := range r.Rows {
		if c.isNull(row) {
			start, end := r.Span(row)
			d.refuse(row, lacking(start, end, c))
		}
	}
}

// without makes a batch of the good records and lists the problems of the others in order.
func (d *Delimited) without(r *delimited.Records, columns []*column) {
	var good []int32
	moved := make([]int, r.Rows)
	for row := range r.Rows {
		if p, ok := d.bad[row]; ok {
			d.out.Problems = append(d.out.Problems, p)
			moved[row] = -1
		} else {
			moved[row] = len(good)
			good = append(good, int32(row))
		}
	}
	kept := d.out.Misfits[:0]
	for _, m := range d.out.Misfits {
		if m.Row = moved[m.Row]; m.Row >= 0 {
			kept = append(kept, m)
		}
	}
	d.out.Misfits = kept
	taken := make([]arrow.Array, len(columns))
	for i, c := range columns {
		if c.words != nil {
			columns[i] = c.uncoded(c.n)
		}
	}
	indices := array.NewInt32Data(array.NewData(arrow.PrimitiveTypes.Int32, len(good),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(good))}, nil, 0, 0))
	for i, c := range columns {
		whole := array.MakeFromData(c.data())
		var err error
		if taken[i], err = compute.TakeArray(context.Background(), whole, indices); err != nil {
			// Taking rows by positions within them cannot fail.
			panic(err)
		}
	}
	d.out.Batch = array.NewRecordBatch(d.arrow, taken, int64(len(good)))
}
