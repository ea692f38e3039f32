package sniff

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"trevak/internal/fault"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// settleHeader decides whether the first record holds names, and names the columns.
func (r *Rules) settleHeader(t trial, stated Stated) error {
	for _, f := range t.rows[0] {
		r.First = append(r.First, f.Text)
	}
	v := weigh(t)
	rows, reason := 0, Reason{Rule: "header", Value: "no"}
	if v.names > v.values {
		rows = 1
	}
	switch {
	case stated.HeaderRows != nil:
		rows, reason.Why = *stated.HeaderRows, "stated"
	case len(stated.Columns) > 0:
		rows, reason.Why = 0, "the names are stated, so every record is data; state --header if the first is not"
	default:
		confidence := v.confidence()
		reason.Why = fmt.Sprintf("%s (%.0f%% sure)", v.why(rows > 0), 100*confidence)
		reason.Unsure = confidence < 0.75
	}
	if rows > len(t.rows) {
		return fault.New(fault.Input, "has %d records where looked at, fewer than the %d header rows stated", len(t.rows), rows).Try("state fewer --header-rows")
	}
	r.Reasons = append(r.Reasons, reason)
	if rows == 0 {
		r.Names = Positional(t.width)
	} else {
		r.UseHeader(reason.Why)
		r.joinHeader(t.rows[1:rows])
	}
	return r.useColumns(stated.Columns)
}

// UseHeader takes the names from the first record, for the reason given.
func (r *Rules) UseHeader(why string) {
	r.Header, r.HeaderRows, r.Names, r.HeaderText = true, 1, headerNames(r.First), r.firstText
	header := &r.Reasons[len(r.Reasons)-1]
	header.Value, header.Why = "yes", why
}

// joinHeader adds further header rows to the names.
func (r *Rules) joinHeader(rows [][]delimited.Field) {
	if len(rows) == 0 {
		return
	}
	names := slices.Clone(r.First)
	for _, row := range rows {
		for i, f := range row {
			for i >= len(names) {
				names = append(names, "")
			}
			names[i] = strings.TrimSpace(names[i] + " " + strings.TrimSpace(f.Text))
		}
	}
	r.Names, r.HeaderText = headerNames(names), ""
	r.HeaderRows += len(rows)
	r.Reasons[len(r.Reasons)-1].Value = fmt.Sprintf("%d rows", r.HeaderRows)
}

// useColumns takes the stated names.
func (r *Rules) useColumns(columns []string) error {
	if len(columns) == 0 {
		return nil
	}
	if len(columns) != len(r.Names) {
		return fault.New(fault.Usage, "--columns names %d columns, the records have %d fields", len(columns), len(r.Names)).
			Try("name each of them, in order")
	}
	r.Names = headerNames(columns)
	return nil
}

// Positional names columns without a header: c1, c2 and so on.
func Positional(width int) []string {
	names := make([]string, width)
	for i := range names {
		names[i] = "c" + strconv.Itoa(i+1)
	}
	return names
}

// headerNames takes the names from the header, white space around them left out; an empty one is named by its position, and
// one that occurs again is told apart by a number.
func headerNames(row []string) []string {
	names := make([]string, len(row))
	taken := map[string]bool{}
	for i, text := range row {
		name := strings.TrimSpace(text)
		if name == "" {
			name = "c" + strconv.Itoa(i+1)
		}
		base := name
		for n := 2; taken[name]; n++ {
			name = base + " " + strconv.Itoa(n)
		}
		taken[name] = true
		names[i] = name
	}
	return names
}

// votes is the evidence for and against a header: names counts the weight of columns whose first field reads like a name,
// values that of columns in which it reads like the values below it.
type votes struct {
	names, values  float64
	typed, alike   int // columns typed below a text; columns whose first field is of the type below it
	columns        int
	rows           int
	blank, repeats int
	short          bool // the first record has other than the usual number of fields
}

// Weights of the evidence of one column. Types decide; shapes of text only where there are no types.
const (
	decisive = 4.0
	telling  = 1.0
	slight   = 0.25
)

// weigh compares the first record with those below it, column by column.
func weigh(t trial) votes {
	first := t.rows[0]
	// A header in the middle, of files put one after the other, tells nothing of the columns.
	rest := slices.DeleteFunc(slices.Clone(t.rows[1:]), func(row []delimited.Field) bool { return len(row) > 1 && slices.Equal(row, first) })
	v := votes{columns: len(first), rows: len(rest)}
	if v.short = len(first) != t.width; v.short {
		v.values += decisive
	}
	seen := map[string]bool{}
	for c, f := range first {
		key := strings.ToLower(f.Text)
		if f.Text == "" {
			v.blank++
			v.values += slight
			continue
		}
		if seen[key] {
			v.repeats++
			v.values += telling
		}
		seen[key] = true
		v.column(f, rest, c)
	}
	return v
}

// column weighs one column.
func (v *votes) column(first delimited.Field, rest [][]delimited.Field, c int) {
	var classes schema.Class
	values, same, likeLength := 0, 0, 0
	for _, row := range rest {
		if c >= len(row) || row[c].Text == "" {
			continue
		}
		values++
		classes |= schema.Classify([]byte(row[c].Text))
		if row[c].Text == first.Text {
			same++
		}
		if len(row[c].Text) == len(first.Text) {
			likeLength++
		}
	}
	class := schema.Classify([]byte(first.Text))
	kind := schema.Resolve(classes)
	switch {
	case class&schema.Word == 0:
		// Names are words; a number or a date in the first record is a value whatever stands below it.
		v.values += decisive
		v.alike++
	case kind != schema.Unknown && kind != schema.String:
		v.names += decisive
		v.typed++
	case same > 0 || startsLikeNumber(first.Text):
		v.values += telling
	case likeLength == values && values > 2 && len(first.Text) > 1:
		v.values += slight
	case looksLikeName(first.Text):
		v.names += slight
	}
}

// startsLikeNumber reports whether a text begins with a digit, or with a sign or a point and a digit.
func startsLikeNumber(text string) bool {
	text = strings.TrimLeft(text, "+-.")
	return text != "" && text[0] >= '0' && text[0] <= '9'
}

// looksLikeName reports whether a text could be a column's name: short, beginning with a letter, one line.
func looksLikeName(text string) bool {
	text = strings.TrimSpace(text)
	for i, r := range text {
		if i == 0 && !unicode.IsLetter(r) && r != '_' && r != '#' || r == '\n' {
			return false
		}
	}
	return text != "" && len(text) <= 64
}

// confidence is near 1 when all evidence points one way and there is much of it, 0.5 when there is none.
func (v votes) confidence() float64 {
	more, less := max(v.names, v.values), min(v.names, v.values)
	return 0.5 + 0.5*(more-less)/(more+less+slight)*(1-math.Exp(-more))
}

func (v votes) why(header bool) string {
	switch {
	case v.rows == 0 && header:
		return "the only record holds words that could be names"
	case header && v.typed > 0:
		return fmt.Sprintf("in %d of %d columns a word stands above numbers, dates or times", v.typed, v.columns)
	case header:
		return "the first record holds words that do not occur again below"
	case v.alike > 0:
		return fmt.Sprintf("in %d of %d columns the first record already holds a number, date or time", v.alike, v.columns)
	case v.short:
		return fmt.Sprintf("the first record has %d fields, not as many as most", v.columns)
	case v.repeats > 0:
		return "a word occurs twice in the first record"
	case v.blank > 0:
		return "the first record has empty fields"
	}
	return "the first record reads like those below it"
}
