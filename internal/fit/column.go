package fit

import (
	"encoding/binary"
	"math"
	"math/bits"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/parse/cells"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

// column collects the values of one column or part.
// What every value needs comes first, so that it lies together in memory.
type column struct {
	literal  json.Key     // a key of JSON that is the column's
	stamp    int          // the object in which a member was last seen, counted by its parent
	position int          // among the members of its parent
	outlined outlined     // what an outline takes for its values
	spans    []cells.Span // where values are that are not read yet
	objects  int          // that were met, of a struct
	kind     schema.Kind  // of the field
	coded    bool         // the values of parts may be numbered
	n        int          // values so far, nulls included
	valid    []byte       // bitmap, nil while there are no nulls
	words    *words       // nil where the values themselves are collected
	codes    []uint32     // their numbers
	longs    []int64      // long, time, timestamps
	doubles  []float64    // double

	children []*column // struct
	needed   []*column // the children that must have values
	element  *column   // list, map
	offsets  []int32   // string, binary, list, map: where each value begins, and the end of the last
	bytes    []byte    // string, binary, uuid
	bits     []byte    // boolean
	nulls    int
	tokens   int64 // values that were null tokens
	// tokensBefore is how many there were before the texts that are being read.
	tokensBefore int64
	longest      int              // text, in characters
	cut          bool             // values were taken back
	ints         []int32          // int, date
	floats       []float32        // float
	decimals     []decimal128.Num // decimal
	key          *column          // map
	index        schema.Index     // of the children
	omit         map[string]bool  // members that are passed over
	parent       *column
	path         string // names in the source from the outermost column on, with dots between them
	dt           arrow.DataType
	reader       reader
	field        schema.Field
}

// newColumn prepares for the values of a field. The field's notation must be one that its type has.
func newColumn(f schema.Field, parent *column, rows int) *column {
	c := &column{field: f, kind: f.Type.Kind, parent: parent, path: parent.part(f.Source()), dt: f.Type.Arrow(), reader: newReader(f)}
	c.literal, c.outlined = json.NewKey(f.Source()), outlinedAs(c)
	if f.Added {
		// What the program fills itself is no member of the source's records, whatever theirs are called.
		c.literal = json.NewKey("\x00")
	}
	switch f.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz, schema.TimestampNs, schema.TimestampTzNs:
		c.longs = make([]int64, 0, rows)
	case schema.Int, schema.Date:
		c.ints = make([]int32, 0, rows)
	case schema.Double:
		c.doubles = make([]float64, 0, rows)
	case schema.Float:
		c.floats = make([]float32, 0, rows)
	case schema.Decimal:
		c.decimals = make([]decimal128.Num, 0, rows)
	case schema.Boolean:
		c.bits = make([]byte, 0, (rows+7)/8)
	case schema.String, schema.Binary:
		c.offsets = append(make([]int32, 0, rows+1), 0)
	case schema.UUID:
		c.bytes = make([]byte, 0, 16*rows)
	case schema.List:
		c.offsets = append(make([]int32, 0, rows+1), 0)
		c.element = newColumn(*f.Type.Element, c, rows)
	case schema.Map:
		c.offsets = append(make([]int32, 0, rows+1), 0)
		c.key, c.element = newColumn(*f.Type.Key, c, rows), newColumn(*f.Type.Element, c, rows)
	case schema.Struct:
		c.index = schema.NewIndex(nil, schema.SafeNames)
		for i := range f.Type.Fields {
			if part := &f.Type.Fields[i]; !part.Added {
				c.index.Add(i, part)
			}
		}
		c.omit = make(map[string]bool, len(f.Type.Omit))
		for _, name := range f.Type.Omit {
			c.omit[name] = true
		}
		for i, part := range f.Type.Fields {
			child := newColumn(part, c, rows)
			child.position = i
			if c.children = append(c.children, child); child.required() {
				c.needed = append(c.needed, child)
			}
		}
	}
	return c
}

