package delimited

import (
	"bytes"
	"fmt"
	"math/bits"

	"trevak/internal/parse"
	"trevak/internal/parse/bytemask"
	"trevak/internal/parse/cells"
)

// scan is the state of cutting one block.
type scan struct {
	*Parser
	r      *Records
	data   []byte
	record int        // where the record begins
	first  int        // number of its first field
	passed int        // records still to be passed over
	junk   parse.Code // why the record is a problem, if it is
	next   int        // where it goes on
	until  int        // rows that are enough for now
	done   bool       // the block is at its end

	marks          [3]byte // the bytes that may end a field
	masks                  // of the window, which begins at word base
	base, words    int
	ascii, plainly bool // these words are all ASCII; and so were those before, since More began

	usual   bool // most records are cut a window at a time
	odd     int  // a field that begins here is not
	outside outside
	lines   [windowWords*bytemask.Word + 1]lineEnd
	opened  [windowWords*bytemask.Word + 1]uint32
}

// windowWords is for how many bytes, in words of a mask, the ends of fields are looked up at a time.
const windowWords = 32

// begin prepares for the block of r.
func (s *scan) begin(p *Parser, r *Records) {
	*s = scan{Parser: p, r: r, data: r.Block.Data, ascii: true}
	if r.Block.Index == 0 {
		s.passed = p.Skip
	}
	s.marks[0], s.marks[1], s.marks[2] = s.Dialect.Delimiter, '\n', '\n'
	if s.Dialect.CR {
		s.marks[2] = '\r'
	}
	s.usual, s.odd = s.Width > 1 && !s.Dialect.CR && !s.Dialect.Trim && s.Dialect.Rest == "" && !s.Dialect.Blanks &&
		len(s.Dialect.Widths) == 0, -1
	s.next = s.open(0)
}

// run walks over the block, a window at a time or else from the end of one field to that of the next, until there are so many
// rows. It reports whether it is sure that these are ASCII.
func (s *scan) run(until int) (ascii bool) {
	s.until, s.plainly = until, s.ascii
	start := s.next
	for start < len(s.data) && len(s.r.starts) < until {
		if s.usual && start != s.odd && s.passed == 0 && s.junk == "" {
			if next, ok := s.cutWindow(start); ok {
				start = next
				continue
			}
		}
		switch {
		case s.Dialect.Blanks:
			start = s.blankSeparated(start)
		case len(s.Dialect.Widths) > 0:
			start = s.fixedWidths(start)
		case s.Dialect.Trim && s.skipBlanks(start) > start:
			start = s.skipBlanks(start)
		case s.Dialect.Quote != 0 && s.data[start] == s.Dialect.Quote:
			start = s.quoted(start)
		case s.Dialect.Rest == "" && !s.Dialect.Trim:
			start = s.unquoted(start)
		default:
			start = s.intricate(start)
		}
	}
	if s.next = start; start >= len(s.data) {
		s.last()
		s.done = true
	}
	// Escapes are looked for without a window.
	return s.plainly && s.usual && s.Dialect.Escape == 0
}

// window returns where in ends, feeds and quotes the word of the data is. It must not be asked for words before the window.
func (s *scan) window(word int) int {
	if i := word - s.base; i < s.words {
		return i
	}
	s.base = word
	rest := s.data[word*bytemask.Word:]
	if s.usual {
		s.words, s.ascii = bytemask.Fields(s.ends[:], s.feeds[:], s.quotes[:], rest, s.Dialect.Delimiter, s.Dialect.Quote)
		s.plainly = s.plainly && s.ascii
		if s.Dialect.Quote == 0 {
			clear(s.quotes[:s.words])
		}
		return 0
	}
	s.words = len(bytemask.Of(s.ends[:], rest, s.marks[0], s.marks[1], s.marks[2]))
	if quote := s.Dialect.Quote; quote != 0 {
		bytemask.Of(s.quotes[:], rest, quote, quote, quote)
	}
	return 0
}

