package fit

import (
	"encoding/binary"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/lexical"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// words numbers the texts of one column as they are met, and keeps for each number the value that it was read as: a text that was met before is
// neither read nor compared again, neither here nor by who takes the numbers. It belongs to one worker and outlives blocks.
type words struct {
	numbers *numberTable // nil where texts are no numbers in the usual notation, and until it is clear that numbering pays
	room    *int         // see numberTable
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
// are still new later, or when there are too many, or they take too many bytes.
const (
	firstLook     = 512
	laterLook     = 32 << 10
	mostWords     = 32 << 10
	mostWordBytes = 1 << 20
)

// mostNumbered is how many columns a schema may have whose texts are numbered: each takes memory before it pays.
const mostNumbered = 1000

// fewColumns reports whether the texts of a schema's columns may be numbered.
func fewColumns(s schema.Schema) bool {
	columns := 0
	s.Walk(func(string, *schema.Field) { columns++ })
	return columns <= mostNumbered
}

// fewestWords is how many values a column is prepared for.
const fewestWords = 64

// numbered reports whether a column of the type can have its texts numbered.
func numbered(k schema.Kind) bool {
	switch k {
	case schema.String, schema.Long, schema.Int, schema.Double, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return true
	}
	return false
}

func newWords(f schema.Field, room *int) *words {
	return &words{values: newColumn(f, nil, fewestWords), short: newShortWords(), wide: newWideWords(), long: map[string]uint32{}, doubled: map[string]uint32{}, room: room}
}

// read takes the value of a new text, and returns its number plus one or noValue; ok is false when it is neither.
func (w *words) read(text []byte) (id uint32, ok bool) {
	c := w.values
	switch {
	case c.field.Type.Kind == schema.String && c.isNullToken(text):
		return noValue, true
	case c.scalar(text):
		w.dictionary = nil
		return uint32(c.n), true
	case c.isNullToken(text):
		return noValue, true
	}
	return 0, false
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
		if id != noValue && !doubled {
			w.addNumber(text, id)
		}
		return id, true
	}
	value, _ := r.Value(row, field, scratch)
	id, ok = w.read(value)
	switch {
	case !ok:
	case doubled:
		w.doubled[string(text)] = id
	case id == noValue || !w.addNumber(text, id):
		w.keep(text, id)
	}
	return id, ok
}

// keep adds a text with its number plus one.
func (w *words) keep(text []byte, id uint32) {
	switch {
	case len(text) > wideWord:
		w.long[string(text)] = id
	case len(text) > shortWord:
		w.wide.add(text, id)
	default:
		w.short.add(text, id)
	}
}

// find returns the number plus one of a text that stands for itself, reading it when it is new; ok is false when it is no value of the column. What
// follows the text in memory must be of the same owner.
func (w *words) find(text []byte) (id uint32, ok bool) {
	n := len(text)
	switch {
	case n > wideWord:
		id = w.long[string(text)]
	case n > shortWord:
		id = w.wide.find(text)
	case n > 0 && cap(text) >= shortWord:
		key := binary.LittleEndian.Uint64(text[:shortWord]) << ((64 - 8*n) & 63)
		if s := &w.short.slots[w.short.slot(key)]; s.key == key && s.size == uint32(n) {
			id = s.id
		} else {
			id = w.short.slots[w.short.place(key, uint32(n))].id
		}
	default:
		id = w.short.find(text)
	}
	if id != 0 {
		return id, true
	}
	if id, ok = w.read(text); ok {
		w.keep(text, id)
	}
	return id, ok
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
	if w.gone = w.gone || w.values.n > 2*mostWords || len(w.values.bytes) > mostWordBytes; w.gone {
		if w.numbers != nil {
			w.numbers.free()
		}
		*w = words{gone: true}
		return false
	}
	if w.looked >= firstLook && w.room != nil {
		switch c := w.values; c.kind {
		case schema.Long, schema.Int, schema.Double:
			if c.reader.usual() {
				w.numbers = &numberTable{Digits: lexical.NewDigits(-1), room: w.room}
			}
		}
		w.room = nil
	}
	return true
}

// data returns the values by their numbers.
func (w *words) data() *array.Data {
	if w.dictionary == nil {
		w.dictionary = w.values.data()
	}
	return w.dictionary
}

// take appends the value of a text, by its number where the column's are numbered; ok is false when it is none.
func (c *column) take(text []byte) (ok bool) {
	if c.words == nil {
		return c.scalar(text)
	}
	id, ok := c.words.find(text)
	switch {
	case !ok:
	case id == noValue:
		c.null()
		c.tokens++
	default:
		c.mark(true)
		c.codes = append(c.codes, id-1)
	}
	return ok
}

// codedType is the type of a column of numbers.
func codedType(values arrow.DataType) arrow.DataType {
	return &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: values}
}

// numbers hands over the numbers of a column's values.
func (c *column) numbers() *array.Data {
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
