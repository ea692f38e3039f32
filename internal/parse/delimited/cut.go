package delimited

import (
	"math/bits"
	"slices"

	"trevak/internal/parse/bytemask"
)

// lineEnd is where a line ends among the fields of some words: how many there are up to it, and its offset in the block.
type lineEnd struct{ fields, at uint32 }

// cutWords takes the fields that end before the next quote, or in the window, from its word i on, which begins at base, and its bit from on; the first
// field begins at start. It returns where the next field begins and how many whole words it went through; ended says that it came upon a record that is
// not like most, and has taken that.
func (s *scan) cutWords(i, base, start, from int) (next, words int, ended bool) {
	known := len(s.r.fields)
	s.r.fields = slices.Grow(s.r.fields, len(s.ends)*bytemask.Word+cutTogether)
	c := cut{dst: s.r.fields[known:cap(s.r.fields)], lines: s.lines[:], ends: s.ends[i:s.words], feeds: s.feeds[i:s.words], quotes: s.quotes[i:s.words]}
	words, fields, lines, next := c.run(base, start, from)
	s.r.fields = s.r.fields[:known+fields]
	for _, line := range s.lines[:lines] {
		end, at := known+int(line.fields), int(line.at)
		last := &s.r.fields[end-1]
		last.end = uint32(s.textEnd(int(last.start), at))
		if end-s.first != s.Width || s.maySkip(at+1) {
			s.r.fields = s.r.fields[:end]
			return s.finish(at + 1), words, true
		}
		s.r.starts = append(s.r.starts, uint32(s.record))
		s.record, s.first = at+1, end
	}
	return next, words, len(s.r.starts) >= s.until
}

// maySkip reports whether the record before next may be the header once more, or what follows it a comment.
func (s *scan) maySkip(next int) bool {
	return s.Header != "" && uint(next-s.record-len(s.Header)) <= 2 ||
		s.Dialect.Comment != 0 && next < len(s.data) && s.data[next] == s.Dialect.Comment
}

// cut makes fields of the bits of words.
type cut struct {
	dst                 []span // with room for every bit of the words and cutTogether more
	lines               []lineEnd
	ends, feeds, quotes []uint64 // those of feeds are among those of ends
}

// cutTogether is how many fields are taken at once: how many a word has is hard to foresee, so those beyond its last are written, and forgotten.
const cutTogether = 4

// runGo is run for any processor.
func (c *cut) runGo(base, start, from int) (words, fields, lines, next int) {
	for words < len(c.ends) {
		quotes := c.quotes[words] >> from << from
		before := quotes ^ (quotes - 1) // the bits up to the first quote
		ends := c.ends[words] >> from << from & before
		for feeds := c.feeds[words] & ends; feeds != 0; feeds &= feeds - 1 {
			c.lines[lines] = lineEnd{uint32(fields + bits.OnesCount64(ends&(feeds^(feeds-1)))), uint32(base + bits.TrailingZeros64(feeds))}
			lines++
		}
		for ; ends != 0; ends &= ends - 1 {
			at := base + bits.TrailingZeros64(ends)
			c.dst[fields] = span{uint32(start), uint32(at)}
			start = at + 1
			fields++
		}
		if quotes != 0 {
			break
		}
		words++
		base, from = base+bytemask.Word, 0
	}
	return words, fields, lines, start
}
