package write

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/fault"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/wording"
)

// DriftError refuses a load because the batch differs from the table.
type DriftError struct {
	Table       string
	Differences []schema.Difference
	// Expected says that nothing was to be written, only the difference told.
	Expected bool
}

func (d *DriftError) Error() string { return d.Unwrap().Error() }

// Unwrap returns the error with its kind and way out.
func (d *DriftError) Unwrap() error {
	if d.Expected {
		return fault.New(fault.Schema, "the source differs from %s in %s; the first: %s", d.Table,
			wording.Count(int64(len(d.Differences)), true, "way", "ways"), Sentence(d.Differences[0])).
			Try("mend the source, or choose with --drift what a load does with differences")
	}
	return fault.New(fault.Schema, "the source differs from table %s in %s, and --drift stop refuses any difference; the first: %s",
		d.Table,
		wording.Count(int64(len(d.Differences)), true, "way", "ways"),
		Sentence(d.Differences[0])).Try("mend the source, or load it with --drift grow or --drift hold")
}

// Sentence writes a difference in words.
func Sentence(d schema.Difference) string {
	var text string
	switch d.Kind {
	case schema.Added:
		text = fmt.Sprintf("column %s is new, %s", name(d), d.Is)
	case schema.Missing:
		text = fmt.Sprintf("column %s is missing", d.Column)
	case schema.Widened:
		text = fmt.Sprintf("column %s widens from %s to %s", d.Column, d.Was, d.Is)
	case schema.Settled:
		text = fmt.Sprintf("column %s, which had no values so far, becomes %s", d.Column, d.Is)
	case schema.CaseOnly:
		text = fmt.Sprintf("column %s is written %s", d.Column, d.From)
	case schema.LikelyRename:
		text = fmt.Sprintf("%s looks like %s under a new name", d.From, d.Column)
	case schema.UnknownColumn:
		text = fmt.Sprintf("%s is no column of the table", d.Column)
	case schema.Unfit:
		text = fmt.Sprintf("column %s has values that are not %s", d.Column, d.Was)
	}
	if d.Records > 0 {
		text += ", in " + wording.Count(d.Records, true, "record", "records")
	}
	if d.Location != "" {
		text += fmt.Sprintf(", first at %s:%d", d.Location, d.Line)
	}
	if d.Value != "" {
		text += fmt.Sprintf(": %q", d.Value)
	}
	return text
}

func name(d schema.Difference) string {
	if d.From == "" {
		return d.Column
	}
	return fmt.Sprintf("%s (%q in the source)", d.Column, d.From)
}

// findings gathers what a writing pass finds of differences.
type findings struct {
	written []source.Folded
	unfit   []schema.Difference
	tokens  map[string]int64
	longest map[string]int
	present []bool
	folded  map[string]string
	rows    int64
	// values counts those of stated columns, misfits aside, by path, and examples are some misfits of each.
	values   map[string]int64
	examples map[string][]string
}

// add takes the misfits and counts of a block.
func (d *findings) add(in source.Input, f *scan.Rows, s schema.Schema) {
	for _, m := range f.Misfits {
		at := slices.IndexFunc(d.unfit, func(u schema.Difference) bool { return u.Column == m.Of })
		if at < 0 {
			at = len(d.unfit)
			u := schema.Difference{Kind: schema.UnknownColumn, Column: m.Of, Location: in.Location, Value: m.Text}
			u.Line, _ = f.LineOf(m)
			if m.Known {
				u.Kind = schema.Unfit
				u.Was = typeOf(s, m.Of)
			}
			d.unfit = append(d.unfit, u)
		}
		d.unfit[at].Records++
		if shown := d.examples[m.Of]; m.Known && len(shown) < examplesShown {
			line, numbered := f.LineOf(m)
			place := fmt.Sprintf("%s (%s:%d)", fault.Quote(m.Text), in.Location, line)
			if numbered {
				place = fmt.Sprintf("%s (%s, row %d)", fault.Quote(m.Text), in.Location, line)
			}
			d.examples[m.Of] = append(shown, place)
		}
	}
	d.countStated(f, s)
	d.rows += f.Batch.NumRows()
	if d.tokens == nil {
		d.tokens, d.folded = map[string]int64{}, map[string]string{}
	}
	for column, n := range f.Tokens {
		d.tokens[column] += n
	}
	for column, n := range f.Longest {
		d.longest[column] = max(d.longest[column], n)
	}
	for column, key := range f.Folded {
		d.folded[column] = key
	}
	for i, there := range f.Present {
		if len(d.present) <= i {
			d.present = append(d.present, false)
		}
		d.present[i] = d.present[i] || there
	}
}

