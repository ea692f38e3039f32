package orc

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/big"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/columnar/encode"
	"trevak/internal/schema"
)

// column collects the values of one column of the type tree for the open stripe. A part of a struct, list or map has values
// only where that has.
type column struct {
	field    schema.Field
	kind     kind
	id       int
	children []*column

	present     bitStream
	bits        bitStream   // booleans
	data        valueStream // whole numbers, seconds, ids; bytes
	lengths     valueStream
	second      valueStream // scales of decimals, nanoseconds of timestamps
	words       dictionary
	rows        []int32 // scratch: where there are values
	group       statistics
	groups      []statistics
	bloom       *bloom // nil where there is none
	stripe, all statistics
}

// dictionary numbers the texts of a stripe while that pays.
type dictionary struct {
	encode.Text
	ids   []uint32
	marks []int // how many ids there were where row groups begin
	gone  bool
}

// A dictionary is given up when, after so many values, more than half of them are new, or when it has grown so large.
const (
	dictionaryLook  = 10_000
	dictionaryBytes = 4 << 20
)

// newColumn prepares for a field, numbering the type tree depth first from id on.
func newColumn(f schema.Field, id *int) *column {
	c := &column{field: f, kind: kindOf(f.Type), id: *id}
	*id++
	switch c.kind {
	case kindBoolean, kindFloat, kindDouble, kindString, kindBinary:
	case kindDecimal:
		c.second.signed = true
	case kindStruct:
		for _, part := range f.Type.Fields {
			c.children = append(c.children, newColumn(part, id))
		}
	case kindList:
		c.children = []*column{newColumn(*f.Type.Element, id)}
	case kindMap:
		c.children = []*column{newColumn(*f.Type.Key, id), newColumn(*f.Type.Element, id)}
	default:
		c.data.signed = true
	}
	return c
}

// walk goes through the column and its parts in the order of their numbers.
func (c *column) walk(visit func(*column)) {
	visit(c)
	for _, child := range c.children {
		child.walk(visit)
	}
}

// mark notes that a row group begins.
func (c *column) mark() {
	c.present.mark()
	switch c.kind {
	case kindBoolean:
		c.bits.mark()
	case kindFloat, kindDouble:
		c.data.markBytes()
	case kindString, kindBinary:
		c.words.marks = append(c.words.marks, len(c.words.ids))
		c.data.markBytes()
		c.lengths.markRuns()
	case kindDecimal:
		c.data.markBytes()
		c.second.markRuns()
	case kindTimestamp, kindTimestampInstant:
		c.data.markRuns()
		c.second.markRuns()
	case kindList, kindMap:
		c.lengths.markRuns()
	case kindStruct:
	default:
		c.data.markRuns()
	}
}

// endGroup closes the statistics of a row group.
func (c *column) endGroup() {
	c.stripe.merge(&c.group)
	c.groups = append(c.groups, c.group)
	c.group = statistics{}
	if c.bloom != nil {
		c.bloom.endGroup()
	}
}

// add takes the values at some rows of an array.
func (c *column) add(a arrow.Array, rows []int32) error {
	there := rows
	if a.NullN() > 0 {
		there = c.rows[:0]
		for _, row := range rows {
			valid := a.IsValid(int(row))
			c.present.add(valid)
			if valid {
				there = append(there, row)
			}
		}
		c.rows = there
		c.group.null = c.group.null || len(there) < len(rows)
	} else {
		for range rows {
			c.present.add(true)
		}
	}
	c.group.values += int64(len(there))
	return c.values(a, there)
}

