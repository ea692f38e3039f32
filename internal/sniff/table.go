package sniff

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// settleTable settles where the table begins, which records hold the names of its columns, and what these are.
func (r *Rules) settleTable(t trial, whole bool, stated Stated) error {
	top := t.top(whole, stated)
	r.begin(t, top.titles)
	if stated.HeaderRows != nil && *stated.HeaderRows > len(t.rows)-top.titles {
		return fault.New(fault.Input, "has %d records where looked at, fewer than the %d header rows stated", len(t.rows),
			*stated.HeaderRows).Try("state fewer --header-rows")
	}
	r.Reasons = append(r.Reasons, top.reason)
	if top.titles > 0 {
		r.Skip = bytes.Count(t.head[:t.starts[top.titles]], []byte("\n"))
		r.Title = strings.TrimRight(strings.SplitN(string(t.head), "\n", 2)[0], "\r")
		r.because("skipped rows", strconv.Itoa(r.Skip), "%s", top.why).Unsure = top.unsure
		r.Reasons[len(r.Reasons)-1].Instead = "--skip-rows 0 keeps them"
	}
	from := top.titles + top.headers
	if top.headers > 0 {
		r.UseHeader(top.reason.Why)
		r.joinHeader(t.rows[top.titles+1 : from])
	}
	l, padded := t.short(from, len(r.Names))
	width := t.width
	if padded {
		width = l.all
	}
	switch {
	case top.headers == 0:
		r.Names = Positional(width)
	case len(r.Names) == width-1 && t.allWidth(from, width):
		r.Names, r.HeaderText = append([]string{rowName(r.Names)}, r.Names...), ""
		r.because("columns", fmt.Sprint(width), "the header names one fewer than the records have, so the first holds names of rows")
	}
	if padded && len(stated.Columns) == 0 && !stated.Pad {
		r.Least = l.least
		r.because("short records", "filled", "%d of the %d records looked at have fewer than %d fields, and lack only the last",
			l.records, len(t.rows)-from, l.all)
	}
	return r.useColumns(stated.Columns, width)
}

// begin notes the first record of the table.
func (r *Rules) begin(t trial, row int) {
	for _, f := range t.rows[row] {
		r.First = append(r.First, f.Text)
	}
	r.firstText = t.text(row)
}

// rowName is what the column of the names of rows is called.
func rowName(names []string) string {
	name := "row_name"
	for contains(names, name) {
		name += "_"
	}
	return name
}

