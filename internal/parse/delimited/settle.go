package delimited

import "trevak/internal/parse/bytemask"

// masks have a bit for each byte of a window: what may end a field, line feeds, and quotes.
type masks struct {
	ends, feeds, quotes [windowWords]uint64
}

// anyQuotes reports whether there are quotes in the words from i on up to words.
func (m *masks) anyQuotes(i, words int) bool {
	any := uint64(0)
	for _, quotes := range m.quotes[i:words] {
		any |= quotes
	}
	return any != 0
}

// outside is what of the masks of a window is outside quotes, where fields begin with one, and where doubled ones stand, each
// by the second.
type outside struct {
	ends, feeds, opens [windowWords]uint64
	doubled            [windowWords + 1]uint64 // the last is for no bytes
}

// settleGo is settle for any processor.
func (o *outside) settleGo(m *masks, i, words, from int) (settled int, regular bool) {
	within := ^uint64(0) << from // the bits that are looked at
	inside, closed := uint64(0), uint64(0)
	begins := uint64(1) << from
	for w := i; w < words; w++ {
		ends, feeds, quotes := m.ends[w]&within, m.feeds[w]&within, m.quotes[w]&within
		within = ^uint64(0)
		in := insideQuotes(quotes) ^ inside // the opening quote is, the closing one is not
		ends, feeds = ends&^in, feeds&^in
		opening, closing := quotes&in, quotes&^in
		after, begin := closing<<1|closed, ends<<1|begins
		o.ends[w], o.feeds[w], o.opens[w], o.doubled[w] = ends, feeds, opening&begin, opening&after
		if odd := opening&^(begin|after) | after&^(ends|opening); odd != 0 {
			o.cutOff(w, odd)
			return w + 1 - i, false
		}
		inside, closed, begins = uint64(int64(in)>>63), closing>>63, ends>>63
	}
	return words - i, true
}

// upToQuote is settle up to the first quote, if there is any.
func (o *outside) upToQuote(m *masks, i, words, from int) (settled int, regular bool) {
	within := ^uint64(0) << from
	for w := i; w < words; w++ {
		o.ends[w], o.feeds[w], o.opens[w], o.doubled[w] = m.ends[w]&within, m.feeds[w]&within, 0, 0
		if quotes := m.quotes[w] & within; quotes != 0 {
			o.cutOff(w, quotes)
			return w + 1 - i, false
		}
		within = ^uint64(0)
	}
	return words - i, true
}

// cutOff forgets what was settled in a word from the first of the bits that are odd on.
func (o *outside) cutOff(word int, odd uint64) {
	below := odd&-odd - 1
	for _, mask := range []*uint64{&o.ends[word], &o.feeds[word], &o.opens[word], &o.doubled[word]} {
		*mask &= below
	}
}

// insideQuotes sets the bits from each quote that opens up to the next, which closes: each bit tells whether there are an odd
// number up to it.
func insideQuotes(quotes uint64) uint64 {
	quotes ^= quotes << 1
	quotes ^= quotes << 2
	quotes ^= quotes << 4
	quotes ^= quotes << 8
	quotes ^= quotes << 16
	return quotes ^ quotes<<32
}

// doubledIn returns bits of the doubled quotes between two offsets in the window, 0 where there are none.
func (o *outside) doubledIn(from, to int) (doubled uint64) {
	for ; to-from > bytemask.Word; from += bytemask.Word {
		doubled |= o.from(from)
	}
	return doubled | o.from(from)&(1<<(to-from)-1)
}

// from returns the bits of the doubled quotes from an offset on.
func (o *outside) from(at int) uint64 {
	w, shift := at/bytemask.Word, at%bytemask.Word
	return o.doubled[w]>>shift | o.doubled[w+1]<<1<<(63-shift)
}