// values takes the values at rows where there are some.
func (c *column) values(a arrow.Array, rows []int32) error {
	switch a := a.(type) {
	case *array.Boolean:
		for _, row := range rows {
			v := a.Value(int(row))
			c.bits.add(v)
			if v {
				c.group.trues++
			}
		}
	case *array.Int32:
		addLongs(c, a.Int32Values(), rows)
	case *array.Date32:
		addLongs(c, a.Date32Values(), rows)
	case *array.Int64:
		addLongs(c, a.Int64Values(), rows)
	case *array.Time64:
		addLongs(c, a.Time64Values(), rows)
	case *array.Timestamp:
		return c.timestamps(a.TimestampValues(), rows)
	case *array.Float32:
		for _, row := range rows {
			c.data.body = binary.LittleEndian.AppendUint32(c.data.body, math.Float32bits(a.Value(int(row))))
			c.group.float(float64(a.Value(int(row))))
		}
	case *array.Float64:
		for _, row := range rows {
			c.data.body = binary.LittleEndian.AppendUint64(c.data.body, math.Float64bits(a.Value(int(row))))
			c.group.float(a.Value(int(row)))
		}
	case *array.Decimal128:
		for _, row := range rows {
			c.decimal(a.Value(int(row)))
		}
	case *array.String:
		for _, row := range rows {
			c.text(a.ValueBytes()[a.ValueOffset(int(row))-a.ValueOffset(0):][:a.ValueLen(int(row))])
		}
	case *array.Binary:
		for _, row := range rows {
			c.text(a.Value(int(row)))
		}
	case *array.FixedSizeBinary:
		for _, row := range rows {
			c.text(a.Value(int(row)))
		}
	case *array.Struct:
		for i, child := range c.children {
			if err := child.add(a.Field(i), rows); err != nil {
				return err
			}
		}
	case *array.Map:
		return c.lists(a, rows, a.Keys(), a.Items())
	case *array.List:
		return c.lists(a, rows, a.ListValues())
	default:
		return fmt.Errorf("column %q: %s is not written", c.field.Name, a.DataType())
	}
	return nil
}

func addLongs[T ~int32 | ~int64](c *column, list []T, rows []int32) {
	for _, row := range rows {
		c.data.add(int64(list[row]))
		c.group.long(int64(list[row]))
	}
	if c.bloom != nil {
		for _, row := range rows {
			c.bloom.long(int64(list[row]))
		}
	}
}

// timestamps takes instants in microseconds: seconds since the epoch, and nanoseconds with their trailing zeros counted.
// Readers take a second off where there is a fraction before 1970, so one is added here ("Timestamp Columns").
func (c *column) timestamps(list []arrow.Timestamp, rows []int32) error {
	for _, row := range rows {
		micros := int64(list[row])
		c.group.long(micros)
		if c.bloom != nil {
			c.bloom.micros(micros)
		}
		seconds, rest := floorDivide(micros, 1e6)
		if seconds < 0 && rest > 999 {
			if seconds++; seconds == 0 {
				return fmt.Errorf("column %q: a time within the last second of 1969 has no form in ORC, as its readers take it for "+
					"one of 1970; write another format",
					c.field.Name)
			}
		}
		c.data.add(seconds - epoch)
		c.second.add(nanoseconds(rest * 1000))
	}
	return nil
}

// nanoseconds drops two or more trailing zeros, and keeps their number less one in the lowest three bits.
func nanoseconds(v int64) int64 {
	if v == 0 || v%100 != 0 {
		return v << 3
	}
	zeros := int64(1)
	for v /= 100; v%10 == 0 && zeros < 7; zeros++ {
		v /= 10
	}
	return v<<3 | zeros
}

// decimal writes the unscaled value in a zigzag, seven bits a byte, the lowest first ("Decimal Columns").
func (c *column) decimal(v decimal128.Num) {
	c.group.decimal(v)
	c.second.add(int64(c.field.Type.Scale))
	if small := int64(v.LowBits()); v.HighBits() == small>>63 {
		c.data.body = binary.AppendVarint(c.data.body, small)
		return
	}
	n := v.BigInt()
	zigzag := new(big.Int).Lsh(n, 1)
	if n.Sign() < 0 {
		zigzag.Not(zigzag)
	}
	low := new(big.Int)
	for zigzag.BitLen() > 7 {
		low.And(zigzag, big.NewInt(0x7f))
		c.data.body = append(c.data.body, byte(low.Uint64())|0x80)
		zigzag.Rsh(zigzag, 7)
	}
	c.data.body = append(c.data.body, byte(zigzag.Uint64()))
}

// text takes a text or bytes.
func (c *column) text(v []byte) {
	c.group.text(v)
	if c.bloom != nil {
		c.bloom.text(v)
	}
	d := &c.words
	if d.gone || c.kind == kindBinary {
		c.data.body = append(c.data.body, v...)
		c.lengths.add(int64(len(v)))
		return
	}
	d.ids = append(d.ids, d.ID(v))
	if len(d.ids) >= dictionaryLook && 2*d.Len() > len(d.ids) || len(d.Bytes) > dictionaryBytes {
		c.leave()
	}
}

