package delimited

import (
	"unicode/utf8"

	"trevak/internal/parse"
	"trevak/internal/parse/cells"
)

// blankSeparated takes one field from start on, in a dialect whose fields are told apart by blanks, and returns where the next begins.
func (s *scan) blankSeparated(start int) int {
	at := s.spaces(start)
	if at < len(s.data) && s.data[at] == s.Dialect.Quote && s.Dialect.Quote != 0 {
		end, doubled := s.Dialect.closing(s.data, at)
		if end < 0 {
			return s.quoted(at)
		}
		f := cells.Span{Start: uint32(at+1) | cells.Flag, End: uint32(end)}
		if doubled {
			f.End |= cells.Flag
		}
		s.r.fields = append(s.r.fields, f)
		if at = end + 1; at < len(s.data) && !s.Dialect.space(s.data[at]) && !s.lineEnds(at) {
			s.junk = parse.StrayText
			for at < len(s.data) && !s.Dialect.space(s.data[at]) && !s.lineEnds(at) {
				at++
			}
		}
	} else if from := at; at < len(s.data) && !s.lineEnds(at) {
		for at < len(s.data) && !s.Dialect.space(s.data[at]) && !s.lineEnds(at) {
			at++
		}
		s.r.fields = append(s.r.fields, cells.Span{Start: uint32(from), End: uint32(at)})
	}
	if at = s.spaces(at); at < len(s.data) && s.lineEnds(at) {
		if len(s.r.fields) == s.first {
			s.plain(at, at)
		}
		n := s.Dialect.lineEnd(s.data[at:])
		if n < 0 {
			// A carriage return is the last of the text: the line feed after it is missing.
			n = len(s.data) - at
		}
		return s.finish(at + n)
	}
	return at
}

// spaces passes over blanks.
func (s *scan) spaces(at int) int {
	for at < len(s.data) && s.Dialect.space(s.data[at]) {
		at++
	}
	return at
}

// lineEnds reports whether a line ends at a byte.
func (s *scan) lineEnds(at int) bool {
	c := s.data[at]
	return c == '\n' || c == '\r' && (s.Dialect.CR || at+1 == len(s.data) || s.data[at+1] == '\n')
}

// fixedWidths takes the record that begins at start, whose fields have so many characters each, and returns where the next begins.
func (s *scan) fixedWidths(start int) int {
	end, next := len(s.data), len(s.data)
	if n := s.Dialect.lineEnd(s.data[start:]); n >= 0 {
		next = start + n
		for end = next; end > start && (s.data[end-1] == '\n' || s.data[end-1] == '\r'); {
			end--
		}
	}
	at := start
	for _, width := range s.Dialect.Widths {
		from := at
		for range width {
			if at >= end {
				break
			}
			_, size := utf8.DecodeRune(s.data[at:end])
			at += size
		}
		s.trimmed(from, at)
	}
	if rest := s.spaces(at); rest < end {
		s.trimmed(rest, end)
	}
	if len(s.data[start:end]) == s.spaces(start)-start {
		// A blank line is told by a single empty field.
		s.r.fields = s.r.fields[:s.first+1]
	}
	if next == len(s.data) && end == next {
		return next
	}
	return s.finish(next)
}

// trimmed takes a field without the blanks around it.
func (s *scan) trimmed(from, to int) {
	for from < to && s.Dialect.space(s.data[from]) {
		from++
	}
	for to > from && s.Dialect.space(s.data[to-1]) {
		to--
	}
	s.r.fields = append(s.r.fields, cells.Span{Start: uint32(from), End: uint32(to)})
}
