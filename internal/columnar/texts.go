package columnar

import (
	"bytes"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/parquet"

	"trevak/internal/columnar/encode"
)

// texts encodes byte strings.
type texts struct {
	width int // of every value in bytes, 0 where each has a length of its own
	order func(a, b []byte) int
	dict  encode.Text
	ids   []uint32 // of the open page, while there is a dictionary
	plain []byte   // the open page, once there is none
	gone  bool     // the dictionary was given up
	never bool     // the row group before gave it up at once, so this one has none
	used  bool     // a page with ids was encoded
	count int      // values in the row group
	pages uint32   // number of the open page, from 1
	most  int      // bytes of the dictionary
	seen  []uint32 // per id: the last page it occurred in
	low   []byte
	high  []byte
	some  bool // the open page has a value
	choice
	known translations
	codes []uint32 // scratch
}

func newTexts(codec Codec) *texts {
	return &texts{most: dictionaryBytes, pages: 1, order: bytes.Compare, choice: choice{codec: codec}}
}

// newFixedTexts encodes byte strings of one length; signed says that they are numbers in two's complement, big-endian.
func newFixedTexts(width int, signed bool) *texts {
	t := &texts{most: dictionaryBytes, width: width, pages: 1, order: bytes.Compare}
	if signed {
		t.order = compareSigned
	}
	return t
}

// variable is an array of byte strings of any length.
type variable interface {
	ValueBytes() []byte
	ValueOffsets() []int32
}

func (t *texts) add(l leaf) {
	if l.values.Len() == 0 {
		return
	}
	if d, ok := l.values.(*array.Dictionary); ok {
		t.addCoded(d, l)
		return
	}
	var value func(i int) []byte
	switch a := l.values.(type) {
	case *array.FixedSizeBinary:
		value = a.Value
	case variable:
		data, offsets := a.ValueBytes(), a.ValueOffsets()
		base := offsets[0]
		value = func(i int) []byte { return data[offsets[i]-base : offsets[i+1]-base] }
	}
	t.each(l, value)
}

// each takes the values of a batch that are there, of which value returns the bytes.
func (t *texts) each(l leaf, value func(i int) []byte) {
	for i := range l.all {
		t.one(value(i))
	}
	if !t.gone {
		t.judge()
	}
}

// judge gives the dictionary up where it does not pay.
func (t *texts) judge() {
	if t.forced || judge(t.dict.Len(), len(t.dict.Bytes)+4*t.dict.Len(), t.count, t.most) {
		return
	}
	t.never = !t.used
	if t.giveUp(); t.never {
		t.dict, t.seen = encode.Text{}, nil
	}
}

// giveUp keeps the texts of the open page themselves.
func (t *texts) giveUp() {
	t.gone = true
	for _, id := range t.ids {
		t.plain = t.append(t.plain, t.dict.Value(id))
	}
	t.ids = t.ids[:0]
}

// limitDictionary says how large the dictionary may become, in bytes.
func (t *texts) limitDictionary(most int) { t.most = most }

// one takes a value. While there is a dictionary only the first occurrence in a page is held against the extremes.
func (t *texts) one(v []byte) {
	t.count++
	if t.gone {
		t.plain = t.append(t.plain, v)
		t.stretch(v)
		return
	}
	if n := len(t.ids); n > 0 && bytes.Equal(t.dict.Value(t.ids[n-1]), v) {
		// Texts often stand in runs.
		t.ids = append(t.ids, t.ids[n-1])
		return
	}
	id := t.dict.ID(v)
	t.ids = append(t.ids, id)
	if int(id) == len(t.seen) {
		t.seen = append(t.seen, 0)
	}
	if t.seen[id] != t.pages {
		t.seen[id] = t.pages
		t.stretch(v)
	}
}

// append writes a value in plain encoding.
func (t *texts) append(dst, v []byte) []byte {
	if t.width > 0 {
		return append(dst, v...)
	}
	return encode.PlainText(dst, v)
}

func (t *texts) stretch(v []byte) {
	if t.width == 0 {
		// More of it does not count.
		v = v[:min(len(v), longestBound+utf8.UTFMax)]
	}
	if !t.some {
		t.low, t.high, t.some = append(t.low[:0], v...), append(t.high[:0], v...), true
		return
	}
	if t.order(v, t.low) < 0 {
		t.low = append(t.low[:0], v...)
	}
	if t.order(v, t.high) > 0 {
		t.high = append(t.high[:0], v...)
	}
}

