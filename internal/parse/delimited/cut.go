package delimited

import (
	"math/bits"
	"slices"

	"trevak/internal/parse/bytemask"
	"trevak/internal/parse/cells"
)

// lineEnd is where a line ends among the fields of some words: how many there are up to it, and its offset in the block.
type lineEnd struct{ fields, at uint32 }

// cutWindow takes the fields from the one that begins at start on that end in the window, and returns where the next begins. It
// stops before a field that has quotes where most have none, and behind a record that is not like most, which it takes. Where
// it can take no field at all ok is false.
func (s *scan) cutWindow(start int) (next int, ok bool) {
	word := start >> 6
	i := s.window(word)
	words, regular := s.settle(i, start&(bytemask.Word-1))
	known := len(s.r.fields)
	s.r.fields = slices.Grow(s.r.fields, words*bytemask.Word+cutTogether)
	o := &s.outside
	c := cut{dst: s.r.fields[known:cap(s.r.fields)], lines: s.lines[:], opened: s.opened[:],
		ends: o.ends[i : i+words], feeds: o.feeds[i : i+words], opens: o.opens[i : i+words]}
	fields, lines, opened, next := c.run(word<<6, start)
	switch {
	case !regular:
		s.odd = next
	case fields == 0 && i > 0:
		// The field may end in the window that begins with its word.
		s.words = 0
		return s.cutWindow(start)
	}
	if fields == 0 {
		return start, false
	}
	s.r.fields = s.r.fields[:known+fields]
	for _, field := range s.opened[:opened] {
		if int(field) < fields {
			s.unwrap(&s.r.fields[known+int(field)])
		}
	}
	for _, line := range s.lines[:lines] {
		end, at := known+int(line.fields), int(line.at)
		if last := &s.r.fields[end-1]; at > int(last.Start) && s.data[at-1] == '\r' {
			last.End--
		}
		if end-s.first != s.Width || s.maySkip(at+1) {
			s.r.fields = s.r.fields[:end]
			return s.finish(at + 1), true
		}
		s.r.starts = append(s.r.starts, uint32(s.record))
		s.record, s.first = at+1, end
	}
	if regular {
		// What is left of the window is looked at once more with what follows.
		s.words = 0
	}
	return next, true
}

// settle tells what is outside quotes in the window, from word i on, where a field begins at the bit from. It returns what
// outside.settle does.
func (s *scan) settle(i, from int) (words int, regular bool) {
	if s.Dialect.Escape != 0 || !s.masks.anyQuotes(i, s.words) {
		return s.outside.upToQuote(&s.masks, i, s.words, from)
	}
	return s.outside.settle(&s.masks, i, s.words, from)
}

// unwrap takes the quotes off a field that has them around it.
func (s *scan) unwrap(f *cells.Span) {
	f.Start, f.End = f.Start+1, f.End-1
	base := s.base * bytemask.Word
	doubled := s.outside.doubledIn(int(f.Start)-base, int(f.End)-base)
	// Whether there are any comes in no order that could be foreseen.
	f.End |= uint32((doubled|-doubled)>>63) << 31
	f.Start |= cells.Flag
}

// maySkip reports whether the record before next may be the header once more, or what follows it a comment.
func (s *scan) maySkip(next int) bool {
	return s.Header != "" && uint(next-s.record-len(s.Header)) <= 2 ||
		s.Dialect.Comment != 0 && next < len(s.data) && s.data[next] == s.Dialect.Comment
}

// cut makes fields of the bits of words.
type cut struct {
	dst                []cells.Span // with room for every bit of the words and cutTogether more
	lines              []lineEnd    // with room for every bit and one more
	opened             []uint32     // which fields begin with a quote, with as much room
	ends, feeds, opens []uint64     // those of feeds are among those of ends
}

// cutTogether is how many fields are taken at once: how many a word has is hard to foresee, so those beyond its last are
// written, and forgotten.
const cutTogether = 10

// runGo is run for any processor.
func (c *cut) runGo(base, start int) (fields, lines, opened, next int) {
	for w, ends := range c.ends {
		for opens := c.opens[w]; opens != 0; opens &= opens - 1 {
			c.opened[opened] = uint32(fields + bits.OnesCount64(ends&(opens^(opens-1))))
			opened++
		}
		for feeds := c.feeds[w]; feeds != 0; feeds &= feeds - 1 {
			c.lines[lines] = lineEnd{uint32(fields + bits.OnesCount64(ends&(feeds^(feeds-1)))),
				uint32(base + bits.TrailingZeros64(feeds))}
			lines++
		}
		for ; ends != 0; ends &= ends - 1 {
			at := base + bits.TrailingZeros64(ends)
			c.dst[fields] = cells.Span{Start: uint32(start), End: uint32(at)}
			start = at + 1
			fields++
		}
		base += bytemask.Word
	}
	return fields, lines, opened, start
}
