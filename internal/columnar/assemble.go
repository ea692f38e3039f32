package columnar

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"trevak/internal/columnar/decode"
)

// part is a column, or a part of a nested one, as it is put together again out of levels (Parquet specification, "Nested
// Encoding"). A slot of it is an entry of any of its leaves whose repetition level is not above rep and whose definition level
// is not below slot; it has a value where the definition level is not below def.
type part struct {
	kind     arrow.DataType
	children []*part
	leaf     int // -1 for one with parts
	def      uint16
	rep      uint16
	slot     uint16
}

// newPart prepares a column; ok is false for one that only the library reads.
func newPart(f *pqarrow.SchemaField, nullable bool) (p *part, ok bool) {
	l := f.LevelInfo
	p = &part{kind: f.Field.Type, leaf: f.ColIndex, def: uint16(l.DefLevel), rep: uint16(l.RepLevel),
		slot: uint16(l.RepeatedAncestorDefLevel)}
	switch f.Field.Type.(type) {
	case *arrow.ListType, *arrow.MapType:
		// The level of a list is that of its elements.
		p.def, p.rep = p.def-1, p.rep-1
	case *arrow.StructType:
	default:
		return p, f.IsLeaf() && readable(f.Field.Type)
	}
	p.leaf = -1
	for i := range f.Children {
		child, ok := newPart(&f.Children[i], f.Children[i].Field.Nullable)
		if !ok {
			return nil, false
		}
		p.children = append(p.children, child)
	}
	return p, len(p.children) > 0
}

// readable reports whether values of an Arrow type are made here.
func readable(t arrow.DataType) bool {
	switch t := t.(type) {
	case *arrow.BooleanType, *arrow.Int8Type, *arrow.Int16Type, *arrow.Int32Type, *arrow.Int64Type, *arrow.Uint8Type, *arrow.Uint16Type,
		*arrow.Uint32Type, *arrow.Uint64Type,
		*arrow.Float32Type, *arrow.Float64Type, *arrow.Date32Type, *arrow.Time32Type, *arrow.Time64Type, *arrow.TimestampType,
		*arrow.StringType, *arrow.BinaryType,
		*arrow.FixedSizeBinaryType, *arrow.Decimal128Type:
		return true
	case arrow.ExtensionType:
		return readable(t.StorageType())
	}
	return false
}

// numbered reports whether a part can come as places in a dictionary: it has no parts, and a type that those who take such know.
func (p *part) numbered() bool {
	if p.leaf < 0 {
		return false
	}
	switch p.kind.ID() {
	case arrow.STRING, arrow.BINARY, arrow.INT64, arrow.TIMESTAMP, arrow.INT32, arrow.DATE32, arrow.FLOAT64:
		return true
	}
	return false
}

// leaves adds the leaf columns of a part.
func (p *part) leaves(to []int) []int {
	if p.leaf >= 0 {
		return append(to, p.leaf)
	}
	for _, c := range p.children {
		to = c.leaves(to)
	}
	return to
}

// first is the first leaf column of a part.
func (p *part) first() int {
	for p.leaf < 0 {
		p = p.children[0]
	}
	return p.leaf
}

// build makes the array of a part out of the entries of its leaves.
func (p *part) build(of map[int]*entries) (arrow.ArrayData, error) {
	e := of[p.first()]
	if p.leaf >= 0 {
		return p.values(e)
	}
	valid, nulls, n := p.validity(e)
	if _, ok := p.kind.(*arrow.StructType); ok {
		children := make([]arrow.ArrayData, len(p.children))
		for i, c := range p.children {
			var err error
			if children[i], err = c.build(of); err != nil {
				return nil, err
			}
			if children[i].Len() != n {
				return nil, fmt.Errorf("%w: the parts of a struct have %d and %d values", decode.ErrDamaged, n, children[i].Len())
			}
		}
		return array.NewData(p.kind, n, []*memory.Buffer{valid}, children, nulls, 0), nil
	}
	offsets, elements := p.offsets(e, n)
	child, err := p.children[0].build(of)
	if err != nil {
		return nil, err
	}
	if child.Len() != elements {
		return nil, fmt.Errorf("%w: lists of %d elements have %d", decode.ErrDamaged, elements, child.Len())
	}
	return array.NewData(p.kind, n, []*memory.Buffer{valid, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets))},
		[]arrow.ArrayData{child}, nulls, 0), nil
}

