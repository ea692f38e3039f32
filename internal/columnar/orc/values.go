package orc

import (
	"fmt"
	"math"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/extensions"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

var uuidType = extensions.NewUUIDType()

// reader reads the values of one column of a stripe.
type reader struct {
	*node
	dt       arrow.DataType
	present  *bitInput // nil where every value is there
	bits     *bitInput
	bytes    *byteInput
	data     *input
	integers *integerInput
	lengths  *integerInput
	second   *integerInput
	words    [][]byte // of the dictionary
	zone     *time.Location
	children []*reader
}

// mostElements is how many values parts of lists may have in one batch.
const mostElements = 1 << 26

// read returns n values. within tells which of them the parent has, nil where it has them all: only of those is something stored.
func (r *reader) read(n int, within []bool) *array.Data {
	valid, nulls := r.validity(n, within)
	buffers := []*memory.Buffer{nil}
	if nulls > 0 {
		bitmap := make([]byte, (n+7)/8)
		for i, v := range valid {
			if v {
				bitmap[i/8] |= 1 << (i % 8)
			}
		}
		buffers[0] = memory.NewBufferBytes(bitmap)
	}
	var children []arrow.ArrayData
	add := func(list ...[]byte) {
		for _, b := range list {
			buffers = append(buffers, memory.NewBufferBytes(b))
		}
	}
	switch r.kind {
	case kindStruct:
		for _, child := range r.children {
			children = append(children, child.read(n, valid))
		}
	case kindList, kindMap:
		offsets := r.offsets(n, valid)
		add(arrow.Int32Traits.CastToBytes(offsets))
		total := int(offsets[n])
		for _, child := range r.children {
			children = append(children, child.read(total, nil))
		}
		if r.kind == kindMap {
			children = []arrow.ArrayData{array.NewData(r.dt.(*arrow.MapType).Elem(), total, []*memory.Buffer{nil}, children, 0, 0)}
		}
	default:
		add(r.leaf(n, n-nulls, valid)...)
	}
	return array.NewData(r.dt, n, buffers, children, nulls, 0)
}

// validity reads which of n values are there; nil where all are.
func (r *reader) validity(n int, within []bool) (valid []bool, nulls int) {
	if r.present == nil && within == nil {
		return nil, 0
	}
	valid = make([]bool, n)
	for i := range valid {
		valid[i] = (within == nil || within[i]) && (r.present == nil || r.present.next())
		if !valid[i] {
			nulls++
		}
	}
	if nulls == 0 {
		return nil, 0
	}
	return valid, nulls
}

// leaf reads the buffers of values that have no parts, of which there are so many.
func (r *reader) leaf(n, there int, valid []bool) [][]byte {
	switch r.kind {
	case kindBoolean:
		out := make([]byte, (n+7)/8)
		for i := range n {
			if (valid == nil || valid[i]) && r.bits.next() {
				out[i/8] |= 1 << (i % 8)
			}
		}
		return [][]byte{out}
	case kindByte:
		out := make([]int32, n)
		each(n, valid, func(i int) { out[i] = int32(int8(r.bytes.next())) })
		return [][]byte{arrow.Int32Traits.CastToBytes(out)}
	case kindShort, kindInt, kindDate:
		out := make([]int32, n)
		each(n, valid, func(i int) {
			v := r.integers.next()
			if v < math.MinInt32 || v > math.MaxInt32 {
				r.integers.fail(fmt.Errorf("%d has more than 32 bits", v))
			}
			out[i] = int32(v)
		})
		return [][]byte{arrow.Int32Traits.CastToBytes(out)}
	case kindLong:
		out := make([]int64, n)
		each(n, valid, func(i int) { out[i] = r.integers.next() })
		return [][]byte{arrow.Int64Traits.CastToBytes(out)}
	case kindTimestamp, kindTimestampInstant:
		out := make([]int64, n)
		each(n, valid, func(i int) { out[i] = r.timestamp() })
		return [][]byte{arrow.Int64Traits.CastToBytes(out)}
	case kindFloat:
		return [][]byte{spread(r.data.read(make([]byte, 0, 4*there), 4*there), 4, n, valid)}
	case kindDouble:
		return [][]byte{spread(r.data.read(make([]byte, 0, 8*there), 8*there), 8, n, valid)}
	case kindDecimal:
		out := make([]decimal128.Num, n)
		each(n, valid, func(i int) { out[i] = r.decimal() })
		return [][]byte{arrow.Decimal128Traits.CastToBytes(out)}
	}
	return r.texts(n, valid)
}

// each calls read for the values that are there.
func each(n int, valid []bool, read func(i int)) {
	for i := range n {
		if valid == nil || valid[i] {
			read(i)
		}
	}
}

// spread puts values of a width to the places where they are.
func spread(list []byte, width, n int, valid []bool) []byte {
	if valid == nil {
		return list
	}
	out := make([]byte, width*n)
	for i, v := range valid {
		if v {
			copy(out[width*i:], list[:width])
			list = list[width:]
		}
	}
	return out
}

// offsets reads the lengths of lists.
func (r *reader) offsets(n int, valid []bool) []int32 {
	out := make([]int32, n+1)
	total := int64(0)
	for i := range n {
		if valid == nil || valid[i] {
			length := r.lengths.next()
			if total += length; length < 0 || total > mostElements {
				r.lengths.fail(fmt.Errorf("a list has %d elements", length))
			}
		}
		out[i+1] = int32(total)
	}
	return out
}

// texts reads texts or bytes.
func (r *reader) texts(n int, valid []bool) [][]byte {
	offsets := make([]int32, n+1)
	var out []byte
	switch {
	case r.words != nil:
		for i := range n {
			if valid == nil || valid[i] {
				id := r.integers.next()
				if id < 0 || int(id) >= len(r.words) {
					r.integers.fail(fmt.Errorf("there is no word %d among %d", id, len(r.words)))
				}
				out = append(out, r.words[id]...)
				if len(out) > longestBytes {
					r.integers.fail(fmt.Errorf("the texts of %d rows have more than %d bytes", n, longestBytes))
				}
			}
			offsets[i+1] = int32(len(out))
		}
	default:
		total := int64(0)
		for i := range n {
			if valid == nil || valid[i] {
				length := r.lengths.next()
				if total += length; length < 0 || total > longestBytes {
					r.lengths.fail(fmt.Errorf("a text has %d bytes", length))
				}
			}
			offsets[i+1] = int32(total)
		}
		if total > 0 {
			out = r.data.read(nil, int(total))
		}
	}
	if r.dt != uuidType {
		return [][]byte{arrow.Int32Traits.CastToBytes(offsets), out}
	}
	fixed := make([]byte, 16*n)
	for i := range n {
		switch part := out[offsets[i]:offsets[i+1]]; {
		case valid != nil && !valid[i]:
		case len(part) != 16:
			r.lengths.fail(fmt.Errorf("a uuid has %d bytes", len(part)))
		default:
			copy(fixed[16*i:], part)
		}
	}
	return [][]byte{fixed}
}

// furthest is how many seconds from 1970 a time in microseconds lies at most.
const furthest = math.MaxInt64/1_000_000 - 1_000_000

// timestamp reads a time in microseconds; what lies below one is cut. Readers take a second off where there is a fraction
// before 1970. Where its type has no zone, what is counted from is the epoch in the writer's zone, and what is meant the time
// on the clocks there.
func (r *reader) timestamp() int64 {
	base := int64(epoch)
	local := r.zone != nil && r.kind == kindTimestamp
	if local {
		base = time.Date(2015, 1, 1, 0, 0, 0, 0, r.zone).Unix()
	}
	seconds := r.integers.next() + base
	nanos := r.second.next()
	zeros := nanos & 7
	if nanos >>= 3; zeros > 0 {
		for range zeros + 1 {
			nanos *= 10
		}
	}
	if nanos < 0 || nanos > 999_999_999 || seconds > furthest || seconds < -furthest {
		r.second.fail(fmt.Errorf("there is no time of %d seconds and %d nanoseconds", seconds, nanos))
	}
	if seconds < 0 && nanos > 999_999 {
		seconds--
	}
	if local {
		_, offset := time.Unix(seconds, 0).In(r.zone).Zone()
		seconds += int64(offset)
	}
	return seconds*1e6 + nanos/1000
}

// decimal reads a decimal, and gives it the scale of its column.
func (r *reader) decimal() decimal128.Num {
	high, low := r.data.bigVarint()
	v := decimal128.New(high, low)
	scale := r.second.next()
	if scale == int64(r.scale) {
		return v
	}
	if scale < -38 || scale > 38 {
		r.second.fail(fmt.Errorf("a decimal has the scale %d", scale))
	}
	out, err := v.Rescale(int32(scale), int32(r.scale))
	if err != nil {
		r.second.fail(fmt.Errorf("a decimal of the scale %d does not fit the column's, %d", scale, r.scale))
	}
	return out
}

// dictionary reads the words that ids stand for.
func (r *reader) dictionary(text *input, lengths *integerInput, n int) {
	r.words = [][]byte{}
	total := 0
	for range n {
		length := lengths.next()
		if total += int(length); length < 0 || total > longestBytes {
			lengths.fail(fmt.Errorf("a word has %d bytes", length))
		}
		// Words differ, so only one of them can be empty.
		if len(r.words) > total {
			lengths.fail(fmt.Errorf("%d words have %d bytes in all", n, total))
		}
		r.words = append(r.words, text.read(nil, int(length)))
	}
}