// leave gives the dictionary up, and writes out the texts that it stood for, with row groups beginning where they did.
func (c *column) leave() {
	d := &c.words
	d.gone = true
	c.data.places, c.lengths.places = nil, nil
	next := 0
	for i, id := range d.ids {
		for next < len(d.marks) && d.marks[next] == i {
			c.data.markBytes()
			c.lengths.markRuns()
			next++
		}
		v := d.Value(id)
		c.data.body = append(c.data.body, v...)
		c.lengths.add(int64(len(v)))
	}
	for ; next < len(d.marks); next++ {
		c.data.markBytes()
		c.lengths.markRuns()
	}
	d.ids = d.ids[:0]
}

// lists takes the lengths of lists or maps, and hands their elements on.
func (c *column) lists(a interface {
	ValueOffsets(i int) (start, end int64)
}, rows []int32, parts ...arrow.Array) error {
	var inner []int32
	for _, row := range rows {
		start, end := a.ValueOffsets(int(row))
		c.lengths.add(end - start)
		for i := start; i < end; i++ {
			inner = append(inner, int32(i))
		}
	}
	for i, part := range parts {
		if err := c.children[i].add(part, inner); err != nil {
			return err
		}
	}
	return nil
}

// size is about how many bytes the column takes in the open stripe, without its parts.
func (c *column) size() int {
	n := len(c.present.bytes)/8 + len(c.bits.bytes) + c.data.size() + c.lengths.size() + c.second.size()
	if c.bloom != nil {
		n += 8 * len(c.bloom.hashes)
	}
	return n + 2*len(c.words.ids) + len(c.words.Bytes)
}

// finish hands over the column's streams of the stripe, their encoding, and the size of the dictionary; it begins the next stripe.
func (c *column) finish() (streams []stream, encoding uint64, words int) {
	if c.present.unset {
		streams = append(streams, c.present.finish(streamPresent))
	}
	encoding = encodingDirectV2
	switch c.kind {
	case kindBoolean:
		streams, encoding = append(streams, c.bits.finish(streamData)), encodingDirect
	case kindFloat, kindDouble:
		streams, encoding = append(streams, c.data.finish(streamData)), encodingDirect
	case kindString, kindBinary:
		if c.kind == kindString && !c.words.gone {
			streams, encoding, words = append(streams, c.dictionary()...), encodingDictionaryV2, c.words.Len()
			break
		}
		streams = append(streams, c.data.finish(streamData), c.lengths.finish(streamLength))
	case kindDecimal, kindTimestamp, kindTimestampInstant:
		streams = append(streams, c.data.finish(streamData), c.second.finish(streamSecondary))
	case kindList, kindMap:
		streams = append(streams, c.lengths.finish(streamLength))
	case kindStruct:
		encoding = encodingDirect
	default:
		streams = append(streams, c.data.finish(streamData))
	}
	c.reset()
	return streams, encoding, words
}

// dictionary encodes the ids of a stripe, and the texts that they stand for.
func (c *column) dictionary() []stream {
	var ids, lengths valueStream
	next := 0
	for i, id := range c.words.ids {
		for next < len(c.words.marks) && c.words.marks[next] == i {
			ids.markRuns()
			next++
		}
		ids.add(int64(id))
	}
	for ; next < len(c.words.marks); next++ {
		ids.markRuns()
	}
	start := uint32(0)
	for _, end := range c.words.Ends {
		lengths.add(int64(end - start))
		start = end
	}
	out := []stream{ids.finish(streamData), {kind: streamDictionary, body: append([]byte{}, c.words.Bytes...)},
		lengths.finish(streamLength)}
	out[2].places = nil
	return out
}

// reset begins a stripe.
func (c *column) reset() {
	c.present.reset()
	c.bits.reset()
	c.data.reset()
	c.lengths.reset()
	c.second.reset()
	c.words.Text.Reset()
	c.words.ids, c.words.marks, c.words.gone = c.words.ids[:0], c.words.marks[:0], false
	c.all.merge(&c.stripe)
	c.group, c.groups, c.stripe = statistics{}, nil, statistics{}
}
