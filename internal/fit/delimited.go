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
	schema  schema.Schema
	arrow   *arrow.Schema
	scratch []byte
	out     Result
	bad     map[int]parse.Problem
	widens  bool
}

// NewDelimited prepares for a schema. Nested columns stay null.
func NewDelimited(s schema.Schema) *Delimited {
	return &Delimited{schema: s, arrow: s.Arrow()}
}

// Fit makes a batch of the records. fields gives for each column of the schema the number of its field in the records, or -1
// where the object does not have it and the column is null.
//
// kept are fields without a column, whose values are misfits.
func (d *Delimited) Fit(r *delimited.Records, fields []int, kept []Kept) Result {
	d.out, d.bad, d.widens = Result{}, nil, false
	columns := make([]*column, len(fields))
	for i, field := range fields {
		columns[i] = newColumn(d.schema.Fields[i], nil, r.Rows)
		d.column(columns[i], r, field)
		if d.widens {
			break
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
		d.out.Batch = batch(d.arrow, columns, r.Rows)
		return d.out
	}
	d.without(r, columns)
	return d.out
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
				d.out.Misfits = append(d.out.Misfits, Misfit{Row: row, Start: r.Start(row), Column: k.Name, Of: k.Name, Text: string(text)})
			}
		}
	}
}

// column fills one column.
func (d *Delimited) column(c *column, r *delimited.Records, field int) {
	if field < 0 || c.field.Skip || c.field.Type.Nested() {
		for range r.Rows {
			c.null()
		}
		if c.required() {
			d.refuseNulls(c, r)
		}
		return
	}
	for row := d.fill(c, r, field, 0); row >= 0; row = d.fill(c, r, field, row+1) {
		text, _ := r.Value(row, field, &d.scratch)
		widens := c.asksWider(text)
		if widens || c.required() {
			start, end := r.Span(row)
			d.refuse(row, unfit(start, end, c, text, widens))
		} else {
			d.out.Misfits = append(d.out.Misfits, Misfit{Row: row, Start: r.Start(row), Column: c.field.Name, Of: c.field.Name, Known: true, Text: string(text)})
		}
		if widens {
			d.widens = true
			return
		}
		c.null()
	}
	if c.nulls > 0 && c.required() {
		d.refuseNulls(c, r)
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

// fill appends one field of the records from a row on to a column, and returns the first row whose value does not fit, or -1. The loops for
// the common types stand by themselves, so that nothing is decided anew for each value.
func (d *Delimited) fill(c *column, r *delimited.Records, field, from int) int {
	switch kind := c.field.Type.Kind; {
	case kind == schema.String:
		return d.fillText(c, r, field, from)
	case kind == schema.Long && c.reader.usual():
		return fillLongs(c, r, field, from, lexical.Long)
	case kind == schema.Double && c.reader.usual():
		return fillDoubles(c, r, field, from)
	case (kind == schema.Timestamp || kind == schema.TimestampTz) && c.reader.pattern == nil:
		zoned := kind == schema.TimestampTz
		return fillLongs(c, r, field, from, func(b []byte) (int64, bool) { return timestamp(zoned, b) })
	}
	for row := from; row < r.Rows; row++ {
		text, quoted := r.Value(row, field, &d.scratch)
		switch {
		case len(text) == 0 && !quoted:
			c.null()
		case !c.scalar(text) && !c.token(text):
			return row
		}
	}
	return -1
}

// token appends a null for a word that stands for one.
func (c *column) token(text []byte) bool {
	if !c.isNullToken(text) {
		return false
	}
	c.null()
	c.tokens++
	return true
}

func (d *Delimited) fillText(c *column, r *delimited.Records, field, from int) int {
	if from == 0 {
		c.bytes = make([]byte, 0, len(r.Block.Data)/max(1, r.Width))
	}
	for row := from; row < r.Rows; row++ {
		text, quoted, doubled := r.Text(row, field)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		if doubled {
			text, _ = r.Value(row, field, &d.scratch)
		}
		if c.reader.nulls != nil && c.token(text) {
			continue
		}
		if c.field.Unseen || len(c.bytes)+len(text) > math.MaxInt32 {
			return row
		}
		c.mark(true)
		c.measure(text)
		c.bytes = append(c.bytes, text...)
		c.offsets = append(c.offsets, int32(len(c.bytes)))
	}
	return -1
}

func fillLongs(c *column, r *delimited.Records, field, from int, read func([]byte) (int64, bool)) int {
	for row := from; row < r.Rows; row++ {
		text, quoted, doubled := r.Text(row, field)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		v, ok := read(text)
		if !ok {
			if !doubled && c.token(text) {
				continue
			}
			return row
		}
		c.mark(true)
		c.longs = append(c.longs, v)
	}
	return -1
}

func fillDoubles(c *column, r *delimited.Records, field, from int) int {
	for row := from; row < r.Rows; row++ {
		text, quoted, doubled := r.Text(row, field)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		v, ok := lexical.Double(text)
		if !ok {
			if v, ok = lexical.Special(text); !ok {
				if !doubled && c.token(text) {
					continue
				}
				return row
			}
		}
		c.mark(true)
		c.doubles = append(c.doubles, v)
	}
	return -1
}
