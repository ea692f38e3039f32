package fit

import (
	"math/bits"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/lexical"
	"trevak/internal/parse/cells"
	"trevak/internal/schema"
	"trevak/internal/wordtable"
)

// words numbers the texts of one column as they are met, and keeps for each number the value that it was read as: a text that
// was met before is neither read nor compared again, neither here nor by who takes the numbers. It belongs to one worker and
// outlives blocks.
type words struct {
	lengths []uint32     // of texts, by their numbers, in characters
	numbers *numberTable // nil where texts are no numbers in the usual notation, and until it is clear that numbering pays
	room    *int         // see numberTable
	table   wordtable.Table
	long    longTable
	values  *column // by number
	looked  int     // how many texts of the blocks before were looked up
	next    int     // after how many it is decided again whether numbering pays
	gone    bool
	// dictionary holds the values so far; it stays the same one until there are more.
	dictionary *array.Data
}

// Numbering is given up when so few of the first texts were met before that more than mostWords different ones are to be
// expected, when half of the texts are still new later, or when there are too many, or they take too many bytes.
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
	return &words{values: newColumn(f, nil, fewestWords), table: wordtable.New(), next: firstLook, room: room}
}

// read takes the value of a new text, and returns its number plus one; ok is false when it is none.
func (w *words) read(text []byte) (id uint32, ok bool) {
	c := w.values
	if c.field.Type.Kind == schema.String && c.isNullToken(text) || !c.scalar(text) {
		return 0, false
	}
	w.dictionary = nil
	if c.field.Type.Kind == schema.String {
		w.lengths = append(w.lengths, uint32(utf8.RuneCount(text)))
	}
	return uint32(c.n), true
}

// longestOf returns the length of the longest text of a column whose texts are numbered, in characters. Texts of records that
// were taken back do not count.
func (c *column) longestOf() int {
	if len(c.words.lengths) == 0 {
		return 0
	}
	longest := uint32(0)
	for i, code := range c.codes {
		if n := c.words.lengths[code]; n > longest && !c.isNull(i) {
			longest = n
		}
	}
	return int(longest)
}

// number returns the number plus one of a column's text, reading it when it is new; ok is false when it is no value of the
// column. value is the text with doubled quotes undone.
func (w *words) number(in *cells.Column, row int, value []byte) (id uint32, ok bool) {
	text, quoted, doubled := in.Text(row)
	var key lexical.Word
	switch {
	case len(text) <= lexical.WordBytes:
		key = lexical.TextWord(text).Quoted(quoted, doubled)
		id = w.table.Find(key)
	default:
		id = w.long.find(text, doubled)
	}
	if id != 0 {
		if !doubled {
			w.addNumber(text, id)
		}
		return id, true
	}
	id, ok = w.read(value)
	switch {
	case !ok:
	case len(text) <= lexical.WordBytes:
		if doubled || !w.addNumber(text, id) {
			w.table.Add(key, id)
		}
	default:
		w.long.add(text, doubled, id)
	}
	return id, ok
}

// find returns the number plus one of a text that stands for itself, reading it when it is new; ok is false when it is no value
// of the column. What follows the text in memory must be of the same owner.
func (w *words) find(text []byte) (id uint32, ok bool) {
	if len(text) > lexical.WordBytes {
		if id = w.long.find(text, false); id != 0 {
			return id, true
		}
		if id, ok = w.read(text); ok {
			w.long.add(text, false, id)
		}
		return id, ok
	}
	// The empty text would be no value if it were not quoted.
	key := lexical.TextWord(text).Quoted(true, false)
	if id = w.table.Find(key); id != 0 {
		return id, true
	}
	if id, ok = w.read(text); ok {
		w.table.Add(key, id)
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

// known sets codes to the numbers of a column's texts from one row on, up to lexical.Together of them; present has a bit for
// each that has one, and others for each that must be looked at by itself. The others are empty.
func (w *words) known(texts *shortTexts, codes []uint32, in *cells.Column, row int) (present, others uint64) {
	if w.numbers != nil {
		return w.numbers.known(texts, codes, in, row)
	}
	far := in.Words(row, len(codes), &texts.words)
	present, others = w.table.Known(codes, &texts.words)
	for ; far != 0; far &= far - 1 {
		i := bits.TrailingZeros64(far)
		text, _, doubled := in.Text(row + i)
		if id := w.long.find(text, doubled); id != 0 {
			codes[i] = id - 1
			present |= 1 << i
		} else {
			others |= 1 << i
		}
	}
	return present, others
}

// pays decides whether numbering still does, before a block is read; when it does not, nothing is kept.
func (w *words) pays() bool {
	if w.gone || w.given(w.looked) {
		*w = words{gone: true}
		return false
	}
	if w.looked >= firstLook && w.room != nil {
		switch c := w.values; c.kind {
		case schema.Long, schema.Int, schema.Double:
			if c.reader.usual() {
				w.numbers = newNumberTable(w.room)
			}
		}
		w.room = nil
	}
	return true
}

// given decides whether numbering is given up after so many texts were looked up.
func (w *words) given(texts int) bool {
	w.next = max(w.next, 2*texts)
	looked, repeated := float64(texts), float64(texts-w.values.n)
	switch {
	case texts >= laterLook:
		w.gone = repeated < looked/2
	case texts >= firstLook:
		// Of n values out of d equally common ones, n*n/2d are expected to repeat another.
		w.gone = repeated*2*mostWords < looked*looked && repeated < looked/2
	}
	if w.gone = w.gone || w.values.n > 2*mostWords || len(w.values.bytes) > mostWordBytes; w.gone && w.numbers != nil {
		w.numbers.free()
	}
	return w.gone
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
	if ok {
		c.setValid(true)
		c.codes = append(c.codes, id-1)
	}
	return ok
}

// takeEscaped is take for a JSON string as it stands between its quotes, with escapes; ok is false where it was not met before,
// or is short.
func (c *column) takeEscaped(raw []byte) (ok bool) {
	if c.words == nil || len(raw) <= lexical.WordBytes {
		return false
	}
	id := c.words.long.find(raw, true)
	if id == 0 {
		return false
	}
	c.setValid(true)
	c.codes = append(c.codes, id-1)
	return true
}

// keepEscaped has takeEscaped know a string with its number plus one.
func (w *words) keepEscaped(raw []byte, id uint32) {
	if len(raw) > lexical.WordBytes {
		w.long.add(raw, true, id)
	}
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

// uncoded makes a column of values of one of numbers, with room for so many.
func (c *column) uncoded(rows int) *column {
	out, from := newColumn(c.field, c.parent, rows), c.words.values
	out.tokens, out.longest = c.tokens, c.longestOf()
	out.stamp, out.position, out.spans = c.stamp, c.position, c.spans
	for i, code := range c.codes {
		if c.isNull(i) {
			out.null()
			continue
		}
		out.setValid(true)
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
