package delimited

import (
	"math/bits"

	"trevak/internal/parse/bytemask"
)

// ends finds where records end, a word of 64 bytes after the other, in text that begins with a record.
type ends struct {
	inside uint64 // all bits where the next byte is inside quotes
	closed uint64 // 1 where the byte before it is a closing quote
	begins uint64 // 1 where a field begins at it
	last   int    // behind the last quote
	lines  int    // line feeds
	at     int    // the offset of the next byte
}

// addGo takes words for any processor, and returns bits where quotes open otherwise than at the beginning of a field or doubled.
func (e *ends) addGo(quotes, feeds, ends []uint64) (odd uint64) {
	for w, q := range quotes {
		e.lines += bits.OnesCount64(feeds[w])
		if q != 0 {
			e.last = e.at + bits.Len64(q)
		}
		in := insideQuotes(q) ^ e.inside
		opening, closing := q&in, q&^in
		odd |= opening &^ (ends[w]<<1 | e.begins | closing<<1 | e.closed)
		e.inside, e.closed, e.begins = uint64(int64(in)>>63), closing>>63, ends[w]>>63
		e.at += bytemask.Word
	}
	return odd
}

// addMasks takes text that need not be whole words, by the masks of it.
func (e *ends) addMasks(data []byte, delimiter, quote byte) (odd uint64) {
	var m masks
	for len(data) > 0 && odd == 0 {
		words, _ := bytemask.Fields(m.ends[:], m.feeds[:], m.quotes[:], data, delimiter, quote)
		odd = e.addGo(m.quotes[:words], m.feeds[:words], m.ends[:words])
		data = data[min(len(data), words*bytemask.Word):]
	}
	return odd
}
