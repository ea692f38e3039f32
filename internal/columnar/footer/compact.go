package footer

import "encoding/binary"

// The types of fields and elements (Thrift compact protocol, "Struct encoding").
const (
	typeTrue   = 1
	typeFalse  = 2
	typeI16    = 4
	typeI32    = 5
	typeI64    = 6
	typeBinary = 8
	typeList   = 9
	typeStruct = 12
)

// compact appends structures in Thrift's compact protocol. Fields are written in the order of their ids.
type compact struct {
	b []byte
	// last is the id of the field before within the open struct, outer those of the structs around it.
	last  int
	outer [8]int
	depth int
}

// field writes what stands before the value of a field: ids are less than 16 apart in all that is written here.
func (c *compact) field(id, kind int) {
	c.b = append(c.b, byte(id-c.last)<<4|byte(kind))
	c.last = id
}

// open begins a struct that is an element or a whole, openField one that is a field.
func (c *compact) open() {
	c.outer[c.depth] = c.last
	c.depth++
	c.last = 0
}

func (c *compact) openField(id int) {
	c.field(id, typeStruct)
	c.open()
}

// close ends the open struct.
func (c *compact) close() {
	c.b = append(c.b, 0)
	c.depth--
	c.last = c.outer[c.depth]
}

// whole appends a number as elements of lists have it.
func (c *compact) whole(v int64) { c.b = binary.AppendVarint(c.b, v) }

func (c *compact) i32(id int, v int32) {
	c.field(id, typeI32)
	c.whole(int64(v))
}

func (c *compact) i64(id int, v int64) {
	c.field(id, typeI64)
	c.whole(v)
}

func (c *compact) i16(id int, v int16) {
	c.field(id, typeI16)
	c.whole(int64(v))
}

func (c *compact) flag(id int, v bool) {
	if v {
		c.field(id, typeTrue)
	} else {
		c.field(id, typeFalse)
	}
}

// text appends bytes as elements of lists have them.
func (c *compact) text(v []byte) {
	c.b = binary.AppendUvarint(c.b, uint64(len(v)))
	c.b = append(c.b, v...)
}

func (c *compact) binary(id int, v []byte) {
	c.field(id, typeBinary)
	c.text(v)
}

// list begins a list of n elements.
func (c *compact) list(id, kind, n int) {
	c.field(id, typeList)
	if n < 15 {
		c.b = append(c.b, byte(n)<<4|byte(kind))
		return
	}
	c.b = append(c.b, 0xf0|byte(kind))
	c.b = binary.AppendUvarint(c.b, uint64(n))
}
