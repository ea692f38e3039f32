package write

import (
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/wording"
)

// checks holds rows against the rules of a run, those that a row keeps by itself.
type checks struct {
	early   *check.Rows // of what the source gives
	late    *check.Rows // of columns that the run fills
	results []check.Result
	fields  []schema.Field
}

// newChecks prepares the rules of a task for an output, nil without any.
func newChecks(ctx context.Context, t Task, out *Output, columnar bool) (*checks, error) {
	if len(t.Checks) == 0 {
		return nil, nil
	}
	c, multiplies := &checks{fields: out.Schema.Fields}, t.Shape.Multiplies()
	var early, late []check.Rule
	for _, r := range t.Checks {
		if err := r.Fits(out.Schema); err != nil {
			return nil, err
		}
		filled := slices.ContainsFunc(r.Columns(out.Schema), func(name string) bool {
			at := out.Schema.Index(name)
			return at >= 0 && out.Schema.Fields[at].Added
		})
		if r.Policy == check.Quarantine && (filled || multiplies || columnar) {
			return nil, fault.New(fault.Usage, "the check %s cannot quarantine records here: %s", fault.Quote(r.Text), why(filled, multiplies)).
				Try("use stop: or tell: before it")
		}
		if filled {
			late = append(late, r)
		} else {
			early = append(early, r)
		}
	}
	var err error
	if c.early, err = check.ForRows(ctx, early, out.Schema, t.FindTable); err == nil {
		c.late, err = check.ForRows(ctx, late, out.Schema, t.FindTable)
	}
	if err != nil {
		return nil, err
	}
	for _, r := range slices.Concat(c.early.Rules, c.late.Rules) {
		c.results = append(c.results, check.Result{Rule: r})
	}
	return c, nil
}

func why(filled, multiplies bool) string {
	switch {
	case filled:
		return "it is of a column that the load fills"
	case multiplies:
		return "several rows come of a record, or one of several"
	}
	return "rows of columnar files have no text to be kept"
}

// each looks at rows before they are put back in order.
func (c *checks) each() func() func(*scan.Rows) error {
	if c == nil || len(c.early.Rules) == 0 {
		return nil
	}
	return func() func(*scan.Rows) error {
		return func(rows *scan.Rows) (err error) {
			if rows.Batch == nil {
				return nil
			}
			rows.Broken, err = c.early.Broken(rows.Batch)
			if slices.ContainsFunc(rows.Broken, func(list []int32) bool { return len(list) > 0 }) {
				rows.Keep()
			}
			return err
		}
	}
}

// take counts the rows that break rules, and takes those out that go to the quarantine.
func (c *checks) take(ctx context.Context, in source.Input, rows *scan.Rows, before int64) error {
	if c == nil || rows.Broken == nil {
		return nil
	}
	gone := map[int32]int{}
	for i, broken := range rows.Broken {
		for _, row := range broken {
			c.results[i].Add(1, func() string { return placeOf(in, rows, int(row), before) },
				func() string { return c.early.Values(i, rows.Batch, int(row)) })
			if c.early.Rules[i].Policy == check.Quarantine {
				if _, known := gone[row]; !known {
					gone[row] = i
				}
			}
		}
	}
	if len(gone) == 0 {
		return nil
	}
	var kept []int32
	for row := range int32(rows.Batch.NumRows()) {
		i, goes := gone[row]
		if !goes {
			kept = append(kept, row)
			continue
		}
		start, end := rows.Span(int(row))
		rows.Problems = append(rows.Problems, parse.Problem{Start: start, End: end, Code: parse.BreaksCheck,
			Reason: fmt.Sprintf("breaks the check %s: %s", c.early.Rules[i].Text, c.early.Values(i, rows.Batch, int(row)))})
	}
	slices.SortStableFunc(rows.Problems, func(a, b parse.Problem) int { return a.Start - b.Start })
	rows.Records -= int64(len(gone))
	return rows.Only(ctx, kept)
}

// placeOf is where the record of a row begins.
func placeOf(in source.Input, rows *scan.Rows, row int, before int64) string {
	if line := rows.LineAt(row); line > 0 {
		return fmt.Sprintf("%s:%d", in.Location, line)
	}
	return fmt.Sprintf("%s, record %d", in.Location, before+rows.Rank(row)+1)
}

// filled looks at rows whose columns the run has filled.
func (c *checks) filled(in source.Input, batch arrow.RecordBatch, rows *scan.Rows, before int64) error {
	if c == nil || len(c.late.Rules) == 0 {
		return nil
	}
	broken, err := c.late.Broken(batch)
	if err != nil {
		return err
	}
	for i, list := range broken {
		for _, row := range list {
			c.results[len(c.early.Rules)+i].Add(1, func() string { return placeOf(in, rows, int(row), before) },
				func() string { return c.late.Values(i, batch, int(row)) })
		}
	}
	return nil
}

// settle puts the results into the report, and returns the refusal of a run whose rows break a rule that stops it.
func (c *checks) settle(r *Report) error {
	if c == nil {
		return nil
	}
	r.Checks = c.results
	for _, result := range c.results {
		if err := BreaksRule(result); err != nil {
			return err
		}
	}
	return nil
}

// BreaksRule is the refusal of rows that break a rule which stops a load; nil for others.
func BreaksRule(r check.Result) error {
	if r.Policy != check.Stop || r.Broken == 0 {
		return nil
	}
	return fault.New(fault.Schema, "%s not keep the check %s; the first: %s (%s)", wording.Count(r.Broken, true, "row does", "rows do"),
		fault.Quote(r.Text), r.Examples[0].Place, r.Examples[0].Values).
		Try("mend the records, or have the load go on with --check %s", fault.Quote("tell: "+r.Text))
}