// unquoted takes the fields from the one that begins at start to the next that begins with a quote, or in usual dialects to the
// end of the record, and returns where that is. The dialect's delimiter is one character and blanks are text.
func (s *scan) unquoted(start int) int {
	data, delimiter := s.data, s.Dialect.Delimiter
	from := start & (bytemask.Word - 1)
	for word := start >> 6; word<<6 < len(data); word++ {
		i, base := s.window(word), word<<6
		quotes := s.quotes[i]
		if start >= base && quotes>>(start-base)&1 != 0 {
			return start
		}
		fields := s.r.fields
		for ends := s.ends[i] >> from << from; ends != 0; ends &= ends - 1 {
			at := base + bits.TrailingZeros64(ends)
			if data[at] == delimiter {
				fields = append(fields, cells.Span{Start: uint32(start), End: uint32(at)})
				start = at + 1
			} else {
				s.r.fields = append(fields, cells.Span{Start: uint32(start), End: uint32(s.textEnd(start, at))})
				next := at + 1
				if s.Dialect.CR {
					next = at + s.Dialect.lineEnd(data[at:])
				}
				if start = s.finish(next); s.usual || start != at+1 || len(s.r.starts) >= s.until {
					return start
				}
				fields = s.r.fields
			}
			// A shift by all of a word's bits gives 0: what is in the next word is looked at there.
			if quotes != 0 && quotes>>(start-base)&1 != 0 {
				s.r.fields = fields
				return start
			}
		}
		s.r.fields, from = fields, 0
	}
	if start < len(data) {
		s.plain(start, s.textEnd(start, len(data)))
	}
	return len(data)
}

// intricate takes one field that begins at start, in any dialect, and returns where the next one begins.
func (s *scan) intricate(start int) int {
	from := start & (bytemask.Word - 1)
	for word := start >> 6; word<<6 < len(s.data); word++ {
		for ends := s.ends[s.window(word)] >> from << from; ends != 0; ends &= ends - 1 {
			at := word<<6 + bits.TrailingZeros64(ends)
			if s.data[at] != s.Dialect.Delimiter {
				s.plain(start, s.textEnd(start, at))
				return s.finish(at + s.Dialect.lineEnd(s.data[at:]))
			}
			if length := s.Dialect.delimiterAt(s.data[at:]); length > 0 {
				s.plain(start, at)
				return at + length
			}
		}
		from = 0
	}
	s.plain(start, s.textEnd(start, len(s.data)))
	return len(s.data)
}

func (s *scan) skipBlanks(at int) int {
	for at < len(s.data) && s.Dialect.blank(s.data[at]) {
		at++
	}
	return at
}

// last ends a record that has no line end after it.
func (s *scan) last() {
	n := len(s.data)
	if s.record == n {
		return
	}
	if s.Dialect.Blanks || len(s.Dialect.Widths) > 0 {
		if len(s.r.fields) > s.first {
			s.finish(n)
		}
		return
	}
	if len(s.r.fields) == s.first || s.Dialect.ends(bytes.TrimRight(s.data[s.record:n], s.blanks())) {
		s.plain(n, n)
	}
	s.finish(n)
}

// blanks are the characters that may stand behind a delimiter at the end of the data and mean nothing.
func (s *scan) blanks() string {
	switch {
	case !s.Dialect.Trim:
		return ""
	case s.Dialect.Delimiter == '\t':
		return " "
	}
	return " \t"
}

func (s *scan) plain(start, end int) {
	if s.Dialect.Trim {
		for end > start && s.Dialect.blank(s.data[end-1]) {
			end--
		}
	}
	s.r.fields = append(s.r.fields, cells.Span{Start: uint32(start), End: uint32(end)})
}

// textEnd returns the end of a field's text before the line end at at, which may have a carriage return before it.
func (s *scan) textEnd(start, at int) int {
	if at > start && s.data[at-1] == '\r' {
		return at - 1
	}
	return at
}

// open starts a record at or after at, passing over comment lines, and returns where it begins.
func (s *scan) open(at int) int {
	if s.Dialect.Comment != 0 {
		for at < len(s.data) && s.data[at] == s.Dialect.Comment {
			end := s.Dialect.lineEnd(s.data[at:])
			if end < 0 {
				at = len(s.data)
				break
			}
			at += end
		}
	}
	s.record, s.first, s.junk = at, len(s.r.fields), ""
	return at
}