// level returns the definition level of an entry.
func (e *entries) level(i int) uint16 {
	if len(e.def) == 0 {
		return ^uint16(0)
	}
	return e.def[i]
}

// isSlot reports whether an entry is a slot of a part.
func (p *part) isSlot(e *entries, i int) bool {
	return (len(e.rep) == 0 || e.rep[i] <= p.rep) && e.level(i) >= p.slot
}

// validity returns the bitmap of the slots that have a value, nil where all have one, and how many slots there are.
func (p *part) validity(e *entries) (valid *memory.Buffer, nulls, n int) {
	if len(e.def) == 0 && len(e.rep) == 0 {
		return nil, 0, e.n
	}
	if len(e.rep) == 0 && p.slot == 0 {
		return p.flat(e)
	}
	bitmap := make([]byte, (e.n+7)/8)
	for i := range e.n {
		if !p.isSlot(e, i) {
			continue
		}
		if e.level(i) >= p.def {
			bitmap[n>>3] |= 1 << (n & 7)
		} else {
			nulls++
		}
		n++
	}
	if nulls == 0 {
		return nil, 0, n
	}
	return memory.NewBufferBytes(bitmap[:(n+7)/8]), nulls, n
}

// flat is validity where every entry is a slot.
func (p *part) flat(e *entries) (valid *memory.Buffer, nulls, n int) {
	there, all := make([]byte, e.n), 0
	for i, d := range e.def {
		// No branch: levels come in no order.
		v := byte(^(uint32(d)-uint32(p.def))>>31) & 1
		there[i], all = v, all+int(v)
	}
	if all == e.n {
		return nil, 0, e.n
	}
	return memory.NewBufferBytes(decode.Bits(there)), e.n - all, e.n
}

// offsets returns where the elements of each of n lists begin and end, and how many there are.
func (p *part) offsets(e *entries, n int) ([]int32, int) {
	out := make([]int32, 0, n+1)
	elements := int32(0)
	for i := range e.n {
		if p.isSlot(e, i) {
			out = append(out, elements)
		}
		if e.rep[i] <= p.rep+1 && e.level(i) > p.def {
			elements++
		}
	}
	return append(out, elements), int(elements)
}

// values makes the array of a leaf.
func (p *part) values(e *entries) (arrow.ArrayData, error) {
	valid, nulls, n := p.validity(e)
	storage := p.kind
	if x, ok := storage.(arrow.ExtensionType); ok {
		storage = x.StorageType()
	}
	present := n - nulls
	if err := e.enough(present); err != nil {
		return nil, err
	}
	if e.coded {
		dt := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: storage}
		codes := memory.NewBufferBytes(arrow.Uint32Traits.CastToBytes(spread(e.codes, valid, n)))
		return array.NewDataWithDictionary(dt, n, []*memory.Buffer{valid, codes}, nulls, 0, e.dictionary), nil
	}
	buffers, err := e.buffers(storage, valid, n)
	if err != nil {
		return nil, err
	}
	return array.NewData(p.kind, n, append([]*memory.Buffer{valid}, buffers...), nil, nulls, 0), nil
}

// enough checks that there are as many values as levels tell of.
func (e *entries) enough(n int) error {
	have := max(len(e.codes), len(e.ints), len(e.longs), len(e.floats), len(e.doubles), len(e.flags), e.texts.Len())
	if have != n {
		return fmt.Errorf("%w: %d values where levels tell of %d", decode.ErrDamaged, have, n)
	}
	return nil
}

