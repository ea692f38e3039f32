package fit

import (
	"math"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/lexical"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// Delimited fits the records of delimited text. It belongs to one worker.
type Delimited struct {
	schema  schema.Schema
	arrow   *arrow.Schema
	scratch []byte
}

// NewDelimited prepares for a schema whose columns are all scalar.
func NewDelimited(s schema.Schema) *Delimited { return &Delimited{schema: s, arrow: s.Arrow()} }

// Fit makes a batch of the records. fields gives for each column of the schema the number of its field in the records, or -1
// where the object does not have it and the column is null.
func (d *Delimited) Fit(r *delimited.Records, fields []int) (arrow.RecordBatch, *Misfit) {
	columns := make([]*column, len(fields))
	var first *Misfit
	for i, field := range fields {
		columns[i] = newColumn(d.schema.Fields[i], nil, r.Rows)
		if field < 0 {
			for range r.Rows {
				columns[i].null()
			}
			continue
		}
		if row := d.fill(columns[i], r, field); row >= 0 && (first == nil || r.Start(row) < first.Start) {
			text, _ := r.Value(row, field, &d.scratch)
			f := &d.schema.Fields[i]
			first = misfit(r.Start(row), f.Source(), f, text)
		}
	}
	if first != nil {
		return nil, first
	}
	return batch(d.arrow, columns, r.Rows), nil
}

// fill appends one field of every record to a column and returns the first row whose value does not fit, or -1. The loops for
// the common types stand by themselves, so that nothing is decided anew for each value.
func (d *Delimited) fill(c *column, r *delimited.Records, field int) int {
	switch c.field.Type.Kind {
	case schema.String:
		return d.fillText(c, r, field)
	case schema.Long:
		if !c.field.Pinned {
			return fillLongs(c, r, field, lexical.Long)
		}
	case schema.Double:
		if !c.field.Pinned {
			return fillDoubles(c, r, field)
		}
	case schema.Timestamp, schema.TimestampTz:
		zoned := c.field.Type.Kind == schema.TimestampTz
		return fillLongs(c, r, field, func(b []byte) (int64, bool) { return parseTimestamp(zoned, b) })
	}
	for row := range r.Rows {
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

func (d *Delimited) fillText(c *column, r *delimited.Records, field int) int {
	c.bytes = make([]byte, 0, len(r.Block.Data)/max(1, r.Width))
	for row := range r.Rows {
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

func fillLongs(c *column, r *delimited.Records, field int, read func([]byte) (int64, bool)) int {
	for row := range r.Rows {
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

func fillDoubles(c *column, r *delimited.Records, field int) int {
	for row := range r.Rows {
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
