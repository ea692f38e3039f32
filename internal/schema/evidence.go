package schema

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
	"unicode/utf8"
)

// Place is where a value stands: the object's number among the source's, the 1-based line its record begins on, and the byte
// offset of that record in the unpacked object.
type Place struct {
	Object int
	Line   int64
	Offset int64
}

// Before reports whether p comes earlier in the source than q.
func (p Place) Before(q Place) bool {
	if p.Object != q.Object {
		return p.Object < q.Object
	}
	return p.Offset < q.Offset
}

// Instance is a value and where it stands.
type Instance struct {
	Place Place
	Text  string
}

// Evidence is what was seen in one column. The zero value is ready. Adding and merging give the same result in any order, so
// that workers can each keep their own.
type Evidence struct {
	// Seen is the set of classes that occurred, and Counts the number of values of each.
	Seen   Class
	Counts [Classes]int64
	// Style is how dates that are not in the order of ISO 8601 are written.
	Style Style
	unfit unfit // what does not read dates with names of months and the like
	// Whole and Fraction are the most digits that a number without an exponent has before and after its point.
	Whole, Fraction int
	// Longest is the length of the longest text, in characters.
	Longest int
	// Distinct counts the different texts, nulls not included, and Days the different days of dates and timestamps.
	Distinct, Days Sketch
	// Tokens counts the null tokens that occurred by their text.
	Tokens map[string]int64
	// Hashes holds a hash of each value while they are being kept to tell whether all differ. Repeats is set once two were the
	// same, crowded once there was no room to keep them all, so that it will never be known.
	Hashes   []uint64
	hashRoom *Room
	Repeats  bool
	crowded  bool

	// alternatives are other ways to read the texts.
	alternatives alternatives
	// orders are the first and the last day of dates that may have the day or the month first, by either reading.
	orders [2]days

	first      [Classes][]Instance // the earliest of each class, in order
	numbers    extremes
	texts      extremes
	day        int64 // that was added to Days last
	low, high  uint64
	hasExtreme bool
}

// extremes are the smallest and the largest value of an order, with what they are ordered by.
type extremes struct {
	low, high         []byte
	lowValue, hiValue float64
}

// instancesKept is how many values of each class are kept with their places.
const instancesKept = 3

// longestKept is how many bytes of a smallest or largest text, or of an instance, are kept.
const longestKept = 256

// First returns the earliest place of a class that occurred.
func (e *Evidence) First(c Class) Place {
	if list := e.first[c.Index()]; len(list) > 0 {
		return list[0].Place
	}
	return Place{}
}

// Instances returns the earliest values of a class.
func (e *Evidence) Instances(c Class) []Instance { return e.first[c.Index()] }

// Nulls returns how many values were null.
func (e *Evidence) Nulls() int64 { return e.Counts[ClassNull.Index()] }

// Values returns how many values were not null.
func (e *Evidence) Values() int64 {
	var n int64
	for _, c := range e.Counts[1:] {
		n += c
	}
	return n
}

// news reports whether a value of a class at a place is to be noted as one of the earliest.
func (e *Evidence) news(i int, p Place) bool {
	list := e.first[i]
	return len(list) < instancesKept || p.Before(list[len(list)-1].Place)
}

// note keeps a value as one of the earliest of its class.
func (e *Evidence) note(i int, n Instance) {
	list := e.first[i]
	at := len(list)
	for at > 0 && n.Place.Before(list[at-1].Place) {
		at--
	}
	list = slices.Insert(list, at, n)
	e.first[i] = list[:min(len(list), instancesKept)]
}

// count notes an occurrence of a class.
func (e *Evidence) count(class Class, p Place, text []byte) {
	i := class.Index()
	e.Counts[i]++
	e.Seen |= class
	if e.news(i, p) {
		e.note(i, Instance{p, string(text[:min(len(text), longestKept)])})
	}
}