// buffers lays out the values of n slots as a type has them.
func (e *entries) buffers(t arrow.DataType, valid *memory.Buffer, n int) ([]*memory.Buffer, error) {
	one := func(b []byte) []*memory.Buffer { return []*memory.Buffer{memory.NewBufferBytes(b)} }
	switch t := t.(type) {
	case *arrow.BooleanType:
		return one(decode.Bits(spread(e.flags, valid, n))), nil
	case *arrow.Int8Type, *arrow.Uint8Type:
		out := make([]byte, n)
		for i, v := range spread(e.ints, valid, n) {
			out[i] = byte(v)
		}
		return one(out), nil
	case *arrow.Int16Type, *arrow.Uint16Type:
		out := make([]int16, n)
		for i, v := range spread(e.ints, valid, n) {
			out[i] = int16(v)
		}
		return one(arrow.Int16Traits.CastToBytes(out)), nil
	case *arrow.Int32Type, *arrow.Uint32Type, *arrow.Date32Type, *arrow.Time32Type:
		return one(arrow.Int32Traits.CastToBytes(spread(e.ints, valid, n))), nil
	case *arrow.Int64Type, *arrow.Uint64Type, *arrow.Time64Type, *arrow.TimestampType:
		return one(arrow.Int64Traits.CastToBytes(spread(e.longs, valid, n))), nil
	case *arrow.Float32Type:
		return one(arrow.Float32Traits.CastToBytes(spread(e.floats, valid, n))), nil
	case *arrow.Float64Type:
		return one(arrow.Float64Traits.CastToBytes(spread(e.doubles, valid, n))), nil
	case *arrow.Decimal128Type:
		return one(arrow.Decimal128Traits.CastToBytes(spread(e.decimals(), valid, n))), nil
	case *arrow.FixedSizeBinaryType:
		out := make([]byte, n*t.ByteWidth)
		at := 0
		for i := range n {
			if valid == nil || bitutil.BitIsSet(valid.Bytes(), i) {
				copy(out[i*t.ByteWidth:], e.texts.At(at))
				at++
			}
		}
		return one(out), nil
	case *arrow.StringType, *arrow.BinaryType:
		offsets := make([]int32, n+1)
		at := 0
		for i := range n {
			offsets[i+1] = offsets[i]
			if valid == nil || bitutil.BitIsSet(valid.Bytes(), i) {
				offsets[i+1] = e.texts.Ends[at]
				at++
			}
		}
		if e.texts.Bytes == nil {
			// An empty value is not an absent one.
			e.texts.Bytes = []byte{}
		}
		return []*memory.Buffer{memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets)), memory.NewBufferBytes(e.texts.Bytes)}, nil
	}
	return nil, fmt.Errorf("the type %s is not read", t)
}

// decimals are the unscaled values of decimals, of whichever physical type they are.
func (e *entries) decimals() []decimal128.Num {
	var out []decimal128.Num
	for _, v := range e.ints {
		out = append(out, decimal128.FromI64(int64(v)))
	}
	for _, v := range e.longs {
		out = append(out, decimal128.FromI64(v))
	}
	for i := range e.texts.Len() {
		out = append(out, bigEndian(e.texts.At(i)))
	}
	return out
}

// bigEndian is a number in two's complement, its highest byte first.
func bigEndian(text []byte) decimal128.Num {
	var high, low uint64
	if len(text) > 0 && text[0]&0x80 != 0 {
		high, low = ^uint64(0), ^uint64(0)
	}
	for _, b := range text {
		high = high<<8 | low>>56
		low = low<<8 | uint64(b)
	}
	return decimal128.New(int64(high), low)
}

// spread puts values into their slots; it is the same list where all slots have one. What is in the others means nothing.
func spread[T any](values []T, valid *memory.Buffer, n int) []T {
	if valid == nil {
		return values
	}
	out := make([]T, n)
	// One more, for slots behind the last value.
	var none T
	values = append(values, none)
	bitmap, at := valid.Bytes(), 0
	for i := range out {
		out[i] = values[at]
		at += int(bitmap[i>>3] >> (i & 7) & 1)
	}
	return out
}