func contains(names []string, name string) bool {
	for _, n := range names {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	return false
}

// allWidth reports whether all records from one on have so many fields.
func (t *trial) allWidth(from, width int) bool {
	for _, row := range t.rows[from:] {
		if len(row) != width {
			return false
		}
	}
	return len(t.rows) > from
}

// top is how a table begins: how many records stand above it, and how many hold its names.
type top struct {
	titles, headers int
	reason          Reason
	why             string // the titles are none of it
	unsure          bool
}

// top settles how the table begins.
func (t *trial) top(whole bool, stated Stated) top {
	out := top{reason: Reason{Rule: "header", Value: "no"}}
	if stated.HeaderRows != nil || len(stated.Columns) > 0 {
		if stated.HeaderRows != nil {
			out.headers, out.reason.Why = *stated.HeaderRows, "stated"
		} else {
			out.reason.Why = "the names are stated, so every record is data; state --header if the first is not"
		}
		if out.headers > 0 {
			out.reason.Value = "yes"
		}
		return out
	}
	var v votes
	if !t.dialect.CR && !stated.SkipStated {
		out.titles, out.why = t.strictTitles(whole)
		at := t.nearest(t.headerBelow(out.titles))
		if at > out.titles {
			out.titles, out.why = at, "below stands what reads like a header, and above it what is not like the records"
		}
	}
	v = t.weigh(out.titles)
	out.settle(t, v)
	return out
}

// settle takes the record below the titles for a header or not, as the votes are.
func (o *top) settle(t *trial, v votes) {
	confidence := v.confidence()
	o.reason.Why = fmt.Sprintf("%s (%.0f%% sure)", v.why(v.names > v.values), 100*confidence)
	o.reason.Unsure, o.reason.Asked = confidence < sureMargin, confidence < askMargin
	o.reason.Instead = "--header takes the first record as names"
	if v.names <= v.values {
		return
	}
	o.headers, o.reason.Value = 1, "yes"
	o.reason.Instead = "--no-header takes the first record as data"
	for o.headers < 3 && t.continues(o.titles, o.titles+o.headers) {
		o.headers++
	}
	if o.headers > 1 {
		o.reason.Value = fmt.Sprintf("%d rows", o.headers)
		o.reason.Why = fmt.Sprintf("words stand above numbers, dates or times in the first %d records, the lower of which are units "+
			"or parts of the names (%.0f%% sure)", o.headers, 100*confidence)
		o.reason.Instead = "--header takes the first record alone"
	}
}

// Below sureMargin a reading is said to be unsure; below askMargin it is asked for.
const (
	sureMargin = 0.75
	askMargin  = 0.56
)

// strictTitles counts the records at the top that cannot be of the table, and says why.
func (t *trial) strictTitles(whole bool) (n int, why string) {
	most := min(fewAbove, len(t.rows)-1)
	if most > 0 && t.isCount(whole) {
		n, why = 1, "it tells how many records and fields follow"
	}
	for n < most && t.isTitle(n) {
		n++
		if why = "they are not like the records below"; n == 1 {
			why = "it is not like the records below"
		}
	}
	return n, why
}

// headerBelow returns the record below some that is surely a header, where those above it have few fields or are of another
// width; otherwise the first that it was given.
func (t *trial) headerBelow(from int) int {
	fill := t.filled(t.body())
	for at := from; at < min(from+3, len(t.rows)-2); at++ {
		if at > from {
			if v := t.weigh(at); v.names > 2*v.values && v.typed >= 2 && !v.short && 2*t.filled(t.rows[at:at+1]) > fill {
				return at
			}
		}
		if len(t.rows[at]) == t.width && 2*t.filled(t.rows[at:at+1]) > fill {
			return from
		}
	}
	return from
}

// nearest goes down from a record that could be a header to the last that could be one, where those between are no parts of its names.
func (t *trial) nearest(at int) int {
	most := min(at+fewAbove, len(t.rows)-1)
	for next := at + 1; next < most && !t.continues(at, next); next++ {
		words, values := t.against(next)
		above, _ := t.against(at)
		if words == 0 || values > 0 || above > words || len(t.rows[next]) != t.width {
			break
		}
		at = next
	}
	return at
}

// isCount reports whether the first record tells how many records follow, and maybe how many fields they have.
func (t *trial) isCount(whole bool) bool {
	first := t.rows[0]
	n, err := strconv.Atoi(strings.TrimSpace(first[0].Text))
	if err != nil || n < 2 || len(t.rows) < 3 {
		return false
	}
	records := len(t.rows) - 1
	exact := whole && (n == records || n == records-1)
	if len(first) == 1 {
		return exact && t.width > 1
	}
	fields, err := strconv.Atoi(strings.TrimSpace(first[1].Text))
	told := err == nil && (fields == t.width || fields == t.width-1)
	switch {
	case len(first) != t.width:
		return told && (exact || !whole && n >= records)
	case exact || !whole && n >= records:
		// As many fields as the others have: what follows the counts must be no value.
		return told && (t.width == 2 && t.wordsIn(1) || t.wordsIn(0))
	}
	return false
}

// wordsIn reports whether a record has words where the records have numbers, dates or times.
func (t *trial) wordsIn(row int) bool {
	words, _ := t.against(row)
	return words > 0
}

// against counts the words and the values of a record that stand above numbers, dates or times.
func (t *trial) against(at int) (words, values int) {
	for c, f := range t.rows[at] {
		if f.Text == "" || c >= t.width || !t.typedBelow(c) {
			continue
		}
		switch class := schema.Classify([]byte(f.Text)); {
		case class&schema.Word == 0:
			values++
		case class != schema.ClassToken:
			words++
		}
	}
	return words, values
}

// isTitle reports whether a record cannot be of the table: it is empty, a single text, or of another width and out of place.
func (t *trial) isTitle(at int) bool {
	row := t.rows[at]
	full := 0
	for _, f := range row {
		if strings.TrimSpace(f.Text) != "" {
			full++
		}
	}
	switch {
	case full == 0 && len(row) > 1:
		return true
	case t.width < 2 || len(row) == t.width || len(row) == t.width-1 && len(row) > 1 && t.below(at+1):
		return false
	case len(row) == 1:
		return t.withWidth(1) == at+1 || 10*t.withWidth(1) < len(t.rows)
	}
	words, values := t.against(at)
	return words > 0 && values == 0 && (len(row) < t.width || t.dialect.Blanks)
}

// below reports whether all records from one on have the usual width.
func (t *trial) below(from int) bool { return t.allWidth(from, t.width) }

func (t *trial) withWidth(width int) (n int) {
	for _, row := range t.rows {
		if len(row) == width {
			n++
		}
	}
	return n
}

// filled is the part of the fields that hold something, of those that there should be.
func (t *trial) filled(rows [][]delimited.Field) float64 {
	full := 0
	for _, row := range rows {
		for _, f := range row {
			if f.Text != "" {
				full++
			}
		}
	}
	return float64(full) / float64(max(1, len(rows)*t.width))
}

// continues reports whether the record below the header is a part of it: it has words and no values above numbers, dates or
// times, and words that are units, or the header above it is not complete without them.
func (t *trial) continues(header, at int) bool {
	if at >= len(t.rows)-1 || len(t.rows[at]) != t.width || len(t.rows[header]) != t.width {
		return false
	}
	for _, f := range t.rows[at] {
		if f.Text != "" && schema.Classify([]byte(f.Text))&schema.Word == 0 {
			return false // units and parts of names are no numbers
		}
	}
	words, values := t.against(at)
	if words == 0 || values > 0 || 2*words < t.typedColumns() {
		return false
	}
	seen := map[string]bool{}
	repeats, units, all := false, 0, 0
	for _, f := range t.rows[header] {
		repeats = repeats || f.Text == "" || seen[f.Text]
		seen[f.Text] = true
	}
	for _, f := range t.rows[at] {
		if f.Text == "" {
			continue
		}
		all++
		if isUnit(f.Text) {
			units++
		}
	}
	return repeats || 2*units > all
}

func (t *trial) typedColumns() (n int) {
	for c := range t.width {
		if t.typedBelow(c) {
			n++
		}
	}
	return n
}

// isUnit reports whether a text is a unit of measurement, as it stands below a name: in brackets, short, or made of signs.
func isUnit(text string) bool {
	text = strings.TrimSpace(text)
	if text == "" {
		return false
	}
	if last := text[len(text)-1]; text[0] == '(' && last == ')' || text[0] == '[' && last == ']' {
		return true
	}
	return strings.ContainsAny(text, "/%°^µ") && len(text) <= 12 || slices.Contains(units, strings.ToLower(text))
}

// enoughRows are enough records to see what a column holds.
const enoughRows = 200

// units are those that stand below names without a sign of being one.
var units = strings.Fields(`m cm mm km ft in s sec min h hr d day kg g mg t lb pa hpa kpa mbar bar c degc k f deg rad v mv a ma
	w kw mw kwh hz khz mhz l ml m2 m3 n j kj ppm ppb psu usd eur gbp count - -- none kn kt kts mol m/s
	utc`)

// typedBelow is typed of the records that are not at the start.
func (t *trial) typedBelow(c int) bool {
	if t.columns == nil {
		t.columns = make([]bool, t.width)
		for c, body := 0, t.body(); c < t.width; c++ {
			t.columns[c] = t.typed(body, c)
		}
	}
	return t.columns[c]
}

// typed reports whether a column holds numbers, dates, times or booleans, but for few values.
func (t *trial) typed(rows [][]delimited.Field, c int) bool {
	typed, texts := 0, 0
	for _, row := range rows[:min(len(rows), enoughRows)] {
		if c >= len(row) || row[c].Text == "" {
			continue
		}
		if 10*texts > len(rows) {
			return false
		}
		switch class := schema.Classify([]byte(row[c].Text)); {
		case class&schema.Word == 0, class == schema.ClassSpecial:
			typed++
		case class == schema.ClassToken:
		default:
			texts++
		}
	}
	return typed > 0 && 10*texts <= typed
}
