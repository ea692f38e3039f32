// Package fit turns raw fields into typed Arrow columns under a schema.
//
// What comes in are the records of a block; what goes out is a record batch with a row for each that became one, and the
// problems of those that did not. Values are written from the block's bytes straight into column buffers.
//
// A column that inference settled takes only what inference would have given that type, so a value beyond it is noticed and
// nothing is lost; a pinned column takes every spelling of its type.
package fit

import (
	"fmt"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/schema"
)

// column collects the values of one column or part.
type column struct {
	field schema.Field
	path  string // names in the source from the outermost column on, with dots between them
	dt    arrow.DataType
	n     int    // values so far, nulls included
	nulls int    //
	valid []byte // bitmap, nil while there are no nulls

	longs    []int64   // long, time, timestamps
	ints     []int32   // int, date
	doubles  []float64 // double
	floats   []float32 // float
	bits     []byte    // boolean
	offsets  []int32   // string, list: where each value begins, and the end of the last
	bytes    []byte    // string
	children []*column // struct
	index    map[string]int
	element  *column // list
	stamp    int     // the object in which a member was last seen, counted by its parent
	objects  int
}

func newColumn(f schema.Field, parent *column, rows int) *column {
	c := &column{field: f, path: parent.part(f.Source()), dt: f.Type.Arrow()}
	switch f.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz:
		c.longs = make([]int64, 0, rows)
	case schema.Int, schema.Date:
		c.ints = make([]int32, 0, rows)
	case schema.Double:
		c.doubles = make([]float64, 0, rows)
	case schema.Float:
		c.floats = make([]float32, 0, rows)
	case schema.Boolean:
		c.bits = make([]byte, 0, (rows+7)/8)
	case schema.String:
		c.offsets = append(make([]int32, 0, rows+1), 0)
	case schema.List:
		c.offsets = append(make([]int32, 0, rows+1), 0)
		c.element = newColumn(*f.Type.Element, c, rows)
	case schema.Struct:
		c.index = make(map[string]int, len(f.Type.Fields))
		for i, part := range f.Type.Fields {
			c.index[part.Source()] = i
			c.children = append(c.children, newColumn(part, c, rows))
		}
	}
	return c
}

// part returns the path of a part of the column.
func (c *column) part(name string) string {
	if c == nil || c.path == "" {
		return name
	}
	return c.path + "." + name
}

// mark notes whether the next value is there; the caller then appends it.
func (c *column) mark(valid bool) {
	switch {
	case !valid:
		if c.valid == nil {
			c.valid = make([]byte, (c.n+8)/8)
			for i := range c.valid {
				c.valid[i] = 0xff
			}
		}
		c.nulls++
		if c.n%8 == 0 && c.n/8 == len(c.valid) {
			c.valid = append(c.valid, 0xfe)
		} else {
			c.valid[c.n/8] &^= 1 << (c.n % 8)
		}
	case c.valid != nil:
		if c.n/8 == len(c.valid) {
			c.valid = append(c.valid, 0xff)
		}
	}
	c.n++
}

// null appends a null.
func (c *column) null() {
	c.mark(false)
	switch c.field.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz:
		c.longs = append(c.longs, 0)
	case schema.Int, schema.Date:
		c.ints = append(c.ints, 0)
	case schema.Double:
		c.doubles = append(c.doubles, 0)
	case schema.Float:
		c.floats = append(c.floats, 0)
	case schema.Boolean:
		c.bit(false)
	case schema.String:
		c.offsets = append(c.offsets, int32(len(c.bytes)))
	case schema.List:
		c.offsets = append(c.offsets, int32(c.element.n))
	case schema.Struct:
		for _, child := range c.children {
			child.null()
		}
	}
}

// bit appends to the values of a boolean column whose mark was made.
func (c *column) bit(value bool) {
	at := c.n - 1
	if at/8 == len(c.bits) {
		c.bits = append(c.bits, 0)
	}
	if value {
		c.bits[at/8] |= 1 << (at % 8)
	}
}

// text appends a string.
func (c *column) text(b []byte) bool {
	if c.field.Unseen || len(c.bytes)+len(b) > math.MaxInt32 {
		return false
	}
	c.mark(true)
	c.bytes = append(c.bytes, b...)
	c.offsets = append(c.offsets, int32(len(c.bytes)))
	return true
}

// scalar appends a value of the column's type from its text, and reports whether it fits.
func (c *column) scalar(b []byte) bool {
	pinned := c.field.Pinned
	switch c.field.Type.Kind {
	case schema.String:
		return c.text(b)
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz:
		v, ok := parseLong(c.field.Type.Kind, pinned, b)
		if ok {
			c.mark(true)
			c.longs = append(c.longs, v)
		}
		return ok
	case schema.Int, schema.Date:
		v, ok := parseInt(c.field.Type.Kind, b)
		if ok {
			c.mark(true)
			c.ints = append(c.ints, v)
		}
		return ok
	case schema.Double, schema.Float:
		v, ok := parseDouble(pinned, b)
		if ok {
			c.mark(true)
			if c.field.Type.Kind == schema.Double {
				c.doubles = append(c.doubles, v)
			} else {
				c.floats = append(c.floats, float32(v))
			}
		}
		return ok
	case schema.Boolean:
		v, ok := parseBoolean(pinned, b)
		if ok {
			c.mark(true)
			c.bit(v)
		}
		return ok
	}
	return false
}

