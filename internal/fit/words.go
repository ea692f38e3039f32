package fit

import (
	"encoding/binary"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// words numbers the texts of one column as they are met, and keeps for each number the value that it was read as: a text that was met before is
// neither read nor compared again, neither here nor by who takes the numbers. It belongs to one worker and outlives blocks.
type words struct {
	numbers *numberTable // nil where texts are no numbers in the usual notation
	short   shortWords
	wide    wideWords
	// long are the numbers plus one of longer texts, doubled those of texts with doubled quotes, as they stand.
	long, doubled map[string]uint32
	values        *column // by number
	looked        int     // how many texts were looked up
	gone          bool
	// dictionary holds the values so far; it stays the same one until there are more.
	dictionary *array.Data
}

// noValue is the number of texts that stand for no value.
const noValue = 1<<32 - 1

// Numbering is given up when so few of the first texts were met before that more than mostWords different ones are to be expected, when half of the texts
// are still new later, or when there are too many.
const (
	firstLook = 512
	laterLook = 32 << 10
	mostWords = 32 << 10
)

// fewestWords is how many values a column is prepared for.
const fewestWords = 256

// numbered reports whether a column of the type can have its texts numbered.
func numbered(k schema.Kind) bool {
	switch k {
	case schema.String, schema.Long, schema.Int, schema.Double, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return true
	}
	return false
}

func newWords(f schema.Field, room *int) *words {
	w := &words{values: newColumn(f, nil, fewestWords), short: newShortWords(), wide: newWideWords(), long: map[string]uint32{}, doubled: map[string]uint32{}}
	switch f.Type.Kind {
	case schema.Long, schema.Int, schema.Double:
		if w.values.reader.usual() {
			w.numbers = &numberTable{digits: newDigits(-1), room: room}
		}
	}
	return w
}

// read takes the value of a new text; null says that it stands for none.
func (w *words) read(text []byte) (null, ok bool) {
	c := w.values
	if c.field.Type.Kind == schema.String && c.isNullToken(text) {
		return true, true
	}
	if c.scalar(text) {
		return false, true
	}
	null = c.isNullToken(text)
	return null, null
}

// number returns the number plus one of a text, reading it when it is new; ok is false when it is no value of the column.
func (w *words) number(r *delimited.Records, row, field int, scratch *[]byte) (id uint32, ok bool) {
	text, _, doubled := r.Text(row, field)
	switch {
	case doubled:
		id = w.doubled[string(text)]
	case len(text) > wideWord:
		id = w.long[string(text)]
	case len(text) > shortWord:
		id = w.wide.find(text)
	default:
		id = w.short.find(text)
	}
	if id != 0 {
		return id, true
	}
	value, _ := r.Value(row, field, scratch)
	null, ok := w.read(value)
	switch {
	case !ok:
		return 0, false
	case null:
		id = noValue
	default:
		id, w.dictionary = uint32(w.values.n), nil
	}
	switch {
	case !doubled && !null && w.addNumber(text, id):
	case doubled:
		w.doubled[string(text)] = id
	case len(text) > wideWord:
		w.long[string(text)] = id
	case len(text) > shortWord:
		w.wide.add(text, id)
	default:
		w.short.add(text, id)
	}
	return id, true
}

// addNumber is add for a text that is a number. Where that is beyond the table, all numbers to come are texts like others.
func (w *words) addNumber(text []byte, id uint32) bool {
	if w.numbers == nil {
		return false
	}
	added, full := w.numbers.add(text, id)
	if full {
		w.numbers.free()
		w.numbers = nil
	}
	return added
}

// known appends to codes the numbers of a field's texts from one row on, as long as each was met before, stands for a value and is nothing
// special, and returns at which row that ends.
func (w *words) known(codes []uint32, r *delimited.Records, field, from, to int) ([]uint32, int) {
	if w.numbers != nil {
		return w.numbers.known(codes, r, field, from, to)
	}
	data, short, wide := r.Block.Data, &w.short, &w.wide
	for row := from; row < to; row++ {
		start, end, _, doubled := r.Place(row, field)
		n := end - start
		if n == 0 || n > wideWord || doubled || start+wideWord > len(data) {
			return codes, row
		}
		low := binary.LittleEndian.Uint64(data[start:])
		var id uint32
		if n <= shortWord {
			key := low << ((64 - 8*n) & 63)
			if s := &short.slots[short.slot(key)]; s.key == key && s.size == uint32(n) {
				id = s.id
			} else {
				id = short.slots[short.place(key, uint32(n))].id
			}
		} else {
			high := binary.LittleEndian.Uint64(data[end-8:])
			if s := &wide.slots[wide.slot(low, high)]; s.low == low && s.high == high && s.size == uint32(n) {
				id = s.id
			} else {
				id = wide.slots[wide.place(wideSlot{low: low, high: high, size: uint32(n)})].id
			}
		}
		if id == 0 || id == noValue {
			return codes, row
		}
		codes = append(codes, id-1)
	}
	return codes, to
}

// pays decides whether numbering still does; when it does not, nothing is kept.
func (w *words) pays() bool {
	if w.gone {
		return false
	}
	looked, repeated := float64(w.looked), float64(w.looked-w.values.n)
	switch {
	case w.looked >= laterLook:
		w.gone = repeated < looked/2
	case w.looked >= firstLook:
		// Of n values out of d equally common ones, n*n/2d are expected to repeat another.
		w.gone = repeated*2*mostWords < looked*looked && repeated < looked/2
	}
	if w.gone = w.gone || w.values.n > 2*mostWords; w.gone {
		if w.numbers != nil {
			w.numbers.free()
		}
		*w = words{gone: true}
	}
	return !w.gone
}

// data returns the values by their numbers.
func (w *words) data() *array.Data {
	if w.dictionary == nil {
		w.dictionary = w.values.data()
	}
	return w.dictionary
}

// codedType is the type of a column of numbers.
func codedType(values arrow.DataType) arrow.DataType {
	return &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: values}
}

// coded hands over the numbers of a column's values.
func (c *column) coded() *array.Data {
	buffers := []*memory.Buffer{nil, memory.NewBufferBytes(arrow.Uint32Traits.CastToBytes(c.codes))}
	if c.nulls > 0 {
		buffers[0] = memory.NewBufferBytes(c.valid)
	}
	return array.NewDataWithDictionary(codedType(c.dt), c.n, buffers, c.nulls, 0, c.words.data())
}

// uncoded makes a column of values of one of numbers.
func (c *column) uncoded() *column {
	out, from := newColumn(c.field, c.parent, c.n), c.words.values
	for i, code := range c.codes {
		if c.isNull(i) {
			out.null()
			continue
		}
		out.mark(true)
		switch c.field.Type.Kind {
		case schema.String:
			out.bytes = append(out.bytes, from.bytes[from.offsets[code]:from.offsets[code+1]]...)
			out.offsets = append(out.offsets, int32(len(out.bytes)))
		case schema.Int, schema.Date:
			out.ints = append(out.ints, from.ints[code])
		case schema.Double:
			out.doubles = append(out.doubles, from.doubles[code])
		default:
			out.longs = append(out.longs, from.longs[code])
		}
	}
	return out
}
