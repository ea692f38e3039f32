package columnar

import (
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/parquet"

	"trevak/internal/columnar/encode"
)

// values takes the values of one leaf column, keeps those of the open page, and encodes pages. A column begins with a
// dictionary and leaves it for good, within a row group, when it does not pay.
type values interface {
	// add takes the values of a batch that are there.
	add(l leaf)
	// pending returns about how many bytes the open page takes.
	pending() int
	// page encodes and forgets the values of the open page, in the memory of dst where that suffices. A page without values is
	// plain, whatever the others are: it would need a dictionary otherwise.
	page(dst []byte) (body []byte, encoding parquet.Encoding, r extremes)
	// dictionary encodes the dictionary of the row group; n is 0 when no page uses one.
	dictionary() (body []byte, n int)
	// notNumbers returns how many values so far were not a number, for floating-point columns.
	notNumbers() int64
	// reset begins a row group, renew a file: nothing that was learned of the values before counts any more.
	reset()
	renew()
}

// extremes are the smallest and the largest value of a page or a row group, in plain encoding; nil where there is none.
type extremes struct{ low, high []byte }

// newValues returns what encodes a leaf of an Arrow type, nil for types that are not written. codec is the one that its pages
// are compressed with.
func newValues(dt arrow.DataType, codec Codec) values {
	switch dt.ID() {
	case arrow.INT64, arrow.TIMESTAMP, arrow.TIME64:
		return newFixed[int64](false, codec)
	case arrow.INT32, arrow.DATE32:
		return newFixed[int32](false, codec)
	case arrow.FLOAT64:
		return newFixed[int64](true, codec)
	case arrow.FLOAT32:
		return newFixed[int32](true, codec)
	case arrow.STRING, arrow.BINARY:
		return newTexts(codec)
	case arrow.FIXED_SIZE_BINARY:
		return newFixedTexts(dt.(*arrow.FixedSizeBinaryType).ByteWidth, false)
	case arrow.DECIMAL128:
		return newDecimals(dt.(*arrow.Decimal128Type).Precision, codec)
	case arrow.BOOL:
		return &booleans{}
	}
	return nil
}

// choice is the encoding of a column's pages without a dictionary, settled by trial on the first of them in each row group.
type choice struct {
	codec   Codec
	settled bool
	best    parquet.Encoding
	forced  bool // best was stated
}

// trialGain is what an encoding must save, compressed, to be taken instead of the plain one, which is the quickest to read.
const trialGain = 0.95

// trialValues is on how many of a page's values encodings are tried.
const trialValues = 4 << 10

// fewValues is how many values of a page do not make up for a trial.
const fewValues = 2 << 10

// of returns the encoding to use, for few values the plain one. forms encode the values of the page in the encodings that
// are tried, the plain one first.
func (c *choice) of(few bool, encodings []parquet.Encoding, forms []func() []byte) parquet.Encoding {
	if c.settled || c.forced {
		return c.best
	}
	if few {
		return encodings[0]
	}
	c.settled, c.best = true, encodings[0]
	plain := c.codec.size(forms[0]())
	smallest := plain
	for i, form := range forms[1:] {
		if n := c.codec.size(form()); n < smallest && float64(n) < trialGain*float64(plain) {
			c.best, smallest = encodings[i+1], n
		}
	}
	return c.best
}

// A dictionary is given up when nearly every one of the first values is new, when later most are, or when it has grown large.
const (
	firstLook, firstShare   = 8 << 10, 0.90
	secondLook, secondShare = 64 << 10, 0.75
	dictionaryBytes         = 1 << 20
)

// shortRuns is how long runs of the same value must be on average to speak for a dictionary.
const shortRuns = 4

// dictionaryRoom returns how large the dictionaries of a file with so many leaf columns may become, in bytes: those of very
// many columns together shall stay within bounds too. A value with its place in the table takes about wholeValue bytes.
func dictionaryRoom(leaves int) int {
	const many, all, value, wholeValue = 500, 96 << 20, 8, 56
	if leaves <= many {
		return dictionaryBytes
	}
	return all / leaves / wholeValue * value
}

// judge decides whether a dictionary of n different values, of so many bytes, still pays after count values. It may have most bytes.
func judge(n, size, count, most int) bool {
	share := float64(n) / float64(max(1, count))
	return size <= most && (count < firstLook || share <= firstShare) && (count < secondLook || share <= secondShare)
}

// fewRepeat reports whether the values of a first page are so few, and nearly all different, that it is better without a
// dictionary.
func fewRepeat(n, count int) bool { return count < firstLook && float64(n) > firstShare*float64(count) }

// scattered reports whether count values, n of them different, are likely to be of so many that no dictionary will pay. It
// holds for measured values, which come in no order; keys may all come once before any comes again.
func scattered(n, count int) bool {
	const look, different = 1 << 10, 40_000
	return count >= look && count < firstLook && 2*(count-n)*different < count*count
}