// newCoded prepares for a field whose texts are numbered.
func newCoded(f schema.Field, rows int, w *words) *column {
	return &column{field: f, kind: f.Type.Kind, path: f.Source(), dt: f.Type.Arrow(), reader: newReader(f), words: w,
		codes: make([]uint32, 0, rows)}
}

// part returns the path of a part of the column.
func (c *column) part(name string) string {
	if c == nil || c.path == "" {
		return name
	}
	return c.path + "." + name
}

// setValid notes whether the next value is there; the caller then appends it.
func (c *column) setValid(valid bool) {
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

// marks is mark for the next n values, up to 64, of which those with a bit in present are there.
func (c *column) marks(present uint64, n int) {
	missing := n - bits.OnesCount64(present)
	if missing > 0 && c.valid == nil {
		c.valid = make([]byte, (c.n+7)/8, (c.n+n)/8+16)
		for i := range c.valid {
			c.valid[i] = 0xff
		}
	}
	if c.valid != nil {
		c.valid = appendBits(c.valid, c.n, present|^uint64(0)<<n, ^uint64(0))
		c.valid = c.valid[:(c.n+n+7)/8]
	}
	c.nulls += missing
	c.n += n
}

// appendBits puts 64 bits behind the first n of a bitmap, which has no more bytes than these need, and fills the last byte with
// bits of rest.
func appendBits(b []byte, n int, more, rest uint64) []byte {
	if used := n & 7; used > 0 {
		last := &b[len(b)-1]
		*last = *last&(1<<used-1) | byte(more<<used)
		more = more>>(8-used) | rest<<(56+used)
	}
	return binary.LittleEndian.AppendUint64(b, more)
}

// isNull reports whether the value at a position is null.
func (c *column) isNull(at int) bool { return c.valid != nil && c.valid[at/8]>>(at%8)&1 == 0 }

// null appends a null.
func (c *column) null() {
	c.setValid(false)
	if c.words != nil {
		c.codes = append(c.codes, 0)
		return
	}
	switch c.kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz, schema.TimestampNs, schema.TimestampTzNs:
		c.longs = append(c.longs, 0)
	case schema.Int, schema.Date:
		c.ints = append(c.ints, 0)
	case schema.Double:
		c.doubles = append(c.doubles, 0)
	case schema.Float:
		c.floats = append(c.floats, 0)
	case schema.Decimal:
		c.decimals = append(c.decimals, decimal128.Num{})
	case schema.Boolean:
		c.bit(false)
	case schema.String, schema.Binary:
		c.offsets = append(c.offsets, int32(len(c.bytes)))
	case schema.UUID:
		c.bytes = append(c.bytes, make([]byte, 16)...)
	case schema.List, schema.Map:
		c.offsets = append(c.offsets, int32(c.element.n))
	case schema.Struct:
		for _, child := range c.children {
			child.null()
		}
	}
}

// bit appends to the values of a boolean column whose mark was made.
func (c *column) bit(value bool) {
	at, bit := c.n-1, byte(0)
	if value {
		bit = 1
	}
	if at/8 == len(c.bits) {
		c.bits = append(c.bits, 0)
	}
	c.bits[at/8] |= bit << (at % 8)
}

// text appends a string or bytes.
func (c *column) text(b []byte) bool {
	if c.field.Unseen || len(c.bytes)+len(b) > math.MaxInt32 {
		return false
	}
	c.setValid(true)
	c.bytes = append(c.bytes, b...)
	c.offsets = append(c.offsets, int32(len(c.bytes)))
	c.measure(b)
	return true
}

// measure notes the length of a text.
func (c *column) measure(b []byte) {
	if len(b) > c.longest {
		c.longest = max(c.longest, utf8.RuneCount(b))
	}
}

// measureAgain finds the longest text of those that are left when others were taken back.
func (c *column) measureAgain() {
	if c.longest == 0 {
		return
	}
	c.longest = 0
	for i := range c.n {
		c.measure(c.bytes[c.offsets[i]:c.offsets[i+1]])
	}
}