// weigh takes what a value that is not null tells besides its class and place; a value that was weighed before may be left out.
// hash is its hash.
func (e *Evidence) weigh(text []byte, class Class, w *weighed, hash uint64) {
	e.Distinct.AddHash(hash)
	if len(text) > e.Longest {
		e.Longest = max(e.Longest, utf8.RuneCount(text))
	}
	e.stretch(text)
	switch class {
	case ClassLong, ClassWide, ClassDouble, ClassDecimal:
		e.Whole, e.Fraction = max(e.Whole, w.whole), max(e.Fraction, w.fraction)
		e.numbers.add(text, w.value)
	case ClassExponent, ClassSpecial:
		if w.value == w.value {
			e.numbers.add(text, w.value)
		}
	case ClassDate:
		e.addDay(w.day)
	case ClassTimestamp, ClassTimestampTz:
		e.numbers.add(text, w.value)
		e.addDay(w.day)
	case ClassDayFirst, ClassMonthFirst, ClassDayOrMonth, ClassYearFirst:
		e.Style |= w.style
		e.Days.Add(text[:min(len(text), 10)])
		if class == ClassDayOrMonth {
			e.addOrders(text)
		}
	case ClassNamed:
		e.unfit |= w.unfit
	case ClassLetter:
		e.Style |= w.style
	}
}

func (e *Evidence) addDay(day int64) {
	if day != e.day || e.Days.few == nil && e.Days.set == nil && e.Days.registers == nil {
		e.day = day
		e.Days.AddHash(mix(uint64(day), spread))
	}
}

// add widens the extremes; texts of the same value are put in order, so that 1.0 and 1.00 come out alike in any order of adding.
func (x *extremes) add(text []byte, value float64) {
	if x.low != nil && value > x.lowValue && value < x.hiValue {
		return
	}
	text = text[:min(len(text), longestKept)]
	if x.low == nil || value < x.lowValue || value == x.lowValue && bytes.Compare(text, x.low) < 0 {
		x.low, x.lowValue = append(x.low[:0], text...), value
	}
	if x.high == nil || value > x.hiValue || value == x.hiValue && bytes.Compare(text, x.high) > 0 {
		x.high, x.hiValue = append(x.high[:0], text...), value
	}
}

// stretch widens the extremes of texts. Their first eight bytes decide mostly.
func (e *Evidence) stretch(text []byte) {
	var prefix uint64
	if len(text) >= 8 {
		prefix = binary.BigEndian.Uint64(text)
	} else {
		for i, c := range text {
			prefix |= uint64(c) << (56 - 8*i)
		}
	}
	if e.hasExtreme && prefix > e.low && prefix < e.high {
		return
	}
	text = text[:min(len(text), longestKept)]
	if !e.hasExtreme || bytes.Compare(text, e.texts.low) < 0 {
		e.texts.low, e.low = append(e.texts.low[:0], text...), prefix
	}
	if !e.hasExtreme || bytes.Compare(text, e.texts.high) > 0 {
		e.texts.high, e.high = append(e.texts.high[:0], text...), prefix
	}
	e.hasExtreme = true
}

// token counts a null token.
func (e *Evidence) token(text []byte) {
	if e.Tokens == nil {
		e.Tokens = map[string]int64{}
	}
	e.Tokens[string(text)]++
}

// Merge adds what another worker saw.
func (e *Evidence) Merge(o *Evidence) {
	for i := range Classes {
		e.Counts[i] += o.Counts[i]
		for _, n := range o.first[i] {
			if e.news(i, n.Place) {
				e.note(i, n)
			}
		}
	}
	e.Seen |= o.Seen
	e.Style |= o.Style
	e.unfit |= o.unfit
	e.alternatives.merge(&o.alternatives)
	for i := range e.orders {
		e.orders[i].merge(o.orders[i])
	}
	e.Whole, e.Fraction, e.Longest = max(e.Whole, o.Whole), max(e.Fraction, o.Fraction), max(e.Longest, o.Longest)
	e.Distinct.Merge(&o.Distinct)
	e.Days.Merge(&o.Days)
	for token, n := range o.Tokens {
		if e.Tokens == nil {
			e.Tokens = map[string]int64{}
		}
		e.Tokens[token] += n
	}
	e.mergeHashes(o)
	if o.numbers.low != nil {
		e.numbers.add(o.numbers.low, o.numbers.lowValue)
		e.numbers.add(o.numbers.high, o.numbers.hiValue)
	}
	if o.hasExtreme {
		e.stretch(o.texts.low)
		e.stretch(o.texts.high)
	}
}

// mostHashes bounds how many values of a column are held against each other to tell whether all differ; 8 bytes are kept for each.
const mostHashes = 4 << 20

