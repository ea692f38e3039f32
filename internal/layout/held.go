package layout

import (
	"bytes"
	"cmp"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// held is one column of the rows that wait. It copies what it is given.
type held interface {
	// add appends the values of an array.
	add(a arrow.Array)
	// take returns the values of some rows, in their order, which are part of rows of the same file, so many in all; values that
	// are numbered come as a dictionary where that pays for so many.
	take(order []uint32, of int) *array.Data
	// null reports whether a row has no value.
	null(row uint32) bool
	// keys sets numbers to ones that are ordered as the values are, where there is a value; exact says that values with the same
	// number are the same in that order. compare orders two values otherwise.
	keys(numbers []uint64) (exact bool)
	compare(a, b uint32) int
	// bytes is about how much memory it takes.
	bytes() int64
	// empty forgets all rows.
	empty()
}

// newHeld prepares for a column of a type.
func newHeld(dt arrow.DataType) held {
	switch t := dt.(type) {
	case *arrow.StructType:
		s := &structs{fields: t.Fields()}
		for _, f := range s.fields {
			s.parts = append(s.parts, newHeld(f.Type))
		}
		return s
	case *arrow.MapType:
		return &lists{parts: []held{newHeld(t.KeyType()), newHeld(t.ItemType())}, dt: dt}
	case *arrow.ListType:
		return &lists{parts: []held{newHeld(t.Elem())}, dt: dt}
	}
	return &leaves{dt: dt, plain: newPlain(dt)}
}

// newPlain prepares for values of a type without parts.
func newPlain(dt arrow.DataType) held {
	switch t := dt.(type) {
	case *arrow.Int64Type, *arrow.TimestampType, *arrow.Time64Type:
		return &fixed[int64]{dt: dt, bits: func(v int64) uint64 { return uint64(v) ^ signBit }}
	case *arrow.Int32Type, *arrow.Date32Type:
		return &fixed[int32]{dt: dt, bits: func(v int32) uint64 { return uint64(int64(v)) ^ signBit }}
	case *arrow.Float64Type:
		return &fixed[float64]{dt: dt, bits: floatBits}
	case *arrow.Float32Type:
		return &fixed[float32]{dt: dt, bits: func(v float32) uint64 { return floatBits(float64(v)) }}
	case *arrow.Decimal128Type:
		return &fixed[decimal128.Num]{dt: dt, bits: func(v decimal128.Num) uint64 { return uint64(v.HighBits()) ^ signBit },
			order: decimal128.Num.Cmp}
	case *arrow.FixedSizeBinaryType:
		return &blocks{dt: dt, width: t.ByteWidth}
	case *arrow.BooleanType:
		return &flags{}
	}
	return &texts{dt: dt}
}

// fixed is values of a fixed number of bytes.
type fixed[T arrow.FixedWidthType] struct {
	dt     arrow.DataType
	values pieces[T]
	validity
	bits  func(T) uint64
	order func(a, b T) int // nil where the bits tell all
}

func (f *fixed[T]) add(a arrow.Array) {
	if a.Len() == 0 {
		return
	}
	data := a.Data()
	f.values.add(arrow.GetData[T](data.Buffers()[1].Bytes())[data.Offset() : data.Offset()+data.Len()])
	f.validity.add(a)
}

func (f *fixed[T]) take(order []uint32, _ int) *array.Data {
	valid, nulls := f.validity.take(order)
	values := memory.NewBufferBytes(arrow.GetBytes(f.values.take(order)))
	return array.NewData(f.dt, len(order), []*memory.Buffer{valid, values}, nil, nulls, 0)
}

func (f *fixed[T]) keys(numbers []uint64) bool {
	for i, v := range f.values.all {
		numbers[i] = f.bits(v)
	}
	return f.order == nil
}

func (f *fixed[T]) compare(a, b uint32) int {
	if f.order != nil {
		return f.order(f.values.at(a), f.values.at(b))
	}
	return cmp.Compare(f.bits(f.values.at(a)), f.bits(f.values.at(b)))
}

func (f *fixed[T]) bytes() int64 {
	return int64(f.values.n)*int64(f.dt.(arrow.FixedWidthDataType).Bytes()) + int64(8*len(f.words))
}

func (f *fixed[T]) empty() { f.values, f.validity = pieces[T]{}, validity{} }

// blocks is byte strings of the same length.
type blocks struct {
	dt     arrow.DataType
	width  int
	values pieces[byte]
	validity
}

func (b *blocks) add(a arrow.Array) {
	list := a.(*array.FixedSizeBinary)
	for i := range list.Len() {
		b.values.add(list.Value(i))
	}
	b.validity.add(a)
}

// value appends one of the values to dst.
func (b *blocks) value(dst []byte, row uint32) []byte {
	for i := range b.width {
		dst = append(dst, b.values.at(row*uint32(b.width)+uint32(i)))
	}
	return dst
}

func (b *blocks) take(order []uint32, _ int) *array.Data {
	valid, nulls := b.validity.take(order)
	values := make([]byte, 0, len(order)*b.width)
	for _, row := range order {
		values = b.value(values, row)
	}
	return array.NewData(b.dt, len(order), []*memory.Buffer{valid, memory.NewBufferBytes(values)}, nil, nulls, 0)
}

func (b *blocks) keys(numbers []uint64) bool {
	var value []byte
	for i := range numbers {
		value = b.value(value[:0], uint32(i))
		numbers[i] = firstBytes(value)
	}
	return false
}

func (b *blocks) compare(x, y uint32) int { return bytes.Compare(b.value(nil, x), b.value(nil, y)) }

func (b *blocks) bytes() int64 { return int64(b.values.n + 8*len(b.words)) }

func (b *blocks) empty() { b.values, b.validity = pieces[byte]{}, validity{} }

// flags is booleans.
type flags struct {
	values pieces[bool]
	validity
}

func (f *flags) add(a arrow.Array) {
	list := a.(*array.Boolean)
	values := make([]bool, list.Len())
	for i := range values {
		values[i] = list.Value(i)
	}
	f.values.add(values)
	f.validity.add(a)
}

func (f *flags) take(order []uint32, _ int) *array.Data {
	valid, nulls := f.validity.take(order)
	values := make([]byte, (len(order)+7)/8)
	for i, row := range order {
		if f.values.at(row) {
			values[i>>3] |= 1 << (i & 7)
		}
	}
	return array.NewData(arrow.FixedWidthTypes.Boolean, len(order), []*memory.Buffer{valid, memory.NewBufferBytes(values)}, nil, nulls, 0)
}

func (f *flags) keys(numbers []uint64) bool {
	for i, v := range f.values.all {
		numbers[i] = 0
		if v {
			numbers[i] = 1
		}
	}
	return true
}

func (f *flags) compare(a, b uint32) int {
	x, y := f.values.at(a), f.values.at(b)
	switch {
	case x == y:
		return 0
	case y:
		return -1
	}
	return 1
}

func (f *flags) bytes() int64 { return int64(f.values.n + 8*len(f.words)) }

func (f *flags) empty() { f.values, f.validity = pieces[bool]{}, validity{} }

// texts is byte strings.
type texts struct {
	dt     arrow.DataType
	places pieces[place]
	chunks [][]byte
	size   int64
	validity
}

// place is where a byte string lies.
type place struct{ chunk, start, length uint32 }

// chunkBytes is the least size of a piece of memory for byte strings.
const chunkBytes = 64 << 10

// variable is an array of byte strings of any length.
type variable interface {
	arrow.Array
	ValueBytes() []byte
	ValueOffsets() []int32
}

func (t *texts) add(a arrow.Array) {
	if a.Len() == 0 {
		return
	}
	list := a.(variable)
	data, offsets := list.ValueBytes(), list.ValueOffsets()
	base := offsets[0]
	last := len(t.chunks) - 1
	if last < 0 || cap(t.chunks[last])-len(t.chunks[last]) < len(data) {
		room := len(data)
		if last >= 0 {
			room = max(room, chunkBytes)
		}
		t.chunks = append(t.chunks, make([]byte, 0, room))
		last++
	}
	from := uint32(len(t.chunks[last]))
	t.chunks[last] = append(t.chunks[last], data...)
	places := make([]place, a.Len())
	for i := range places {
		places[i] = place{uint32(last), from + uint32(offsets[i]-base), uint32(offsets[i+1] - offsets[i])}
	}
	t.places.add(places)
	t.size += int64(len(data))
	t.validity.add(a)
}

func (t *texts) value(row uint32) []byte {
	p := t.places.at(row)
	return t.chunks[p.chunk][p.start : p.start+p.length]
}

func (t *texts) take(order []uint32, _ int) *array.Data {
	valid, nulls := t.validity.take(order)
	total, offsets := 0, make([]int32, len(order)+1)
	for i, row := range order {
		total += int(t.places.at(row).length)
		offsets[i+1] = int32(total)
	}
	values := make([]byte, 0, total)
	for _, row := range order {
		values = append(values, t.value(row)...)
	}
	return array.NewData(t.dt, len(order), []*memory.Buffer{valid, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets)),
		memory.NewBufferBytes(values)}, nil, nulls, 0)
}

func (t *texts) keys(numbers []uint64) bool {
	for i := range numbers {
		numbers[i] = firstBytes(t.value(uint32(i)))
	}
	return false
}

func (t *texts) compare(a, b uint32) int { return bytes.Compare(t.value(a), t.value(b)) }

func (t *texts) bytes() int64 { return t.size + int64(12*t.places.n+8*len(t.words)) }

func (t *texts) empty() { t.places, t.chunks, t.size, t.validity = pieces[place]{}, nil, 0, validity{} }

const signBit = 1 << 63

// floatBits orders numbers as sorts do: what is none comes last, and the two zeros are the same.
func floatBits(v float64) uint64 {
	switch {
	case v != v:
		return math.MaxUint64
	case v == 0:
		return signBit
	}
	bits := math.Float64bits(v)
	if bits&signBit != 0 {
		return ^bits
	}
	return bits | signBit
}