func (t *texts) pending() int { return 4*len(t.ids) + len(t.plain) }

// longestBound is from how many bytes on the extremes of texts are shortened (Parquet, Statistics: they may be bounds that do
// not occur): they stand in each page header, in the column index and in the footer.
const longestBound = 256

// bounds returns the extremes of the open page, or what is below and above them and short; nothing where nothing short is above.
func (t *texts) bounds() extremes {
	low, high := append([]byte{}, t.low[:prefixEnd(t.low, longestBound)]...), append([]byte{}, t.high...)
	if len(high) > longestBound && t.width == 0 {
		if high = above(high[:longestBound]); high == nil {
			return extremes{}
		}
	}
	return extremes{low, high}
}

// prefixEnd returns where a text is cut that is longer than most bytes: before the character that would go beyond.
func prefixEnd(b []byte, most int) int {
	if len(b) <= most {
		return len(b)
	}
	for end := most; end > most-utf8.UTFMax; end-- {
		if utf8.RuneStart(b[end]) {
			return end
		}
	}
	return most
}

// above returns the least text of whole characters that stands behind all that begin with another, nil where there is none.
func above(prefix []byte) []byte {
	for end := len(prefix); end > 0; {
		r, size := utf8.DecodeLastRune(prefix[:end])
		if end -= size; r == utf8.RuneError && size == 1 {
			// Part of a character that was cut, or bytes that are no text.
			continue
		}
		if r++; r == 0xd800 {
			r = 0xe000
		}
		if r <= utf8.MaxRune {
			return utf8.AppendRune(bytes.Clone(prefix[:end]), r)
		}
	}
	return nil
}

func (t *texts) page(dst []byte) ([]byte, parquet.Encoding, extremes) {
	var r extremes
	if t.some {
		r = t.bounds()
	}
	t.some = false
	t.pages++
	if !t.gone && !t.used && !t.forced && fewRepeat(t.dict.Len(), t.count) {
		t.giveUp()
	}
	if !t.gone && len(t.ids) > 0 {
		t.used = true
		body := appendIDs(dst[:0], t.ids, t.dict.Len())
		t.ids = t.ids[:0]
		return body, parquet.Encodings.RLEDict, r
	}
	body, encoding := t.encodePlain(dst)
	t.plain = t.plain[:0]
	return body, encoding, r
}

// encodePlain encodes the texts of a page without a dictionary: as they are, with all lengths before them, or by what each
// shares with the one before.
func (t *texts) encodePlain(dst []byte) ([]byte, parquet.Encoding) {
	plain := func() []byte { dst = append(dst[:0], t.plain...); return dst }
	lengths := func() []byte { dst = encode.Lengths(dst[:0], t.plain); return dst }
	prefixes := func() []byte { dst = encode.Prefixes(dst[:0], t.plain); return dst }
	encoding := parquet.Encodings.Plain
	if t.width == 0 && len(t.plain) > 0 {
		encoding = t.of(t.count < fewValues, []parquet.Encoding{encoding, parquet.Encodings.DeltaLengthByteArray,
			parquet.Encodings.DeltaByteArray},
			[]func() []byte{plain, lengths, prefixes})
	}
	switch encoding {
	case parquet.Encodings.DeltaLengthByteArray:
		return lengths(), encoding
	case parquet.Encodings.DeltaByteArray:
		return prefixes(), encoding
	}
	return plain(), encoding
}

// forceEncoding makes every page take one encoding, for a trial.
func (t *texts) forceEncoding(e parquet.Encoding) {
	t.forced, t.best = true, e
	t.gone = e != parquet.Encodings.RLEDict
	t.never = t.gone
}

func (t *texts) dictionary() ([]byte, int) {
	if !t.used {
		return nil, 0
	}
	var body []byte
	for id := range t.dict.Len() {
		body = t.append(body, t.dict.Value(uint32(id)))
	}
	return body, t.dict.Len()
}

func (t *texts) notNumbers() int64 { return 0 }

func (t *texts) reset() {
	t.dict.Reset()
	t.ids, t.plain, t.seen = t.ids[:0], t.plain[:0], t.seen[:0]
	t.gone, t.used, t.count, t.some, t.settled = t.never, false, 0, false, false
	t.pages++
	t.known.forget(t.pages)
}

func (t *texts) renew() {
	if !t.forced {
		t.never = false
	}
	t.reset()
}