// parseLong reads a value that is kept in 64 bits.
func parseLong(kind schema.Kind, pinned bool, b []byte) (int64, bool) {
	switch kind {
	case schema.Time:
		return lexical.Time(b)
	case schema.Timestamp, schema.TimestampTz:
		return parseTimestamp(kind == schema.TimestampTz, b)
	}
	if pinned {
		return lexical.StatedLong(b)
	}
	return lexical.Long(b)
}

// parseTimestamp reads a timestamp with or without a zone as the column wants it; a date alone is its midnight where no zone
// is wanted.
func parseTimestamp(zoned bool, b []byte) (int64, bool) {
	v, hasZone, ok := lexical.Timestamp(b)
	if ok {
		return v, hasZone == zoned
	}
	if zoned {
		return 0, false
	}
	days, ok := lexical.Date(b)
	return int64(days) * lexical.MicrosPerDay, ok
}

// parseInt reads a value that is kept in 32 bits; int occurs as a pin only.
func parseInt(kind schema.Kind, b []byte) (int32, bool) {
	if kind == schema.Date {
		return lexical.Date(b)
	}
	v, ok := lexical.StatedLong(b)
	return int32(v), ok && v >= math.MinInt32 && v <= math.MaxInt32
}

func parseDouble(pinned bool, b []byte) (float64, bool) {
	if pinned {
		return lexical.StatedDouble(b)
	}
	return lexical.Double(b)
}

func parseBoolean(pinned bool, b []byte) (value, ok bool) {
	if pinned {
		return lexical.StatedBoolean(b)
	}
	return lexical.Boolean(b)
}

// data hands over what was collected. The column must not be used afterwards.
func (c *column) data() *array.Data {
	buffers := []*memory.Buffer{nil}
	if c.nulls > 0 {
		buffers[0] = memory.NewBufferBytes(c.valid)
	}
	var children []arrow.ArrayData
	add := func(b []byte) { buffers = append(buffers, memory.NewBufferBytes(b)) }
	switch c.field.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz:
		add(arrow.Int64Traits.CastToBytes(c.longs))
	case schema.Int, schema.Date:
		add(arrow.Int32Traits.CastToBytes(c.ints))
	case schema.Double:
		add(arrow.Float64Traits.CastToBytes(c.doubles))
	case schema.Float:
		add(arrow.Float32Traits.CastToBytes(c.floats))
	case schema.Boolean:
		add(c.bits)
	case schema.String:
		add(arrow.Int32Traits.CastToBytes(c.offsets))
		add(c.bytes)
	case schema.List:
		add(arrow.Int32Traits.CastToBytes(c.offsets))
		children = append(children, c.element.data())
	case schema.Struct:
		for _, child := range c.children {
			children = append(children, child.data())
		}
	}
	return array.NewData(c.dt, c.n, buffers, children, c.nulls, 0)
}

// truncate takes back every value after the first n, so that a record that turns out bad half-way leaves no trace.
func (c *column) truncate(n int) {
	if c.n > n {
		c.trimBits(n)
		c.n = n
	}
	// A list or struct may have parts of a value that it does not have itself yet.
	switch c.field.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz:
		c.longs = c.longs[:n]
	case schema.Int, schema.Date:
		c.ints = c.ints[:n]
	case schema.Double:
		c.doubles = c.doubles[:n]
	case schema.Float:
		c.floats = c.floats[:n]
	case schema.String:
		c.offsets = c.offsets[:n+1]
		c.bytes = c.bytes[:c.offsets[n]]
	case schema.List:
		c.offsets = c.offsets[:n+1]
		c.element.truncate(int(c.offsets[n]))
	case schema.Struct:
		for _, child := range c.children {
			child.truncate(n)
		}
	}
}

// trimBits puts the bits after the first n back to what mark and bit expect of values to come.
func (c *column) trimBits(n int) {
	if c.valid != nil {
		for i := n; i < c.n; i++ {
			if c.valid[i/8]>>(i%8)&1 == 0 {
				c.nulls--
			}
		}
		c.valid = c.valid[:(n+7)/8]
		if n%8 > 0 {
			c.valid[n/8] |= 0xff << (n % 8)
		}
	}
	if c.field.Type.Kind == schema.Boolean {
		c.bits = c.bits[:(n+7)/8]
		if n%8 > 0 {
			c.bits[n/8] &= 1<<(n%8) - 1
		}
	}
}

// Constant makes a column that holds one value n times, read from its text; ok is false where the text is no value of the type.
func Constant(f schema.Field, text string, n int) (values arrow.Array, ok bool) {
	c := newColumn(f, nil, n)
	for range n {
		if !c.scalar([]byte(text)) {
			return nil, false
		}
	}
	return array.MakeFromData(c.data()), true
}

// batch makes a record batch of columns.
func batch(s *arrow.Schema, columns []*column, rows int) arrow.RecordBatch {
	arrays := make([]arrow.Array, len(columns))
	for i, c := range columns {
		arrays[i] = array.MakeFromData(c.data())
	}
	return array.NewRecordBatch(s, arrays, int64(rows))
}

// misfit describes a value that does not fit its column. start and end delimit its record; grows says that the schema may.
func misfit(start, end int, name string, f *schema.Field, value []byte, grows bool) parse.Problem {
	return parse.Problem{Start: start, End: end, Code: parse.DoesNotFit, Column: name, Value: string(value), Widens: grows && !f.Pinned,
		Reason: fmt.Sprintf("is not %s %s", article(f.Type.Kind), f.Type),
		WayOut: fmt.Sprintf("mend the value, or keep the column as text with --type '%s=string'", name)}
}

func article(k schema.Kind) string {
	if k == schema.Int {
		return "an"
	}
	return "a"
}
