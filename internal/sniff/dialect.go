package sniff

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
)

// delimiters are the candidates, the likeliest first.
var delimiters = []struct {
	char byte
	name string
}{{',', "comma"}, {';', "semicolon"}, {'\t', "tab"}, {'|', "pipe"}}

// DelimiterName names a dialect's delimiter as people do.
func DelimiterName(dialect delimited.Dialect) string {
	for _, d := range delimiters {
		if d.char == dialect.Delimiter && dialect.Rest == "" {
			return d.name
		}
	}
	return strconv.Quote(dialect.DelimiterText())
}

// trial is what one dialect makes of the beginning of an object.
type trial struct {
	dialect delimited.Dialect
	rows    [][]delimited.Field
	// first is the raw text of the first record.
	first string
	// problems are the records that cannot be read, whatever their width.
	problems []parse.Problem
	// width is the number of fields that most records have, and agree how many have it.
	width, agree int
	// score is between 0 and 1: the share of records that agree, lowered where fields look as if they were not yet cut.
	score float64
}

// settleDelimited settles delimiter, quote, comment prefix, header and names.
func (r *Rules) settleDelimited(head []byte, whole bool, stated Stated) error {
	base := delimited.Dialect{Quote: '"', Escape: stated.Escape, Trim: stated.Trim, CR: bytes.IndexByte(head, '\n') < 0 && bytes.IndexByte(head, '\r') >= 0}
	comments := 0
	if base.Comment, comments = commentPrefix(head); stated.Comment != nil {
		base.Comment = *stated.Comment
	}
	if stated.Quote != nil {
		base.Quote = *stated.Quote
	}
	looked, all := beginning(head), whole
	if len(looked) < len(head) {
		all = false
	}
	best, second := bestTrial(looked, all, base, stated)
	if len(best.rows) == 0 {
		looked, all = head, whole
		best, second = bestTrial(looked, all, base, stated)
	}
	if best.strayReturns() {
		base.CR = true
		best, second = bestTrial(looked, all, base, stated)
	}
	switch {
	case len(best.rows) > 0:
	case !whole:
		return ErrMore
	case len(best.problems) > 0:
		return fault.New(fault.Input, "holds no whole record: the first %s", best.problems[0].Reason).Try("%s", best.problems[0].WayOut)
	default:
		return fault.New(fault.Input, "holds no record, only blank or comment lines").Try("leave it out of the source")
	}
	r.Format, r.Dialect, r.Pad, r.SkipBlank, r.firstText = Delimited, best.dialect, stated.Pad, stated.SkipBlank, best.first
	r.because("format", "delimited text", "%s", "its text is neither JSON nor XML, nor does it begin like a columnar file")
	reason := r.because("delimiter", DelimiterName(best.dialect), "%s", best.why())
	if stated.Delimiter != "" {
		reason.Why = "stated; " + reason.Why
	} else if second.width > 1 && second.score > 0.9*best.score {
		reason.Unsure = true
		reason.Why += fmt.Sprintf("; a %s would do nearly as well", DelimiterName(second.dialect))
	}
	r.describeDialect(best, stated, comments)
	return r.settleHeader(best, stated)
}

// Dialects are tried on so many bytes, where these have enough lines to tell.
const (
	triedBytes = 64 << 10
	triedLines = 200
)

// beginning is as much of the head as dialects are tried on.
func beginning(head []byte) []byte {
	if len(head) > triedBytes && bytes.Count(head[:triedBytes], []byte{'\n'}) >= triedLines {
		return head[:triedBytes]
	}
	return head
}

// describeDialect tells of quotes, comments and line ends.
func (r *Rules) describeDialect(t trial, stated Stated, comments int) {
	d := t.dialect
	switch n := t.quoted(); {
	case d.Quote == 0:
		r.because("quote", "none", "stated")
	case stated.Quote != nil:
		r.because("quote", string(rune(d.Quote)), "stated; fields looked at that are enclosed in it: %d", n)
	case n > 0:
		r.because("quote", `"`, "fields looked at that are enclosed in it: %d", n)
	default:
		r.because("quote", `"`, "the usual one; no field looked at is enclosed in it")
	}
	if d.Escape != 0 {
		r.because("escape", string(rune(d.Escape)), "stated; it stands before a quote within quotes")
	}
	switch {
	case stated.Comment != nil && d.Comment != 0:
		r.because("comment", string(rune(d.Comment)), "stated")
	case d.Comment != 0:
		r.because("comment", string(rune(d.Comment)), "lines looked at that begin with it: %d", comments)
	}
	if d.CR {
		r.because("line ends", "any", "carriage returns alone end lines")
	}
	if d.Trim {
		r.because("trim", "yes", "stated; white space around fields is left out")
	}
	if stated.SkipRows > 0 {
		r.because("skipped rows", strconv.Itoa(stated.SkipRows), "stated")
	}
}

// bestTrial tries the candidates, or the stated delimiter alone, and returns the best and the next best.
func bestTrial(head []byte, whole bool, base delimited.Dialect, stated Stated) (best, second trial) {
	var candidates []string
	for _, c := range delimiters {
		candidates = append(candidates, string(rune(c.char)))
	}
	if stated.Delimiter != "" {
		candidates = []string{stated.Delimiter}
	}
	for i, c := range candidates {
		if i > 0 && !bytes.Contains(head, []byte(c)) {
			continue // one column, as the first has made of it if it is not there either
		}
		base.Delimiter, base.Rest = c[0], c[1:]
		t := try(head, whole, base)
		if t.score > best.score || best.rows == nil {
			best, second = t, best
		} else if t.score > second.score {
			second = t
		}
	}
	return best, second
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

// try cuts the beginning of an object with a dialect and scores what comes out.
func try(head []byte, whole bool, d delimited.Dialect) trial {
	if !whole {
		head = head[:d.Cut(head)]
	}
	t := trial{dialect: d}
	p := delimited.Parser{Dialect: d}
	var records delimited.Records
	p.Parse(&parse.Block{Data: head, Line: 1}, &records)
	t.problems = records.Problems
	if records.Rows > 0 {
		end := len(head)
		if records.Rows > 1 {
			end = records.Start(1)
		}
		t.first = string(head[records.Start(0):end])
	}
	counts := map[int]int{}
	clean, fields := 0, 0
	others := otherDelimiters(head, d.Delimiter)
	t.rows = records.Table()
	for _, f := range t.rows {
		counts[len(f)]++
		for _, field := range f {
			fields++
			if field.Quoted || uncut(field.Text, others) {
				clean++
			}
		}
	}
	for width, n := range counts {
		if n > t.agree || (n == t.agree && width > t.width) {
			t.width, t.agree = width, n
		}
	}
	if t.width < 2 {
		return t
	}
	t.score = float64(t.agree) / float64(len(t.rows)+len(records.Problems)) * (0.5 + 0.5*float64(clean)/float64(fields))
	if len(t.rows[0]) != t.width {
		t.score *= 0.7
	}
	return t
}

// otherDelimiters returns the candidates that a text holds, but for one.
func otherDelimiters(text []byte, delimiter byte) (others []byte) {
	for _, c := range delimiters {
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
	return true
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

// commentPrefix finds lines that begin with # among others that do not. A single one at the top is taken for a header.
func commentPrefix(head []byte) (prefix byte, lines int) {
	others := 0
	for line := range bytes.Lines(head) {
		if line[0] == '#' {
			lines++
		} else {
			others++
		}
	}
	if lines < 2 || others == 0 || head[0] != '#' {
		return 0, 0
	}
	return '#', lines
}