// data hands over what was collected. The column must not be used afterwards.
func (c *column) data() *array.Data {
	if c.words != nil {
		return c.numbers()
	}
	buffers := []*memory.Buffer{nil}
	if c.nulls > 0 {
		buffers[0] = memory.NewBufferBytes(c.valid)
	}
	var children []arrow.ArrayData
	add := func(b []byte) { buffers = append(buffers, memory.NewBufferBytes(b)) }
	switch c.field.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz, schema.TimestampNs, schema.TimestampTzNs:
		add(arrow.Int64Traits.CastToBytes(c.longs))
	case schema.Int, schema.Date:
		add(arrow.Int32Traits.CastToBytes(c.ints))
	case schema.Double:
		add(arrow.Float64Traits.CastToBytes(c.doubles))
	case schema.Float:
		add(arrow.Float32Traits.CastToBytes(c.floats))
	case schema.Decimal:
		add(arrow.Decimal128Traits.CastToBytes(c.decimals))
	case schema.Boolean:
		add(c.bits)
	case schema.UUID:
		add(c.bytes)
	case schema.String, schema.Binary:
		add(arrow.Int32Traits.CastToBytes(c.offsets))
		add(c.bytes)
	case schema.List:
		add(arrow.Int32Traits.CastToBytes(c.offsets))
		children = append(children, c.element.data())
	case schema.Map:
		add(arrow.Int32Traits.CastToBytes(c.offsets))
		entry := c.dt.(*arrow.MapType).Elem()
		children = append(children, array.NewData(entry, c.key.n, []*memory.Buffer{nil},
			[]arrow.ArrayData{c.key.data(), c.element.data()}, 0, 0))
	case schema.Struct:
		for _, child := range c.children {
			children = append(children, child.data())
		}
	}
	return array.NewData(c.arrowType(), c.n, buffers, children, c.nulls, 0)
}

// arrowType returns the type of what data hands over: that of the field, but with dictionaries where values are numbered.
func (c *column) arrowType() arrow.DataType {
	if c.words != nil {
		return codedType(c.dt)
	}
	if !c.coded {
		return c.dt
	}
	switch t := c.dt.(type) {
	case *arrow.StructType:
		fields := t.Fields()
		for i, child := range c.children {
			fields[i].Type = child.arrowType()
		}
		return arrow.StructOf(fields...)
	case *arrow.ListType:
		element := t.ElemField()
		element.Type = c.element.arrowType()
		return arrow.ListOfField(element)
	}
	return c.dt
}

// truncate takes back every value after the first n, so that a record that turns out bad half-way leaves no trace.
func (c *column) truncate(n int) {
	if c.n > n {
		c.trimBits(n)
		c.n = n
		c.cut = true
	}
	// A list or struct may have parts of a value that it does not have itself yet.
	if c.words != nil {
		c.codes = c.codes[:n]
		return
	}
	switch c.field.Type.Kind {
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz, schema.TimestampNs, schema.TimestampTzNs:
		c.longs = c.longs[:n]
	case schema.Int, schema.Date:
		c.ints = c.ints[:n]
	case schema.Double:
		c.doubles = c.doubles[:n]
	case schema.Float:
		c.floats = c.floats[:n]
	case schema.Decimal:
		c.decimals = c.decimals[:n]
	case schema.UUID:
		c.bytes = c.bytes[:16*n]
	case schema.String, schema.Binary:
		c.offsets = c.offsets[:n+1]
		c.bytes = c.bytes[:c.offsets[n]]
	case schema.List, schema.Map:
		c.offsets = c.offsets[:n+1]
		c.element.truncate(int(c.offsets[n]))
		if c.key != nil {
			c.key.truncate(int(c.offsets[n]))
		}
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
	fields := s.Fields()
	for i, c := range columns {
		arrays[i] = array.MakeFromData(c.data())
		fields[i].Type = arrays[i].DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), arrays, int64(rows))
}