// fixed encodes values of 4 or 8 bytes; floating-point ones are handled as their bits.
type fixed[T int32 | int64] struct {
	floating bool
	dict     encode.Fixed[T]
	ids      []uint32 // of the open page, while there is a dictionary
	plain    []T      // of the open page, once there is none
	gone     bool     // the dictionary was given up
	used     bool     // a page with ids was encoded
	count    int      // values in the row group
	low      T
	high     T
	ranged   bool
	nans     int64
	scratch  []T
	never    bool // the row group before gave the dictionary up at once, so this one has none
	choice   choice
	known    translations
	codes    []uint32 // scratch
	pages    uint32   // number of the open page, from 1
	most     int      // bytes of the dictionary
	odd      bool     // a value that is no number has come with a dictionary
}

func newFixed[T int32 | int64](floating bool, codec Codec) *fixed[T] {
	return &fixed[T]{floating: floating, choice: choice{codec: codec}, pages: 1, most: dictionaryBytes}
}

// stored returns the values of an array in their stored form.
func stored[T int32 | int64](a arrow.Array) []T {
	data := a.Data()
	if data.Len() == 0 {
		return nil
	}
	return arrow.GetData[T](data.Buffers()[1].Bytes())[data.Offset() : data.Offset()+data.Len()]
}

func (f *fixed[T]) add(l leaf) {
	if d, ok := l.values.(*array.Dictionary); ok {
		f.addCoded(d, l)
		return
	}
	f.addPlain(take(l, stored[T](l.values), &f.scratch))
}

// addPlain takes values that are all there.
func (f *fixed[T]) addPlain(list []T) {
	f.nans += int64(f.stretch(list))
	f.count += len(list)
	if f.gone {
		f.plain = append(room(f.plain, len(list)), list...)
		return
	}
	f.ids = f.dict.Add(room(f.ids, len(list)), list)
	f.judge()
}

// judge gives the dictionary up where it does not pay.
func (f *fixed[T]) judge() {
	var v T
	// Values that come in short runs, each of a new one, are kept as well by the codec.
	count := f.count
	if runs := f.count - f.dict.Repeated; f.choice.codec.name() != "none" && f.count < shortRuns*runs {
		count = runs
	}
	if f.choice.forced || judge(len(f.dict.Values), len(f.dict.Values)*sizeOf(v), count, f.most) &&
		!(f.floating && scattered(len(f.dict.Values), f.count)) {
		return
	}
	f.never = !f.used
	f.giveUp()
	f.ids, f.dict = nil, encode.Fixed[T]{Values: f.dict.Values}
}

// giveUp keeps the values of the open page themselves.
func (f *fixed[T]) giveUp() {
	f.gone = true
	f.plain = room(f.plain[:0], len(f.ids))
	for _, id := range f.ids {
		f.plain = append(f.plain, f.dict.Values[id])
	}
	f.ids = f.ids[:0]
}

// limitDictionary says how large the dictionary may become, in bytes.
func (f *fixed[T]) limitDictionary(most int) { f.most = most }

func sizeOf[T int32 | int64](v T) int {
	if _, narrow := any(v).(int32); narrow {
		return 4
	}
	return 8
}

// stretch widens the extremes of the open page. Values that are not a number, which it counts, have no place in an order.
func (f *fixed[T]) stretch(list []T) (nans int) {
	if len(list) == 0 {
		return 0
	}
	if f.floating {
		return f.stretchFloats(list)
	}
	low, high := list[0], list[0]
	for _, v := range list {
		low, high = min(low, v), max(high, v)
	}
	if !f.ranged {
		f.low, f.high, f.ranged = low, high, true
	}
	f.low, f.high = min(f.low, low), max(f.high, high)
	return 0
}

// stretchFloats is stretch for floating-point numbers.
func (f *fixed[T]) stretchFloats(list []T) (nans int) {
	var low, high T
	lowest, highest := math.Inf(1), math.Inf(-1)
	if f.ranged {
		low, high, lowest, highest = f.low, f.high, asFloat(f.low), asFloat(f.high)
	}
	for _, v := range list {
		x := asFloat(v)
		if x < lowest {
			low, lowest = v, x
		}
		if x > highest {
			high, highest = v, x
		}
		if x != x {
			nans++
		}
	}
	if nans == len(list) {
		return nans
	}
	// Nothing is below the one infinity, or above the other.
	if math.IsInf(lowest, 1) {
		low = high
	}
	if math.IsInf(highest, -1) {
		high = low
	}
	f.low, f.high, f.ranged = low, high, true
	return nans
}

func asFloat[T int32 | int64](v T) float64 {
	if narrow, ok := any(v).(int32); ok {
		return float64(math.Float32frombits(uint32(narrow)))
	}
	return math.Float64frombits(uint64(v))
}

func (f *fixed[T]) pending() int {
	var v T
	return 4*len(f.ids) + sizeOf(v)*len(f.plain)
}