// examplesShown is how many misfits of a column a refusal shows.
const examplesShown = 3

// countStated counts the values of columns whose type is stated.
func (d *findings) countStated(f *scan.Rows, s schema.Schema) {
	for i := range s.Fields {
		if i < int(f.Batch.NumCols()) {
			d.countColumn(s.Fields[i].Name, &s.Fields[i], f.Batch.Column(i))
		}
	}
}

func (d *findings) countColumn(path string, f *schema.Field, a arrow.Array) {
	if f.Pinned && !f.Type.Nested() {
		d.values[path] += int64(a.Len() - a.NullN())
	}
	switch a := a.(type) {
	case *array.Struct:
		for i := range f.Type.Fields {
			if i < a.NumField() {
				d.countColumn(path+"."+f.Type.Fields[i].Name, &f.Type.Fields[i], a.Field(i))
			}
		}
	case *array.Map:
		d.countColumn(path+"."+f.Type.Element.Name, f.Type.Element, a.Items())
	case *array.List:
		d.countColumn(path+"."+f.Type.Element.Name, f.Type.Element, a.ListValues())
	}
}

// beyond returns the refusal of a run in which more values of a stated column were misfits than allowed, nil without one.
func (d *findings) beyond(limit Tolerance) error {
	for _, u := range d.unfit {
		values, stated := d.values[u.Column]
		if all := values + u.Records; stated && u.Kind == schema.Unfit && limit.exceeded(u.Records, all, true) {
			e := fault.New(fault.Schema, "%d of %s are not %s, as the column is pinned: %s", u.Records, wording.Count(all, true, "value", "values"),
				u.Was, strings.Join(d.examples[u.Column], ", ")).
				Try("state another type, or allow misfits with --tolerate-misfits 100%%")
			e.Column = u.Column
			return e
		}
	}
	return nil
}

// typeOf writes the type of a column, with the way it is written.
func typeOf(s schema.Schema, path string) string {
	var text string
	s.Walk(func(at string, f *schema.Field) {
		if at == path {
			text = schema.Stated{Type: f.Type, Notation: f.Notation}.String()
		}
	})
	return text
}

// list brings together what is known of the differences: those found before the rows were written, and those found while doing so.
func (d *findings) list(known []schema.Difference, columns *scan.Columns, s schema.Schema, fixed bool) []schema.Difference {
	out := slices.Clone(known)
	has := func(kind, column string) bool {
		return slices.ContainsFunc(out, func(k schema.Difference) bool { return k.Kind == kind && k.Column == column })
	}
	for _, f := range d.written {
		if column := columnOf(s, f.Is); !has(schema.CaseOnly, column) {
			out = append(out, schema.Difference{Kind: schema.CaseOnly, Column: column, From: f.Was, Location: f.Location, Line: 1})
		}
	}
	if fixed {
		missing := slices.Clone(columns.Missing)
		for i, there := range d.present {
			if f := s.Fields[i]; !there && d.rows > 0 && !f.Added && !f.Skip && f.Name != schema.MisfitColumn {
				missing = append(missing, i)
			}
		}
		for _, i := range missing {
			if f := s.Fields[i]; !has(schema.Missing, f.Name) && !has(schema.Added, f.Name) {
				out = append(out, schema.Difference{Kind: schema.Missing, Column: f.Name, Was: f.Type.String()})
			}
		}
		for _, folded := range []map[string]string{columns.Folded, d.folded} {
			for _, column := range SortedKeys(folded) {
				if !has(schema.CaseOnly, column) {
					out = append(out, schema.Difference{Kind: schema.CaseOnly, Column: column, From: folded[column]})
				}
			}
		}
	}
	return append(out, d.unfit...)
}

// columnOf returns the column that a name of the source goes to.
func columnOf(s schema.Schema, name string) string {
	if at := schema.NewIndex(s.Fields, schema.SafeNames).Find(name); at >= 0 {
		return s.Fields[at].Name
	}
	return name
}

// SortedKeys returns the keys of a map in order.
func SortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, strings.Compare)
	return keys
}

// NullTokens is a column in which words stood for no value.
type NullTokens struct {
	Column string
	Values int64
}

func (d *findings) nullTokens() []NullTokens {
	out := []NullTokens{}
	for _, column := range SortedKeys(d.tokens) {
		out = append(out, NullTokens{column, d.tokens[column]})
	}
	return out
}

// setLongest notes the lengths of texts in a schema.
func (d *findings) setLongest(s *schema.Schema) {
	s.Walk(func(path string, f *schema.Field) {
		if n, ok := d.longest[path]; ok {
			f.Longest = n
		}
	})
}
