// Package check holds rules that rows must keep: conditions, columns that have no value twice, and columns whose values another table has.
//
// What comes in are rules in words and rows, or a table; what goes out are the rows that break them.
package check

import (
	"regexp"
	"slices"
	"strings"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// Policy says what becomes of rows that break a rule.
type Policy string

// Stop refuses the load; Quarantine has the records become no rows; Tell only counts.
const (
	Stop       Policy = "stop"
	Quarantine Policy = "quarantine"
	Tell       Policy = "tell"
)

// policies are what may stand before a rule.
var policies = []Policy{Stop, Quarantine, Tell}

// Rule is what rows must keep, of one of three kinds.
type Rule struct {
	Policy Policy
	// Text is the rule as it was written, without its policy.
	Text string
	// Unique are columns of which no two rows have the same values; rows without one of them are left out of it.
	Unique []string
	// Column has no value but those that Of has in its column In; nil for none.
	Column string
	Of     *table.Name
	In     string
}

var (
	uniqueForm    = regexp.MustCompile(`(?i)^unique\s*\((.+)\)$`)
	referenceForm = regexp.MustCompile(`(?i)^("[^"]+"|[^\s"(]+)\s+in\s+([A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)+)\.("[^"]+"|[^\s".]+)$`)
)

// Parse reads a rule: a condition over the columns, unique(a, b), or column in namespace.table.column; before it may stand what becomes of
// rows that break it, as in "tell: depth_m < 500". Without it a load is stopped.
func Parse(text string) (Rule, error) {
	r := Rule{Policy: Stop, Text: strings.TrimSpace(text)}
	if word, rest, ok := strings.Cut(r.Text, ":"); ok {
		if p := Policy(strings.ToLower(strings.TrimSpace(word))); slices.Contains(policies, p) {
			r.Policy, r.Text = p, strings.TrimSpace(rest)
		}
	}
	wrong := func(format string, args ...any) *fault.Error {
		e := fault.New(fault.Usage, format, args...)
		e.Reason = "the check " + fault.Quote(r.Text) + " " + e.Reason
		return e
	}
	if r.Text == "" {
		return r, fault.New(fault.Usage, "a check is empty").Try("write a condition like \"depth_m between 0 and 500\"")
	}
	if m := uniqueForm.FindStringSubmatch(r.Text); m != nil {
		for name := range strings.SplitSeq(m[1], ",") {
			r.Unique = append(r.Unique, unquoted(strings.TrimSpace(name)))
		}
		if slices.Contains(r.Unique, "") {
			return r, wrong("names no column").Try("write it like unique(station_code, taken_at)")
		}
		if r.Policy == Quarantine {
			return r, wrong("cannot quarantine records: which of several are too many is known only when all are read").
				Try("use stop or tell before it")
		}
		return r, nil
	}
	if m := referenceForm.FindStringSubmatch(r.Text); m != nil {
		name, err := table.ParseName(m[2])
		if err != nil {
			return r, err
		}
		r.Column, r.Of, r.In = unquoted(m[1]), &name, unquoted(m[3])
	}
	return r, nil
}

func unquoted(name string) string { return strings.Trim(name, `"`) }

// String writes a rule as Parse reads it.
func (r Rule) String() string { return string(r.Policy) + ": " + r.Text }

// Fits returns an error where a rule is none for rows with the columns of a schema.
func (r Rule) Fits(s schema.Schema) error {
	_, err := r.condition(s)
	return err
}

// Columns are those that a rule speaks of.
func (r Rule) Columns(s schema.Schema) []string {
	switch {
	case r.Unique != nil:
		return r.Unique
	case r.Of != nil:
		return []string{r.Column}
	}
	if e, err := expr.Parse(r.Text, s.Bare().Fields); err == nil {
		return e.Columns()
	}
	return nil
}

// condition makes of a rule what holds for rows that break it; nil for rules of another kind, whose columns are checked.
func (r Rule) condition(s schema.Schema) (*expr.Expression, error) {
	var names []string
	for _, f := range s.Fields {
		names = append(names, f.Name)
	}
	named := r.Unique
	if r.Of != nil {
		named = []string{r.Column}
	}
	for _, name := range named {
		at := s.Index(name)
		if at < 0 {
			return nil, fault.New(fault.Usage, "the check %s names a column %q that is not there", fault.Quote(r.Text), name).
				Try("%s", schema.Choices(name, names))
		}
		if s.Fields[at].Type.Nested() {
			return nil, fault.New(fault.Usage, "the check %s is of column %q, which is %s", fault.Quote(r.Text), name, s.Fields[at].Type.Kind).
				Try("name a column of single values")
		}
	}
	if named != nil {
		return nil, nil
	}
	fields := s.Bare().Fields
	e, err := expr.Parse(r.Text, fields)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "the check %s", fault.Quote(r.Text))
	}
	if e.Type().Kind != schema.Boolean {
		return nil, fault.New(fault.Usage, "the check %s is no condition", fault.Quote(r.Text)).
			Try("write one that is true or false, like \"depth_m between 0 and 500\"")
	}
	// A row for which a condition is unknown because of a null keeps it, as with CHECK in SQL.
	return expr.Parse("NOT ("+r.Text+")", fields)
}
