package sniff

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/lexical"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// UseHeader takes the names from the first record, for the reason given.
func (r *Rules) UseHeader(why string) {
	r.Header, r.HeaderRows, r.Names, r.HeaderText = true, 1, headerNames(r.First), r.firstText
	if header := r.Reason("header"); header != nil {
		if header.Why != why {
			header.Unsure, header.Asked = false, false
		}
		header.Value, header.Why = "yes", why
	}
}

// DropHeader takes the first record as data, for the reason given.
func (r *Rules) DropHeader(why string) {
	r.Header, r.HeaderRows, r.Names, r.HeaderText = false, 0, Positional(len(r.Names)), ""
	*r.Reason("header") = Reason{Rule: "header", Value: "no", Why: why}
}

// Reason returns the grounds of a rule, nil where it was not settled.
func (r *Rules) Reason(rule string) *Reason {
	for i := range r.Reasons {
		if r.Reasons[i].Rule == rule {
			return &r.Reasons[i]
		}
	}
	return nil
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
	r.Reason("header").Value = fmt.Sprintf("%d rows", r.HeaderRows)
}

// useColumns takes the stated names.
func (r *Rules) useColumns(columns []string, width int) error {
	if len(columns) == 0 {
		return nil
	}
	if len(columns) < len(r.Names) {
		return fault.New(fault.Usage, "--columns names %d columns, the records have %d fields", len(columns), len(r.Names)).
			Try("name each of them, in order; more may be named, for fields that records lack at their end")
	}
	if len(columns) > width {
		r.Least = min(width, len(r.Names))
		r.because("short records", "filled", "more columns are named than the records looked at have fields")
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
	short          bool   // the first record has fewer than the usual number of fields
	numbers        string // why numbers are names
	sign           sign   // the strongest of texts
}

// Weights of the evidence of one column. Types decide; what texts are like only where there are no types.
const (
	decisive = 4.0
	telling  = 1.0
	slight   = 0.25
)

// weigh compares a record with those below it, column by column.
func (t *trial) weigh(at int) votes {
	first := t.rows[at]
	// A header in the middle, of files put one after the other, tells nothing of the columns.
	rest := slices.DeleteFunc(slices.Clone(t.rows[at+1:min(len(t.rows), at+1+enoughRows)]),
		func(row []delimited.Field) bool { return len(row) > 1 && slices.Equal(row, first) })
	v := votes{columns: len(first), rows: len(rest)}
	shift := 0
	switch {
	case len(first) == t.width-1 && len(first) > 0 && t.allWidth(at+1, t.width):
		shift = 1 // it may lack the name of the first column
	case len(first) < t.width:
		v.short = true
		v.values += decisive
	}
	named := v.numberNames(first, rest)
	seen := map[string]bool{}
	var texts []int
	for c, f := range first {
		key := strings.ToLower(strings.TrimSpace(f.Text))
		if key == "" {
			v.blank++
			v.values += slight
			continue
		}
		if seen[key] {
			v.repeats++
			v.values += telling
		}
		seen[key] = true
		if !named[c] && !v.column(f.Text, columnOf(rest, c+shift)) {
			texts = append(texts, c)
		}
	}
	// What texts are like is asked where numbers, dates and times do not tell.
	if told := max(v.names, v.values) >= decisive && (v.names > 2*v.values || v.values > 2*v.names); !told {
		for _, c := range texts {
			v.text(first[c].Text, columnOf(rest, c+shift))
		}
	}
	if shift > 0 && v.typed == 0 {
		v.short = true
		v.values += decisive
	}
	return v
}

// columnOf returns the texts of a column, without the empty ones.
func columnOf(rows [][]delimited.Field, c int) (texts []string) {
	for _, row := range rows {
		if c < len(row) && row[c].Text != "" {
			texts = append(texts, row[c].Text)
		}
	}
	return texts
}

// column weighs one column, unless it is one of texts.
func (v *votes) column(first string, below []string) (told bool) {
	typed, texts := 0, 0
	for _, text := range below {
		if class := schema.Classify([]byte(text)); class&schema.Word == 0 || class == schema.ClassSpecial {
			typed++
		} else if texts++; 10*texts > len(below) {
			break
		}
	}
	class := schema.Classify([]byte(first))
	switch {
	case class == schema.ClassToken:
		// It stands for no value, and is no name.
	case class&schema.Word == 0:
		// Names are words; a number or a date in the first record is a value whatever stands below it.
		v.values += decisive
		v.alike++
	case typed > 0 && 10*typed >= 9*len(below):
		v.names += decisive
		v.typed++
	case startsLikeNumber(first) && len(below) > 0:
		v.values += telling
	default:
		return false
	}
	return true
}

// text weighs a column of texts.
func (v *votes) text(first string, below []string) {
	s := read(first, below)
	if s.weight > 0 {
		v.names += s.weight
	} else {
		v.values -= s.weight
	}
	if math.Abs(s.weight) > math.Abs(v.sign.weight) {
		v.sign = s
	}
}

// leastRun is how many numbers make a run.
const leastRun = 3

// numberNames finds numbers in the first record that are names: a run that only goes up, as years and bins do, where the
// records below have none; or those that count from 0 or 1, behind an empty first field that is the name of a column of row
// names. It returns which fields they are.
func (v *votes) numberNames(first []delimited.Field, rest [][]delimited.Field) map[int]bool {
	named := map[int]bool{}
	fields, numbers := numbersOf(first)
	index := len(first) > 1 && strings.TrimSpace(first[0].Text) == "" && len(rest) >= leastRun && len(columnOf(rest, 0)) == len(rest)
	switch {
	case index && len(fields) == len(first)-1 && (countsUp(numbers) || len(numbers) >= leastRun && evenSteps(numbers)):
		v.numbers = "the first field is empty, as a name of row names is, and the others count up evenly"
	case len(numbers) >= leastRun && rising(numbers) && risingBelow(rest) < 0.2:
		v.numbers = fmt.Sprintf("%d numbers in it only go up, from %s to %s, which those below do not", len(numbers),
			first[fields[0]].Text, first[fields[len(fields)-1]].Text)
	default:
		return named
	}
	v.names += telling
	for _, c := range fields {
		named[c] = true
	}
	return named
}

// numbersOf returns the fields of a record that are numbers, and these.
func numbersOf(row []delimited.Field) (fields []int, numbers []float64) {
	for c, f := range row {
		if n, ok := lexical.StatedDouble([]byte(strings.TrimSpace(f.Text))); ok {
			fields, numbers = append(fields, c), append(numbers, n)
		}
	}
	return fields, numbers
}

// countsUp reports whether numbers are 0, 1, 2 and so on, or 1, 2, 3.
func countsUp(numbers []float64) bool {
	for i, n := range numbers {
		if n != numbers[0]+float64(i) {
			return false
		}
	}
	return len(numbers) > 0 && (numbers[0] == 0 || numbers[0] == 1)
}

// evenSteps reports whether numbers go up by the same each.
func evenSteps(numbers []float64) bool {
	step := numbers[1] - numbers[0]
	for i := 1; i < len(numbers); i++ {
		if numbers[i]-numbers[i-1] != step {
			return false
		}
	}
	return step > 0
}

func rising(numbers []float64) bool {
	for i := 1; i < len(numbers); i++ {
		if numbers[i] <= numbers[i-1] {
			return false
		}
	}
	return true
}

// risingBelow is the part of the records whose numbers only go up.
func risingBelow(rows [][]delimited.Field) float64 {
	up, all := 0, 0
	for _, row := range rows {
		if _, numbers := numbersOf(row); len(numbers) >= leastRun {
			if all++; rising(numbers) {
				up++
			}
		}
	}
	return float64(up) / float64(max(1, all))
}

// startsLikeNumber reports whether a text begins with a digit, or with a sign or a point and a digit.
func startsLikeNumber(text string) bool {
	text = strings.TrimLeft(text, "+-.")
	return text != "" && text[0] >= '0' && text[0] <= '9'
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
	case header && v.numbers != "":
		return v.numbers
	case header && v.typed > 0:
		return fmt.Sprintf("in %d of %d columns a word stands above numbers, dates or times", v.typed, v.columns)
	case header && v.sign.what != "":
		return v.sign.what
	case header:
		return "the first record holds words that could be names"
	case v.alike > 0:
		return fmt.Sprintf("in %d of %d columns the first record already holds a number, date or time", v.alike, v.columns)
	case v.short:
		return fmt.Sprintf("the first record has %d fields, not as many as most", v.columns)
	case v.sign.weight < 0:
		return v.sign.what
	case v.repeats > 0:
		return "a word occurs twice in the first record"
	case v.blank > 0:
		return "the first record has empty fields"
	}
	return "the first record reads like those below it"
}