// finish ends the record whose line end lies just before next, and begins the one after it.
func (s *scan) finish(next int) int {
	fields := s.r.fields[s.first:]
	if last := len(fields) - 1; s.Dialect.Closed && last > 0 && last >= s.Width && !fields[last].Quoted() &&
		fields[last].Start == fields[last].End {
		fields = fields[:last]
		s.r.fields = s.r.fields[:s.first+last]
	}
	switch {
	case len(fields) == 1 && (s.Width != 1 || s.SkipBlank) && !fields[0].Quoted() && fields[0].Start == fields[0].End:
		// A blank line is no record, unless records have one field only.
		s.r.fields = s.r.fields[:s.first]
	case s.passed > 0:
		s.passed--
		s.r.fields = s.r.fields[:s.first]
	case s.Header != "" && s.isHeader(next):
		s.r.Repeated++
		s.r.fields = s.r.fields[:s.first]
	case s.junk != "":
		s.problem(next, s.junk, junkReasons[s.junk], "close the quote at the end of its field, and double a quote within it")
	case s.Width == 0:
		s.r.firsts = append(s.r.firsts, uint32(s.first))
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) == s.Width:
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) < s.Width && (s.Pad || s.Least > 0 && len(fields) >= s.Least):
		s.r.Padded++
		end := int(fields[len(fields)-1].End &^ cells.Flag)
		for range s.Width - len(fields) {
			s.plain(end, end)
		}
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) > s.Width && s.Pad:
		s.setAside(fields[s.Width:])
		s.r.fields = s.r.fields[:s.first+s.Width]
		s.r.starts = append(s.r.starts, uint32(s.record))
	case len(fields) < s.Width:
		s.problem(next, parse.TooFewFields, fmt.Sprintf("has %s where %d are expected", fieldCount(len(fields)), s.Width),
			"mend the record, or fill short records with nulls by --ragged pad")
	default:
		s.problem(next, parse.TooManyFields, fmt.Sprintf("has %s where %d are expected", fieldCount(len(fields)), s.Width),
			"mend the record, quoting a field that holds the delimiter, or keep the surplus by --ragged pad")
	}
	return s.open(next)
}

// setAside keeps the surplus fields of the record.
func (s *scan) setAside(fields []cells.Span) {
	out := Surplus{Start: s.record}
	for _, f := range fields {
		text := f.Text(s.data)
		if f.Escaped() {
			text = s.Dialect.Unquote(nil, text)
		}
		out.Texts = append(out.Texts, string(text))
	}
	s.r.Surplus = append(s.r.Surplus, out)
}

// isHeader reports whether the record is the header once more.
func (s *scan) isHeader(next int) bool {
	n := next - s.record - len(s.Header)
	return n >= 0 && n <= 2 && string(s.data[s.record:s.record+len(s.Header)]) == s.Header &&
		len(bytes.TrimRight(s.data[s.record+len(s.Header):next], "\r\n")) == 0
}

func fieldCount(n int) string {
	if n == 1 {
		return "1 field"
	}
	return fmt.Sprintf("%d fields", n)
}

// problem takes the record out of the grid.
func (s *scan) problem(next int, code parse.Code, reason, wayOut string) {
	s.r.fields = s.r.fields[:s.first]
	s.r.Problems = append(s.r.Problems, parse.Problem{Start: s.record, End: next, Code: code, Reason: reason, WayOut: wayOut})
}

// closing is Dialect.closing, by what is known of the quotes.
func (s *scan) closing(open int) (at int, doubled bool) {
	if s.Dialect.Escape != 0 {
		return s.Dialect.closing(s.data, open)
	}
	at = open + 1
	for word := at >> 6; word<<6 < len(s.data); word++ {
		quotes := s.quotes[s.window(word)]
		for quotes = quotes >> (at & 63) << (at & 63); quotes != 0; quotes = quotes >> (at & 63) << (at & 63) {
			at = word<<6 + bits.TrailingZeros64(quotes)
			if at+1 >= len(s.data) || s.data[at+1] != s.Dialect.Quote {
				return at, doubled
			}
			doubled = true
			if at += 2; at>>6 != word {
				break
			}
		}
		at = max(at, (word+1)<<6)
	}
	return -1, doubled
}

// junkReasons say what is wrong with a record whose quotes are.
var junkReasons = map[parse.Code]string{
	parse.OpenQuote: "opens a quote that is never closed",
	parse.StrayText: "has text after the closing quote of a field",
}

// quoted takes the field that opens with a quote at start, and returns where the next one begins.
func (s *scan) quoted(start int) int {
	end, doubled := s.closing(start)
	if end < 0 {
		s.junk = parse.OpenQuote
		s.plain(start, len(s.data))
		return len(s.data)
	}
	f := cells.Span{Start: uint32(start+1) | cells.Flag, End: uint32(end)}
	if doubled {
		f.End |= cells.Flag
	}
	s.r.fields = append(s.r.fields, f)
	i := end + 1
	if s.Dialect.Trim {
		i = s.skipBlanks(i)
	}
	if i < len(s.data) && s.data[i] == '\r' && !s.Dialect.CR && (i+1 == len(s.data) || s.data[i+1] == '\n') {
		i++
	}
	for ; i < len(s.data); i++ {
		switch c := s.data[i]; {
		case c == '\n', c == '\r' && s.Dialect.CR:
			return s.finish(i + s.Dialect.lineEnd(s.data[i:]))
		case c == s.Dialect.Delimiter:
			if length := s.Dialect.delimiterAt(s.data[i:]); length > 0 {
				return i + length
			}
		}
		s.junk = parse.StrayText
	}
	return i
}
