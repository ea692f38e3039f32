package sniff

import (
	"bytes"
	"fmt"

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

// DelimiterName names a delimiter as people do.
func DelimiterName(c byte) string {
	for _, d := range delimiters {
		if d.char == c {
			return d.name
		}
	}
	return fmt.Sprintf("%q", string(rune(c)))
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
	if bytes.IndexByte(head, '\n') < 0 && bytes.Count(head, []byte{'\r'}) > 1 {
		return fault.New(fault.Input, "has lines that end in a carriage return alone, which is not read yet").
			Try("convert the line ends to LF")
	}
	comment, comments := commentPrefix(head)
	best, second := bestTrial(head, whole, comment, stated)
	switch {
	case len(best.rows) > 0:
	case !whole:
		return ErrMore
	case len(best.problems) > 0:
		return fault.New(fault.Input, "holds no whole record: the first %s", best.problems[0].Reason).Try("%s", best.problems[0].WayOut)
	default:
		return fault.New(fault.Input, "holds no record, only blank or comment lines").Try("leave it out of the source")
	}
	r.Format, r.Dialect, r.Pad, r.firstText = Delimited, best.dialect, stated.Pad, best.first
	r.because("format", "delimited text", "%s", "its text is neither JSON nor XML, nor does it begin like a columnar file")
	reason := r.because("delimiter", DelimiterName(best.dialect.Delimiter), "%s", best.why())
	if stated.Delimiter != nil {
		reason.Why = "stated; " + reason.Why
	} else if second.width > 1 && second.score > 0.9*best.score {
		reason.Unsure = true
		reason.Why += fmt.Sprintf("; a %s would do nearly as well", DelimiterName(second.dialect.Delimiter))
	}
	if n := best.quoted(); n > 0 {
		r.because("quote", `"`, "fields looked at that are enclosed in it: %d", n)
	} else {
		r.because("quote", `"`, "the usual one; no field looked at is enclosed in it")
	}
	if comment != 0 {
		r.because("comment", string(rune(comment)), "lines looked at that begin with it: %d", comments)
	}
	r.settleHeader(best, stated)
	return nil
}

// bestTrial tries the candidates, or the stated delimiter alone, and returns the best and the next best.
func bestTrial(head []byte, whole bool, comment byte, stated Stated) (best, second trial) {
	var candidates []byte
	for _, c := range delimiters {
		candidates = append(candidates, c.char)
	}
	if stated.Delimiter != nil {
		candidates = []byte{*stated.Delimiter}
	}
	for _, c := range candidates {
		t := try(head, whole, delimited.Dialect{Delimiter: c, Quote: '"', Comment: comment})
		if t.score > best.score || best.rows == nil {
			best, second = t, best
		} else if t.score > second.score {
			second = t
		}
	}
	return best, second
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
	for row := range records.Rows {
		f := records.Row(row)
		t.rows = append(t.rows, f)
		counts[len(f)]++
		for _, field := range f {
			fields++
			if field.Quoted || uncut(field.Text, d.Delimiter) {
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

// uncut reports whether a field does not look like several: it holds no other candidate delimiter, except as the decimal
// mark of a number or followed by a space, as in a sentence.
func uncut(text string, delimiter byte) bool {
	for _, c := range delimiters {
		if c.char == delimiter {
			continue
		}
		at := bytes.IndexByte([]byte(text), c.char)
		if at < 0 || (at+1 < len(text) && text[at+1] == ' ') {
			continue
		}
		if c.char == ',' {
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
