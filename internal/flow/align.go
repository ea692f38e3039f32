package flow

import (
	"context"

	"trevak/internal/schema"
	"trevak/internal/table"
)

// Aligned tells where a column of a table comes from in a load.
type Aligned struct {
	Column string `json:"column"`
	Type   string `json:"type"`
	// Location is the first object that has the column, From its name there, FromType what it would be inferred as.
	Location string `json:"location,omitempty"`
	From     string `json:"from,omitempty"`
	FromType string `json:"from_type,omitempty"`
	// Action says what the load does: new column, takes, widens, stays null, passed over, filled by the load, or kept as misfits.
	Action string `json:"action"`
}

// align tells column by column what a load would do.
func (l Loading) align(ctx context.Context, source *Source, load *table.Append, existing *table.Table, b Budget, report *Report) error {
	inferred, err := source.infer(ctx, l.Reading, b, true, false)
	if err != nil {
		return err
	}
	batch := map[string]string{}
	names := map[string]string{}
	inferred.Walk(func(path string, f *schema.Field, n *schema.Node, _ int) {
		batch[path], names[path] = inferred.observedType(f, n), f.Source()
	})
	style := l.Corrections.Names
	before := map[int]bool{}
	if existing != nil {
		existing.Schema.Walk(func(_ string, f *schema.Field) { before[f.ID] = true })
	}
	index := schema.NewIndex(inferred.Schema.Fields, style)
	for _, f := range load.Schema.Fields {
		a := Aligned{Column: f.Name, Type: f.Type.String(), Action: "takes"}
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
			a.From, a.FromType, a.Location = names[from.Name], batch[from.Name], inferred.location(from)
			a.Action = action(f, report.Drift, existing != nil && !before[f.ID])
		}
		report.Alignment = append(report.Alignment, a)
	}
	for _, d := range report.Drift {
		if d.Kind == schema.UnknownColumn {
			report.Alignment = append(report.Alignment, Aligned{Column: schema.MisfitColumn, Type: "string", Location: d.Location, From: d.Column, FromType: batch[d.Column], Action: "kept as misfits"})
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
func (i *Inference) location(f schema.Field) string {
	n := i.Observed.Root.Member(f.Source())
	if n == nil {
		return ""
	}
	return i.Source.Inputs[n.Earliest().Object].Location
}

// observedType writes the type that a column's values alone lead to, whatever was stated.
func (i *Inference) observedType(f *schema.Field, n *schema.Node) string {
	if i.Own {
		return f.Type.String()
	}
	t, notation, kind := n.Settled(nil)
	if kind >= schema.Struct || kind == schema.Unknown {
		return f.Type.Kind.String()
	}
	return schema.Stated{Type: t, Notation: notation}.String()
}
