package sniff

import (
	"bytes"
	"fmt"
	"strconv"

	"trevak/internal/fault"
	"trevak/internal/parse/delimited"
)

// delimiters are the candidates, the likeliest first.
var delimiters = []struct {
	char byte
	name string
}{{',', "comma"}, {';', "semicolon"}, {'\t', "tab"}, {'|', "pipe"}, {'~', "tilde"}, {'^', "caret"}, {0x01, "0x01"}, {0x1f, "0x1F"}}

// usualDelimiters is how many of them are common enough for a field that holds one to look uncut.
const usualDelimiters = 4

// DelimiterName names a dialect's delimiter as people do.
func DelimiterName(dialect delimited.Dialect) string {
	if text := dialect.DelimiterText(); dialect.Blanks || len(dialect.Widths) > 0 || text == delimited.NoneText {
		return text
	}
	for _, d := range delimiters {
		if d.char == dialect.Delimiter && dialect.Rest == "" {
			return d.name
		}
	}
	return strconv.Quote(dialect.DelimiterText())
}

// settleDelimited settles delimiter, quote, comment prefix, header and names.
func (r *Rules) settleDelimited(head []byte, whole bool, stated Stated) error {
	base := delimited.Dialect{Quote: '"', Escape: stated.Escape, Trim: stated.Trim, CR: bytes.IndexByte(head, '\n') < 0 &&
		bytes.IndexByte(head, '\r') >= 0}
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
	if comments == 1 && base.Comment != 0 && best.widthOfFirstLine(looked) == best.width && best.width > 1 && stated.Comment == nil {
		// The only line that begins with the prefix is like the others: it holds their names.
		base.Comment, comments = 0, 0
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
	r.Format = Delimited
	r.because("format", "delimited text", "%s", "its text is neither JSON nor XML, nor does it begin like a columnar file")
	reason := r.because("delimiter", DelimiterName(best.dialect), "%s", best.why())
	switch {
	case len(stated.Widths) > 0:
		reason.Why = "the widths are stated"
	case stated.Delimiter != "":
		reason.Why = "stated; " + reason.Why
	case second.width > 1 && second.score > 0.9*best.score && DelimiterName(second.dialect) != DelimiterName(best.dialect):
		reason.Unsure = true
		reason.Why += fmt.Sprintf("; a %s would do nearly as well", DelimiterName(second.dialect))
		reason.Instead = fmt.Sprintf("--delimiter %s cuts them so", DelimiterName(second.dialect))
	}
	if best.width < 2 && stated.Delimiter == "" && len(stated.Widths) == 0 {
		if widths := best.proposeWidths(); widths != "" {
			reason.Unsure, reason.Instead = true, "blanks line up through the lines: --widths "+widths+" makes columns of them"
		}
	}
	trimmed := best.trim(looked, all, stated)
	closed := best.close(looked, all)
	r.Dialect, r.Pad, r.SkipBlank = best.dialect, stated.Pad, stated.SkipBlank
	r.describeDialect(best, stated, comments)
	if trimmed != "" {
		r.because("trim", "yes", "%s", trimmed)
	}
	if closed {
		r.because("line ends", "closed", "a delimiter stands behind the last field of each record")
	}
	return r.settleTable(best, all, stated)
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
	case d.Quote == 0 && stated.Quote == nil:
		r.because("quote", "none", "%s", t.unquoted)
	case d.Quote == 0:
		r.because("quote", "none", "stated")
	case stated.Quote != nil:
		r.because("quote", string(rune(d.Quote)), "stated; fields looked at that are enclosed in it: %d", n)
	case n > 0:
		r.because("quote", string(rune(d.Quote)), "fields looked at that are enclosed in it: %d", n)
	default:
		r.because("quote", `"`, "the usual one; no field looked at is enclosed in it")
	}
	if d.Escape != 0 {
		why := "stated; it stands before a quote within quotes"
		if stated.Escape == 0 {
			why = "it stands before quotes within quotes in records that cannot be read otherwise"
		}
		r.because("escape", string(rune(d.Escape)), "%s", why)
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
	if d.Trim && stated.Trim {
		r.because("trim", "yes", "stated; white space around fields is left out")
	}
	if stated.SkipRows > 0 {
		r.because("skipped rows", strconv.Itoa(stated.SkipRows), "stated")
	}
}
