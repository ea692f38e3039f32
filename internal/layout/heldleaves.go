package layout

import (
	"cmp"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// leaves is a column without parts, whose values are numbered as long as all batches come with dictionaries and there are not
// too many values.
type leaves struct {
	dt      arrow.DataType
	palette *palette // nil until the first dictionary, and once values are not numbered any more
	codes   pieces[uint32]
	valid   validity // of codes
	plain   held
	settled bool // values are not numbered any more
	ranked  []uint64
}

func (l *leaves) add(a arrow.Array) {
	d, numbered := a.(*array.Dictionary)
	if numbered && l.palette == nil && !l.settled {
		l.palette = newPalette(l.dt)
	}
	if l.palette != nil && (!numbered || l.palette.full()) {
		l.spread()
	}
	switch {
	case l.palette != nil:
		l.codes.add(l.palette.translate(d))
		l.valid.add(a)
	case numbered:
		l.settled = true
		l.plain.add(spreadOut(d, codesOf(d)))
	default:
		l.settled = true
		l.plain.add(a)
	}
}

// addNumbered is add for an array of the numbers of a palette.
func (l *leaves) addNumbered(p *palette, d *array.Dictionary) {
	if l.palette == nil && !l.settled {
		l.palette = p
	}
	if l.palette != p {
		l.add(d)
		return
	}
	l.codes.add(codesOf(d))
	l.valid.add(d)
}

// spread turns the numbers into values.
func (l *leaves) spread() {
	p, codes, valid := l.palette, l.codes, l.valid
	l.palette, l.settled = nil, true
	l.codes, l.valid = pieces[uint32]{}, validity{}
	for start := uint32(0); int(start) < codes.n; start += pieceRows {
		order := make([]uint32, min(pieceRows, codes.n-int(start)))
		for i := range order {
			order[i] = start + uint32(i)
		}
		d := array.NewDictionaryData(codedData(p, &codes, &valid, order))
		l.plain.add(spreadOut(d, codesOf(d)))
	}
}

// codedData is the dictionary array of some rows.
func codedData(p *palette, codes *pieces[uint32], valid *validity, order []uint32) *array.Data {
	bitmap, nulls := valid.take(order)
	dt := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: p.dt}
	values := p.array().Data().(*array.Data)
	return array.NewDataWithDictionary(dt, len(order), []*memory.Buffer{bitmap,
		memory.NewBufferBytes(arrow.Uint32Traits.CastToBytes(codes.take(order)))}, nulls, 0, values)
}

// spreadOut makes an array of the values that the numbers of a dictionary array stand for.
func spreadOut(d *array.Dictionary, codes []uint32) arrow.Array {
	values := d.Dictionary()
	if values.Len() == 0 {
		// All are null.
		return array.MakeArrayOfNull(memory.DefaultAllocator, values.DataType(), d.Len())
	}
	var bitmap *memory.Buffer
	if d.NullN() > 0 {
		var valid validity
		valid.add(d)
		bitmap, _ = valid.take(upTo(d.Len()))
	}
	buffers := append([]*memory.Buffer{bitmap}, valuesOf(values, codes)...)
	return array.MakeFromData(array.NewData(values.DataType(), d.Len(), buffers, nil, d.NullN(), 0))
}

// valuesOf returns the buffers of the values that numbers stand for.
func valuesOf(values arrow.Array, codes []uint32) []*memory.Buffer {
	switch values.DataType().ID() {
	case arrow.INT64, arrow.TIMESTAMP, arrow.TIME64, arrow.FLOAT64:
		return []*memory.Buffer{memory.NewBufferBytes(arrow.GetBytes(picked(storedOf[int64](values), codes)))}
	case arrow.INT32, arrow.DATE32:
		return []*memory.Buffer{memory.NewBufferBytes(arrow.GetBytes(picked(storedOf[int32](values), codes)))}
	case arrow.STRING, arrow.BINARY:
		list := values.(variable)
		offsets, data := pickedTexts(list.ValueOffsets(), list.ValueBytes(), codes)
		return []*memory.Buffer{memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets)), memory.NewBufferBytes(data)}
	}
	all := newPlain(values.DataType())
	all.add(values)
	return all.take(codes, len(codes)).Buffers()[1:]
}

// upTo is the numbers before n.
func upTo(n int) []uint32 {
	out := make([]uint32, n)
	for i := range out {
		out[i] = uint32(i)
	}
	return out
}

func picked[T any](values []T, codes []uint32) []T {
	out := make([]T, len(codes))
	for i, code := range codes {
		out[i] = values[code]
	}
	return out
}

func pickedTexts(ends []int32, data []byte, codes []uint32) (offsets []int32, out []byte) {
	offsets = make([]int32, len(codes)+1)
	total := int32(0)
	for i, code := range codes {
		total += ends[code+1] - ends[code]
		offsets[i+1] = total
	}
	out = make([]byte, 0, total)
	for _, code := range codes {
		out = append(out, data[ends[code]-ends[0]:ends[code+1]-ends[0]]...)
	}
	return offsets, out
}

// manyPerRow is how many values of the palette there may be for each row of a file, at most, so that a dictionary is worth it.
const manyPerRow = 20

func (l *leaves) take(order []uint32, of int) *array.Data {
	if l.palette == nil {
		return l.plain.take(order, of)
	}
	if manyPerRow*of >= l.palette.len() {
		return codedData(l.palette, &l.codes, &l.valid, order)
	}
	if l.palette.len() == 0 {
		return array.MakeArrayOfNull(memory.DefaultAllocator, l.dt, len(order)).Data().(*array.Data)
	}
	valid, nulls := l.valid.take(order)
	buffers := append([]*memory.Buffer{valid}, valuesOf(l.palette.array(), l.codes.take(order))...)
	return array.NewData(l.dt, len(order), buffers, nil, nulls, 0)
}

func (l *leaves) null(row uint32) bool {
	if l.palette != nil {
		return l.valid.null(row)
	}
	return l.plain.null(row)
}

func (l *leaves) keys(numbers []uint64) bool {
	if l.palette == nil {
		return l.plain.keys(numbers)
	}
	l.ranked = l.palette.ranks()
	for i, code := range l.codes.all {
		numbers[i] = 0
		if len(l.ranked) > 0 {
			numbers[i] = l.ranked[code]
		}
	}
	return true
}

// compare is asked for after keys.
func (l *leaves) compare(a, b uint32) int {
	if l.palette == nil {
		return l.plain.compare(a, b)
	}
	return cmp.Compare(l.ranked[l.codes.at(a)], l.ranked[l.codes.at(b)])
}

func (l *leaves) bytes() int64 {
	return l.plain.bytes() + int64(4*l.codes.n+8*len(l.valid.words))
}

func (l *leaves) empty() {
	l.codes, l.valid, l.ranked = pieces[uint32]{}, validity{}, nil
	l.plain.empty()
}
