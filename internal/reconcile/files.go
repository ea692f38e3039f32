package reconcile

import (
	"context"
	"time"

	"trevak/internal/infer"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/write"
)

// Files holds a source against files, which may be in any format that is read. t is what a convert of the source would be asked to do.
func Files(ctx context.Context, t write.Task, location string, examples int, b run.Budget) (*Result, error) {
	r, err := withFiles(ctx, t, location, examples, b)
	return masked(t.Mask, r, err)
}

func withFiles(ctx context.Context, t write.Task, location string, examples int, b run.Budget) (*Result, error) {
	started := time.Now()
	out := &Result{With: location}
	c := &comparing{out: out, budget: b, examples: examples}
	c.load.Task = t
	there, err := infer.Survey(ctx, &infer.Reading{Reading: source.Reading{Store: t.Store, Sources: []string{location}}}, b)
	if err != nil {
		return nil, err
	}
	c.left = &handed{comparing: c}
	sum, err := c.left.firstOfFiles(ctx, t.Corrections.Key)
	if err != nil {
		return nil, err
	}
	for i, in := range c.inputs {
		out.Objects = append(out.Objects, Object{Location: in.Location, Counts: out.Source.Objects[i].Counts, There: -1})
	}
	out.Left = append(out.Left, besides(there.Inputs, c.request.Fields, t.Corrections.Names)...)
	c.right = &scanned{from: there.Rows, request: c.request, style: t.Corrections.Names, budget: b}
	right, err := prove.Sum(ctx, c.right, c.request)
	if err != nil {
		return nil, err
	}
	outcome, err := prove.Settle(ctx, c.left, c.right, sum, right, c.request)
	if err != nil {
		return nil, err
	}
	if err := c.tell(ctx, outcome); err != nil {
		return nil, err
	}
	out.Seconds = time.Since(started).Seconds()
	return out, nil
}

// besides are the columns of files that the source does not give.
func besides(inputs []source.Input, fields []schema.Field, style schema.NameStyle) (out []LeftOut) {
	index, seen := schema.NewIndex(fields, style), map[string]bool{}
	for _, in := range inputs {
		for _, name := range in.Rules.Names {
			if index.Find(name) < 0 && !seen[name] {
				seen[name] = true
				out = append(out, LeftOut{name, "the source does not give"})
			}
		}
	}
	return out
}