func (f *fixed[T]) page(dst []byte) ([]byte, parquet.Encoding, extremes) {
	r := f.extremes()
	f.ranged = false
	f.pages++
	if !f.gone && !f.used && !f.choice.forced && fewRepeat(len(f.dict.Values), f.count) {
		f.giveUp()
	}
	if !f.gone && len(f.ids) > 0 {
		f.used = true
		body := appendIDs(dst[:0], f.ids, len(f.dict.Values))
		f.ids = f.ids[:0]
		return body, parquet.Encodings.RLEDict, r
	}
	body, encoding := f.encodePlain(dst)
	f.plain = f.plain[:0]
	return body, encoding, r
}

// encodePlain encodes the values of a page without a dictionary: whole numbers as deltas where that saves much, floating-point
// ones split into streams of bytes where they compress better so.
func (f *fixed[T]) encodePlain(dst []byte) ([]byte, parquet.Encoding) {
	var v T
	list := f.plain
	plain := func() []byte { dst = encode.Plain(dst[:0], list); return dst }
	split := func() []byte { dst = encode.Split(dst[:0], list); return dst }
	switch {
	case len(f.plain) == 0:
	case f.choice.forced && f.choice.best == parquet.Encodings.Plain:
	case !f.floating:
		// Deltas are worth their decoding only where they save much.
		if dst = encode.Delta(dst[:0], f.plain); f.choice.forced || len(dst) <= len(f.plain)*sizeOf(v)*3/4 {
			return dst, parquet.Encodings.DeltaBinaryPacked
		}
	default:
		list = f.plain[:min(len(f.plain), trialValues)]
		best := f.choice.of(len(list) < fewValues, []parquet.Encoding{parquet.Encodings.Plain,
			parquet.Encodings.ByteStreamSplit}, []func() []byte{plain, split})
		if list = f.plain; best == parquet.Encodings.ByteStreamSplit {
			return split(), parquet.Encodings.ByteStreamSplit
		}
	}
	return plain(), parquet.Encodings.Plain
}

// appendIDs writes dictionary ids as a page holds them: their width and then the hybrid encoding.
func appendIDs(dst []byte, ids []uint32, n int) []byte {
	width := max(1, encode.Width(n-1))
	return encode.Hybrid(append(dst, byte(width)), ids, width)
}

// extremes writes the range of the open page. Of the zeros the range takes both, as the specification asks of writers.
func (f *fixed[T]) extremes() extremes {
	if !f.ranged {
		return extremes{}
	}
	low, high := f.low, f.high
	if f.floating && asFloat(low) == 0 {
		low = T(-1) << (8*sizeOf(low) - 1) // minus zero
	}
	if f.floating && asFloat(high) == 0 {
		high = 0
	}
	return extremes{encode.Plain(nil, []T{low}), encode.Plain(nil, []T{high})}
}

// forceEncoding makes every page take one encoding, for a trial.
func (f *fixed[T]) forceEncoding(e parquet.Encoding) {
	f.choice.forced, f.choice.best = true, e
	f.gone = e != parquet.Encodings.RLEDict
	f.never = f.gone
}

func (f *fixed[T]) dictionary() ([]byte, int) {
	if !f.used {
		return nil, 0
	}
	return encode.Plain(nil, f.dict.Values), len(f.dict.Values)
}

func (f *fixed[T]) notNumbers() int64 { return f.nans }

func (f *fixed[T]) reset() {
	f.dict.Reset()
	f.ids, f.plain = f.ids[:0], f.plain[:0]
	f.gone, f.used, f.count, f.ranged, f.choice.settled = f.never, false, 0, false, false
	f.pages++
	f.known.forget(f.pages)
	f.odd = false
}

func (f *fixed[T]) renew() {
	if !f.choice.forced {
		f.never = false
	}
	f.reset()
	f.nans = 0
}

// booleans are packed one bit each.
type booleans struct{ list encode.Bitmap }

func (b *booleans) add(l leaf) {
	a := l.values.(*array.Boolean)
	if l.valid == nil && l.present == nil {
		b.list.Append(a.Data().Buffers()[1].Bytes(), a.Data().Offset(), a.Len())
		return
	}
	for i := range l.all {
		var bit [1]byte
		if a.Value(i) {
			bit[0] = 1
		}
		b.list.Append(bit[:], 0, 1)
	}
}

func (b *booleans) pending() int { return len(b.list.Bytes) }

func (b *booleans) page(dst []byte) ([]byte, parquet.Encoding, extremes) {
	var r extremes
	if b.list.N > 0 {
		r = extremes{[]byte{1}, []byte{0}}
	}
	if b.list.Ones < b.list.N {
		r.low[0] = 0
	}
	if b.list.Ones > 0 {
		r.high[0] = 1
	}
	encoding := parquet.Encodings.RLE
	if dst = encode.Runs(dst[:0], &b.list); b.list.N == 0 || len(dst) > len(b.list.Bytes) {
		dst, encoding = append(dst[:0], b.list.Bytes...), parquet.Encodings.Plain
	}
	b.list.Reset()
	return dst, encoding, r
}

func (b *booleans) dictionary() ([]byte, int) { return nil, 0 }

func (b *booleans) notNumbers() int64 { return 0 }

func (b *booleans) reset() { b.list.Reset() }

func (b *booleans) renew() { b.list.Reset() }
