package sniff

import (
	"bytes"
	"fmt"
	"strings"

	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// trial is what one dialect makes of the beginning of an object.
type trial struct {
	dialect delimited.Dialect
	rows    [][]delimited.Field
	// starts are the offsets of the records, and end that behind the last.
	starts []int
	head   []byte
	// problems are the records that cannot be read, whatever their width.
	problems []parse.Problem
	// width is the number of fields that most records have, and agree how many have it.
	width, agree int
	// score is between 0 and 1: the share of records that agree, lowered where fields look as if they were not yet cut.
	score float64
	// columns are those that hold numbers and the like, once they were looked for.
	columns []bool
	// unquoted says why there are no quotes.
	unquoted string
}

// bestTrial tries the candidates, or the stated delimiter alone, and returns the best and the next best.
func bestTrial(head []byte, whole bool, base delimited.Dialect, stated Stated) (best, second trial) {
	take := func(t trial) {
		if t.score > best.score || best.rows == nil {
			best, second = t, best
		} else if t.score > second.score {
			second = t
		}
	}
	if len(stated.Widths) > 0 {
		base.Widths, base.Quote, base.Delimiter = stated.Widths, 0, 0
		t := try(head, whole, base)
		t.unquoted = "fields of fixed widths have none"
		return t, second
	}
	if stated.Delimiter != "" {
		base.SetDelimiter(stated.Delimiter)
		return bestQuote(head, whole, base, stated), second
	}
	for i, c := range delimiters {
		if i > 0 && bytes.IndexByte(head, c.char) < 0 {
			continue // one column, as the first has made of it if it is not there either
		}
		base.Delimiter = c.char
		take(bestQuote(head, whole, base, stated))
	}
	if best.score < 1 {
		base.SetDelimiter(delimited.BlanksText)
		t := bestQuote(head, whole, base, stated)
		if t.blanksCut() && t.score > best.score && (best.score < clearScore || t.agree == len(t.rows) && t.width > best.width) {
			best, second = t, best
		}
	}
	if best.width < 2 && best.allText() {
		base = best.dialect
		base.SetDelimiter(delimited.NoneText)
		base.Blanks = false
		return best.again(head, whole, base), second
	}
	return best, second
}

// allText reports whether the only column holds neither numbers nor dates: a line that holds a delimiter is then a text like the others.
func (t *trial) allText() bool { return len(t.rows) > 0 && !t.typed(t.body(), 0) }

// clearScore is from which score on no other way to cut records is looked for.
const clearScore = 0.85

// bestQuote tries a delimiter with the usual quote, and with others or none where that does not explain all records.
func bestQuote(head []byte, whole bool, d delimited.Dialect, stated Stated) trial {
	best := try(head, whole, d)
	if !d.Trim && !d.Blanks && d.Quote != 0 && bytes.Contains(head, []byte{d.Delimiter, ' ', d.Quote}) && d.Rest == "" {
		trimmed := d
		trimmed.Trim = true
		if t := try(head, whole, trimmed); t.score >= best.score && len(t.problems) <= len(best.problems) && t.quoted() > best.quoted() {
			best = t
		}
	}
	if stated.Quote != nil {
		return best
	}
	if len(best.problems) > 0 && d.Quote != 0 && d.Escape == 0 && bytes.Contains(head, []byte{'\\', d.Quote}) {
		escaped := best.dialect
		escaped.Escape = '\\'
		if t := try(head, whole, escaped); len(t.problems) < len(best.problems) && t.agree >= best.agree {
			best = t
		}
	}
	if stray := len(best.problems); stray > 0 {
		none := d
		none.Quote = 0
		if t := try(head, whole, none); len(t.problems) == 0 && t.agree == len(t.rows) && t.width >= best.width {
			t.unquoted = fmt.Sprintf("without quotes all %d records looked at have %d fields; with them %d could not be read",
				len(t.rows), t.width, stray)
			return t
		}
	}
	if best.share() == 1 && best.quoted() > 0 {
		return best
	}
	for _, quote := range []byte{'\'', '|', '`'} {
		if quote == d.Delimiter || bytes.IndexByte(head, quote) < 0 {
			continue
		}
		other := d
		other.Quote = quote
		if t := try(head, whole, other); len(t.problems) <= len(best.problems) && t.encloses() &&
			(t.share() > best.share() || t.share() == best.share() && best.quoted() == 0) {
			best = t
		}
	}
	return best
}

// share is the part of the records that have the usual number of fields.
func (t *trial) share() float64 {
	return float64(t.agree) / float64(max(1, len(t.rows)+len(t.problems)))
}

// encloses reports whether the quote stands around all fields of a column, or of the first record.
func (t *trial) encloses() bool {
	count := func(fields func(yield func(delimited.Field) bool)) bool {
		quoted, all := 0, 0
		for f := range fields {
			if f.Quoted {
				quoted++
			}
			if f.Quoted || f.Text != "" {
				all++
			}
		}
		return quoted >= 2 && quoted == all
	}
	if len(t.rows) > 0 && count(func(yield func(delimited.Field) bool) { each(t.rows[0], yield) }) {
		return true
	}
	for c := range t.width {
		if count(func(yield func(delimited.Field) bool) {
			for _, row := range t.rows[min(1, len(t.rows)-1):] {
				if c < len(row) && !yield(row[c]) {
					return
				}
			}
		}) {
			return true
		}
	}
	return false
}

func each(row []delimited.Field, yield func(delimited.Field) bool) {
	for _, f := range row {
		if !yield(f) {
			return
		}
	}
}

// blanksCut reports whether blanks cut text into columns: nearly all lines in as many fields, among which there are numbers or
// dates; and lines that are not one value each.
func (t *trial) blanksCut() bool {
	if t.width < 2 || len(t.rows) < 2 {
		return false
	}
	body := t.rows[min(fewAbove, len(t.rows)/2):]
	agree, whole := 0, 0
	for i, row := range body {
		if len(row) == t.width {
			agree++
		}
		at := t.starts[len(t.rows)-len(body)+i]
		line, _, _ := bytes.Cut(t.head[at:], []byte("\n"))
		if schema.Classify(bytes.TrimSpace(line))&schema.Word == 0 {
			whole++
		}
	}
	if 20*agree < 19*len(body) || 2*whole > len(body) {
		return false
	}
	for c := range t.width {
		if t.typed(body, c) {
			return true
		}
	}
	return false
}

// strayReturns reports whether carriage returns stand where only a line end makes sense of them: in fields without quotes.
func (t *trial) strayReturns() bool {
	if t.dialect.CR {
		return false
	}
	for _, row := range t.rows {
		for _, f := range row {
			if !f.Quoted && strings.Contains(f.Text, "\r") {
				return true
			}
		}
	}
	return false
}

// fewAbove is how many records at the start may be titles and headers, and are left out where it is asked what most records are like.
const fewAbove = 6

// body returns the records that are not at the start.
func (t *trial) body() [][]delimited.Field {
	return t.rows[min(fewAbove, len(t.rows)/2):]
}

// try cuts the beginning of an object with a dialect and scores what comes out.
func try(head []byte, whole bool, d delimited.Dialect) trial {
	if !whole {
		head = head[:d.Cut(head)]
	}
	t := trial{dialect: d, head: head}
	p := delimited.Parser{Dialect: d}
	var records delimited.Records
	p.Parse(&parse.Block{Data: head, Line: 1}, &records)
	t.problems = records.Problems
	for row := range records.Rows {
		t.starts = append(t.starts, records.Start(row))
	}
	t.rows = records.Table()
	t.measure()
	return t
}

// measure finds the usual width, and scores how evenly the records are cut.
func (t *trial) measure() {
	counts, clean, fields := map[int]int{}, 0, 0
	others := otherDelimiters(t.head, t.dialect.Delimiter)
	body := t.rows
	if len(body) >= 2*fewAbove {
		body = t.body()
	}
	for _, f := range body {
		counts[len(f)]++
		for _, field := range f {
			fields++
			if field.Quoted || uncut(field.Text, others) {
				clean++
			}
		}
	}
	agree := 0
	t.width, t.agree, t.score = 0, 0, 0
	for width, n := range counts {
		if first := len(t.rows[0]); n > agree || n == agree && t.width != first && (width > t.width || width == first) {
			t.width, agree = width, n
		}
	}
	for _, f := range t.rows {
		if len(f) == t.width {
			t.agree++
		}
	}
	if t.width >= 2 {
		t.score = float64(agree) / float64(len(body)+len(t.problems)) * (0.5 + 0.5*float64(clean)/float64(fields))
		if len(t.rows[0]) != t.width {
			t.score *= 0.7
		}
	}
}

// again tries the same bytes with another dialect.
func (t *trial) again(head []byte, whole bool, d delimited.Dialect) trial {
	other := try(head, whole, d)
	other.unquoted = t.unquoted
	return other
}

// text returns the raw text of a record, its line end included.
func (t *trial) text(row int) string {
	end := len(t.head)
	if row+1 < len(t.rows) {
		end = t.starts[row+1]
	}
	return string(t.head[t.starts[row]:end])
}

// widthOfFirstLine is how many fields the first line has, whatever it begins with.
func (t *trial) widthOfFirstLine(head []byte) int {
	line, _, _ := bytes.Cut(head, []byte("\n"))
	d := t.dialect
	d.Comment = 0
	if first := try(append(line[:len(line):len(line)], '\n'), true, d); len(first.rows) == 1 {
		return len(first.rows[0])
	}
	return 0
}

// otherDelimiters returns the candidates that a text holds, but for one.
func otherDelimiters(text []byte, delimiter byte) (others []byte) {
	for _, c := range delimiters[:usualDelimiters] {
		if c.char != delimiter && bytes.IndexByte(text, c.char) >= 0 {
			others = append(others, c.char)
		}
	}
	return others
}

// uncut reports whether a field does not look like several: it holds no other candidate delimiter, except as the decimal
// mark of a number or followed by a space, as in a sentence.
func uncut(text string, others []byte) bool {
	for _, c := range others {
		at := strings.IndexByte(text, c)
		if at < 0 || (at+1 < len(text) && text[at+1] == ' ') {
			continue
		}
		if c == ',' {
			point := []byte(text)
			point[at] = '.'
			if _, ok := lexical.StatedDouble(point); ok {
				continue
			}
		}
		return false
	}
	return !severalNumbers(text)
}

// severalNumbers reports whether a text is numbers with blanks between them.
func severalNumbers(text string) bool {
	if text == "" || text[0] > '9' || !strings.ContainsAny(text, " \t") {
		return false
	}
	words := strings.Fields(text)
	for _, word := range words {
		if _, ok := lexical.StatedDouble([]byte(word)); !ok {
			return false
		}
	}
	return len(words) > 1
}

func (t *trial) why() string {
	if t.width < 2 {
		return "no delimiter occurs regularly, so there is one column"
	}
	if t.agree == len(t.rows) {
		return fmt.Sprintf("%d fields in each of the %d records looked at", t.width, len(t.rows))
	}
	return fmt.Sprintf("%d fields in %d of the %d records looked at", t.width, t.agree, len(t.rows))
}

// quoted counts the quoted fields.
func (t *trial) quoted() int {
	n := 0
	for _, row := range t.rows {
		for _, f := range row {
			if f.Quoted {
				n++
			}
		}
	}
	return n
}

// commentPrefix finds lines that begin with # at the top, among others that do not.
func commentPrefix(head []byte) (prefix byte, lines int) {
	others := 0
	for line := range bytes.Lines(head) {
		if line[0] == '#' {
			lines++
		} else {
			others++
		}
	}
	if lines == 0 || others == 0 || head[0] != '#' {
		return 0, 0
	}
	return '#', lines
}
