package layout

import (
	"bytes"
	"cmp"
	"math"
	"slices"
	"sync"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar/encode"
)

// palette numbers the values of a column over all batches that come with dictionaries of their own.
type palette struct {
	dt    arrow.DataType
	longs encode.Fixed[int64]
	ints  encode.Fixed[int32]
	texts encode.Text
	// known has for each dictionary, by where its values lie in memory, the number of each of them plus one.
	known map[*byte][]uint32
	// values are as many as there were when they were asked for, which those do who take rows side by side.
	mutex  sync.Mutex
	values arrow.Array
}

// A palette is given up when it has more values, or more bytes of texts. It remembers so many dictionaries.
const (
	paletteValues = 1 << 17
	paletteBytes  = 4 << 20
	paletteKnown  = 64
)

// newPalette prepares for values of a type; it is nil for types that are not numbered.
func newPalette(dt arrow.DataType) *palette {
	switch dt.ID() {
	case arrow.INT64, arrow.TIMESTAMP, arrow.TIME64, arrow.FLOAT64, arrow.INT32, arrow.DATE32, arrow.STRING, arrow.BINARY:
		return &palette{dt: dt, known: map[*byte][]uint32{}}
	}
	return nil
}

func (p *palette) len() int { return max(p.texts.Len(), len(p.longs.Values), len(p.ints.Values)) }

// full reports whether it does not pay to number more values.
func (p *palette) full() bool { return p.len() > paletteValues || len(p.texts.Bytes) > paletteBytes }

// translate turns the numbers of an array into those of the palette; that of a value that is not there is 0.
func (p *palette) translate(d *array.Dictionary) []uint32 {
	codes := codesOf(d)
	out := make([]uint32, len(codes))
	values := d.Dictionary()
	if values.Len() == 0 {
		return out
	}
	number := p.numberer(values)
	table := p.table(values)
	nulls := d.NullN() > 0
	for i, code := range codes {
		if nulls && d.IsNull(i) {
			continue
		}
		id := table[code]
		if id == 0 {
			id = number(int(code)) + 1
			table[code] = id
		}
		out[i] = id - 1
	}
	return out
}

// table returns what is known of a dictionary.
func (p *palette) table(values arrow.Array) []uint32 {
	at := &values.Data().Buffers()[1].Bytes()[0]
	table := p.known[at]
	if missing := values.Len() - len(table); missing > 0 {
		if len(p.known) >= paletteKnown {
			clear(p.known)
		}
		table = append(table, make([]uint32, missing)...)
		p.known[at] = table
	}
	return table
}

// numberer returns what numbers the values of an array.
func (p *palette) numberer(values arrow.Array) func(i int) uint32 {
	switch p.dt.ID() {
	case arrow.INT32, arrow.DATE32:
		list := storedOf[int32](values)
		return func(i int) uint32 { return p.ints.Number(list[i]) }
	case arrow.STRING, arrow.BINARY:
		list := values.(variable)
		data, offsets := list.ValueBytes(), list.ValueOffsets()
		return func(i int) uint32 { return p.texts.ID(data[offsets[i]-offsets[0] : offsets[i+1]-offsets[0]]) }
	}
	list := storedOf[int64](values)
	return func(i int) uint32 { return p.longs.Number(list[i]) }
}

// storedOf returns the values of an array as they are stored.
func storedOf[T int32 | int64](a arrow.Array) []T {
	data := a.Data()
	return arrow.GetData[T](data.Buffers()[1].Bytes())[data.Offset() : data.Offset()+data.Len()]
}

// codesOf returns the numbers of a dictionary array.
func codesOf(d *array.Dictionary) []uint32 {
	if list, ok := d.Indices().(*array.Uint32); ok {
		return list.Uint32Values()
	}
	out := make([]uint32, d.Len())
	for i := range out {
		if d.IsValid(i) {
			out[i] = uint32(d.GetValueIndex(i))
		}
	}
	return out
}

// array returns the values by their numbers. It stays the same array until there are more.
func (p *palette) array() arrow.Array {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.values != nil && p.values.Len() == p.len() {
		return p.values
	}
	buffers := []*memory.Buffer{nil}
	switch p.dt.ID() {
	case arrow.INT32, arrow.DATE32:
		buffers = append(buffers, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(slices.Clone(p.ints.Values))))
	case arrow.STRING, arrow.BINARY:
		offsets := make([]int32, 1, p.len()+1)
		for _, end := range p.texts.Ends {
			offsets = append(offsets, int32(end))
		}
		buffers = append(buffers, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets)), memory.NewBufferBytes(
			bytes.Clone(p.texts.Bytes)))
	default:
		buffers = append(buffers, memory.NewBufferBytes(arrow.Int64Traits.CastToBytes(slices.Clone(p.longs.Values))))
	}
	p.values = array.MakeFromData(array.NewData(p.dt, p.len(), buffers, nil, 0, 0))
	return p.values
}

// ranks returns for each value how many different ones come before it in the order that rows are sorted in.
func (p *palette) ranks() []uint64 {
	compare := func(a, b uint32) int { return bytes.Compare(p.texts.Value(a), p.texts.Value(b)) }
	switch p.dt.ID() {
	case arrow.INT32, arrow.DATE32:
		compare = func(a, b uint32) int { return cmp.Compare(p.ints.Values[a], p.ints.Values[b]) }
	case arrow.FLOAT64:
		bits := func(a uint32) uint64 { return floatBits(math.Float64frombits(uint64(p.longs.Values[a]))) }
		compare = func(a, b uint32) int { return cmp.Compare(bits(a), bits(b)) }
	case arrow.INT64, arrow.TIMESTAMP, arrow.TIME64:
		compare = func(a, b uint32) int { return cmp.Compare(p.longs.Values[a], p.longs.Values[b]) }
	}
	sorted := make([]uint32, p.len())
	for i := range sorted {
		sorted[i] = uint32(i)
	}
	slices.SortFunc(sorted, compare)
	out, rank := make([]uint64, len(sorted)), uint64(0)
	for i, code := range sorted {
		if i > 0 && compare(sorted[i-1], code) != 0 {
			rank++
		}
		out[code] = rank
	}
	return out
}
