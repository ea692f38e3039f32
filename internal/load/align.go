package load

import (
	"context"

	"trevak/internal/infer"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// align tells column by column what a load would do.
func (l Request) align(ctx context.Context, d *infer.Data, load *table.Append, existing *table.Table, b run.Budget,
	report *write.Report) error {
	inferred, err := d.All(ctx, l.Reading, b)
	if err != nil {
		return err
	}
	batch := map[string]string{}
	names := map[string]string{}
	inferred.Walk(func(path string, f *schema.Field, n *schema.Node, _ int) {
		batch[path], names[path] = observedType(inferred, f, n), f.Source()
	})
	style := l.Corrections.Names
	before := map[int]bool{}
	if existing != nil {
		existing.Schema.Walk(func(_ string, f *schema.Field) { before[f.ID] = true })
	}
	index := schema.NewIndex(inferred.Schema.Fields, style)
	for _, f := range load.Schema.Fields {
		a := write.Aligned{Column: f.Name, Type: f.Type.String(), Action: "takes"}
		if f.Type.Nested() {
			a.Type = f.Type.Kind.String()
		}
		at := -1
		for _, name := range []string{f.Alias, f.Origin, f.Name} {
			if name != "" && at < 0 {
				at = index.Find(name)
			}
		}
		switch {
		case f.Added || f.Name == schema.MisfitColumn:
			a.Action = "filled by the load"
		case f.Skip:
			a.Action = "passed over"
		case at < 0:
			a.Action = "stays null"
		default:
			from := inferred.Schema.Fields[at]
			a.From, a.FromType, a.Location = names[from.Name], batch[from.Name], location(inferred, from)
			a.Action = action(f, report.Drift, existing != nil && !before[f.ID])
		}
		report.Alignment = append(report.Alignment, a)
	}
	for _, d := range report.Drift {
		if d.Kind == schema.UnknownColumn {
			report.Alignment = append(report.Alignment, write.Aligned{Column: schema.MisfitColumn, Type: "string", Location: d.Location,
				From: d.Column, FromType: batch[d.Column], Action: "kept as misfits"})
		}
	}
	return nil
}

// action says what becomes of a column that the source has.
func action(f schema.Field, drift []schema.Difference, isNew bool) string {
	out := "takes"
	if isNew {
		out = "new column"
	}
	for _, d := range drift {
		switch {
		case d.Column == f.Name && d.Kind == schema.Widened:
			out = "widens from " + d.Was
		case d.Column == f.Name && d.Kind == schema.Unfit:
			out += ", misfits kept aside"
		}
	}
	if f.Origin != "" && isNew {
		out += ", renamed"
	}
	return out
}

// location names the first object that has a column.
func location(i *infer.Inference, f schema.Field) string {
	n := i.Observed.Root.Member(f.Source())
	if n == nil {
		return ""
	}
	return i.Source.Inputs[n.Earliest().Object].Location
}

// observedType writes the type that a column's values alone lead to, whatever was stated.
func observedType(i *infer.Inference, f *schema.Field, n *schema.Node) string {
	if i.Own {
		return f.Type.String()
	}
	t, notation, kind := n.Settled(nil)
	if kind >= schema.Struct || kind == schema.Unknown {
		return f.Type.Kind.String()
	}
	return schema.Stated{Type: t, Notation: notation}.String()
}
