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
	grows   bool
	scratch []byte
}

// NewDelimited prepares for a schema whose columns are all scalar. grows says that a value which an inferred column does not take
// asks for a wider schema; otherwise its record is bad.
func NewDelimited(s schema.Schema, grows bool) *Delimited {
	return &Delimited{schema: s, arrow: s.Arrow(), grows: grows}
}

// Fit makes a batch of the records. fields gives for each column of the schema the number of its field in the records, or -1
// where the object does not have it and the column is null. A record with a value that does not fit is left out and described;
// a value that asks for a wider schema ends the work, and there is no batch.
func (d *Delimited) Fit(r *delimited.Records, fields []int) (arrow.RecordBatch, []parse.Problem) {
	columns := make([]*column, len(fields))
	bad := map[int]parse.Problem{}
	for i, field := range fields {
		columns[i] = newColumn(d.schema.Fields[i], nil, r.Rows)
		if field < 0 {
			for range r.Rows {
				columns[i].null()
			}
			continue
		}
		f := &d.schema.Fields[i]
		for row := d.fill(columns[i], r, field, 0); row >= 0; row = d.fill(columns[i], r, field, row+1) {
			if _, known := bad[row]; !known {
				text, _ := r.Value(row, field, &d.scratch)
				start, end := r.Span(row)
				bad[row] = misfit(start, end, f.Source(), f, text, d.grows)
			}
			if bad[row].Widens {
				break
			}
			columns[i].null()
		}
	}
	if len(bad) == 0 {
		return batch(d.arrow, columns, r.Rows), nil
	}
	return d.without(r, columns, bad)
}

// without makes a batch of the good records and lists the problems of the others in order.
func (d *Delimited) without(r *delimited.Records, columns []*column, bad map[int]parse.Problem) (arrow.RecordBatch, []parse.Problem) {
	var problems []parse.Problem
	var good []int32
	widens := false
	for row := range r.Rows {
		if p, ok := bad[row]; ok {
			problems = append(problems, p)
			widens = widens || p.Widens
		} else {
			good = append(good, int32(row))
		}
	}
	if widens {
		return nil, problems
	}
	taken := make([]arrow.Array, len(columns))
	indices := array.NewInt32Data(array.NewData(arrow.PrimitiveTypes.Int32, len(good),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(good))}, nil, 0, 0))
	for i, c := range columns {
		whole := array.MakeFromData(c.data())
		var err error
		if taken[i], err = compute.TakeArray(context.Background(), whole, indices); err != nil {
			// Taking rows of scalar columns by positions within them cannot fail.
			panic(err)
		}
	}
	return array.NewRecordBatch(d.arrow, taken, int64(len(good))), problems
}

// fill appends one field of the records from a row on to a column, and returns the first row whose value does not fit, or -1. The loops for
// the common types stand by themselves, so that nothing is decided anew for each value.
func (d *Delimited) fill(c *column, r *delimited.Records, field, from int) int {
	switch c.field.Type.Kind {
	case schema.String:
		return d.fillText(c, r, field, from)
	case schema.Long:
		if !c.field.Pinned {
			return fillLongs(c, r, field, from, lexical.Long)
		}
	case schema.Double:
		if !c.field.Pinned {
			return fillDoubles(c, r, field, from)
		}
	case schema.Timestamp, schema.TimestampTz:
		zoned := c.field.Type.Kind == schema.TimestampTz
		return fillLongs(c, r, field, from, func(b []byte) (int64, bool) { return parseTimestamp(zoned, b) })
	}
	for row := from; row < r.Rows; row++ {
		text, quoted := r.Value(row, field, &d.scratch)
		if c.absent(text, quoted) {
			c.null()
			continue
		}
		if !c.scalar(text) {
			return row
		}
	}
	return -1
}

// absent reports whether a field holds no value: it is empty and, unless nothing else than emptiness could be meant in a
// pinned column, not quoted.
func (c *column) absent(text []byte, quoted bool) bool {
	return len(text) == 0 && (!quoted || c.field.Pinned)
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
		if c.field.Unseen || len(c.bytes)+len(text) > math.MaxInt32 {
			return row
		}
		c.mark(true)
		c.bytes = append(c.bytes, text...)
		c.offsets = append(c.offsets, int32(len(c.bytes)))
	}
	return -1
}

func fillLongs(c *column, r *delimited.Records, field, from int, read func([]byte) (int64, bool)) int {
	for row := from; row < r.Rows; row++ {
		text, quoted, _ := r.Text(row, field)
		if c.absent(text, quoted) {
			c.null()
			continue
		}
		v, ok := read(text)
		if !ok {
			return row
		}
		c.mark(true)
		c.longs = append(c.longs, v)
	}
	return -1
}

func fillDoubles(c *column, r *delimited.Records, field, from int) int {
	for row := from; row < r.Rows; row++ {
		text, quoted, _ := r.Text(row, field)
		if c.absent(text, quoted) {
			c.null()
			continue
		}
		v, ok := lexical.Double(text)
		if !ok {
			return row
		}
		c.mark(true)
		c.doubles = append(c.doubles, v)
	}
	return -1
}