// keepHash keeps a value's hash for Unique.
func (e *Evidence) keepHash(hash uint64) {
	if e.Repeats || e.crowded || len(e.Hashes) == cap(e.Hashes) && !e.growHashes(1) {
		return
	}
	e.Hashes = append(e.Hashes, hash)
}

// unlikelyKey are classes that no key has. Columns with such values leave half of the room to others.
const unlikelyKey = ClassNull | ClassToken | ClassBoolean | ClassDouble | ClassExponent | ClassDate | ClassTime

// growHashes makes place for n hashes more, out of the room that all columns share. Where there is none it gives up this
// column's, and reports false.
func (e *Evidence) growHashes(n int) bool {
	held := len(e.Hashes)
	size := held + max(n, held/2, 64)
	room, more := e.hashRoom, size-cap(e.Hashes)
	if held+n > mostHashes || room != nil && (e.Seen&unlikelyKey != 0 && !room.half(more) || !room.take(more)) {
		e.forgetHashes()
		e.crowded = true
		return false
	}
	grown := make([]uint64, held, size)
	copy(grown, e.Hashes)
	e.Hashes = grown
	return true
}

// forgetHashes gives the hashes' room back.
func (e *Evidence) forgetHashes() {
	if e.hashRoom != nil {
		e.hashRoom.give(cap(e.Hashes))
	}
	e.Hashes = nil
}

// dropHashes forgets the hashes of a column that repeats values.
func (e *Evidence) dropHashes() {
	e.forgetHashes()
	e.Repeats = true
}

func (e *Evidence) mergeHashes(o *Evidence) {
	if e.hashRoom == nil {
		e.hashRoom = o.hashRoom
	}
	e.Repeats, e.crowded = e.Repeats || o.Repeats, e.crowded || o.crowded
	if e.Repeats || e.crowded {
		e.forgetHashes()
		return
	}
	if len(e.Hashes)+len(o.Hashes) <= cap(e.Hashes) || e.growHashes(len(o.Hashes)) {
		e.Hashes = append(e.Hashes, o.Hashes...)
	}
}

// Unique reports whether no two values are the same, as far as 64-bit hashes tell, and whether that was looked at at all: it is
// not for a column with very many values, where the room did not suffice, or where hashes were not kept.
func (e *Evidence) Unique() (unique, known bool) {
	if e.Repeats {
		return false, true
	}
	if int64(len(e.Hashes)) != e.Values() || len(e.Hashes) == 0 {
		return false, false
	}
	return allDiffer(e.Hashes), true
}

// allDiffer reports whether all of some hashes are different, which it puts in another order: each to where those with the same
// highest bits belong, so that those are few to be held against each other.
func allDiffer(hashes []uint64) bool {
	// So few parts that the place where each goes on is near the processor, as are the hashes of one.
	const mostParts, ofPart = 1 << 9, 4 << 10
	parts := min(mostParts, 1<<bits.Len(uint(len(hashes)/ofPart)))
	shift := 64 - bits.TrailingZeros(uint(parts))
	var counts, next, ends [mostParts]int
	for _, h := range hashes {
		counts[h>>shift]++
	}
	at, most := 0, 0
	for part, n := range counts[:parts] {
		next[part] = at
		at += n
		ends[part], most = at, max(most, n)
	}
	start, table := 0, make([]uint64, 2<<bits.Len(uint(most)))
	for part, end := range ends[:parts] {
		for next[part] < end {
			// What is here goes where it belongs, and what was there takes its place, until one belongs here.
			i, h := next[part], hashes[next[part]]
			for to := int(h >> shift); to != part; to = int(h >> shift) {
				h, hashes[next[to]] = hashes[next[to]], h
				next[to]++
			}
			hashes[i] = h
			next[part]++
		}
		if !differ(hashes[start:end], table) {
			return false
		}
		start = end
	}
	return true
}

// differ reports whether all of some hashes are different. slots are at least twice as many, a power of two, of any content.
func differ(hashes, slots []uint64) bool {
	size := 1 + bits.Len(uint(len(hashes)))
	slots = slots[:1<<size]
	clear(slots)
	zeros := 0
	for _, h := range hashes {
		if h == 0 {
			if zeros++; zeros > 1 {
				return false
			}
			continue
		}
		at := int(h * spread >> (64 - size))
		for slots[at] != 0 {
			if slots[at] == h {
				return false
			}
			at = (at + 1) & (len(slots) - 1)
		}
		slots[at] = h
	}
	return true
}
