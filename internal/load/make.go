package load

import (
	"context"
	"errors"
	"maps"
	"slices"

	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Making is what is asked of a table that is to be made without rows. The columns are those of a table or of a feed where one is given,
// and otherwise what the source of the request would give.
type Making struct {
	Like     *table.Table
	Declared []schema.Field
	// Required columns have to have a value, Comments are kept with columns, and Properties with the table.
	Required   []string
	Comments   []schema.Setting
	Properties map[string]string
	// Checks are rules that the table keeps.
	Checks []check.Rule
	// IfAbsent leaves a table alone that is there; Anew has it begin again, with nothing of its columns and rows.
	IfAbsent, Anew bool
}

// Made is a table that was made, or would be.
type Made struct {
	Table      string
	Schema     schema.Schema
	Spec       layout.Spec
	Sort       layout.Sort
	Format     string
	Properties map[string]string
	// There says that it was there already and was left alone, Anew that it was there and has begun again, Before is the state that it
	// had then, 0 for none.
	There, Anew bool
	Before      int64
	SnapshotID  int64
	DryRun      bool
}

// Make makes a table without rows.
func Make(ctx context.Context, l Request, m Making, b run.Budget) (*Made, error) {
	for {
		made, err := l.make(ctx, m, b)
		if !errors.Is(err, table.ErrChanged) {
			return made, l.Mask.Error(err)
		}
	}
}

func (l Request) make(ctx context.Context, m Making, b run.Budget) (*Made, error) {
	existing, err := l.Warehouse.Load(ctx, l.Into)
	if err != nil {
		return nil, err
	}
	if existing != nil && !m.Anew {
		if m.IfAbsent {
			return &Made{Table: l.Into.String(), Schema: existing.Schema, Spec: existing.Spec, Sort: existing.Sort,
				Format: string(existing.Format), There: true, DryRun: l.DryRun}, nil
		}
		return nil, fault.New(fault.Conflict, "the table %s is there already", l.Into).
			Try("leave it alone with --if-absent, or have it begin again without its rows with --anew")
	}
	if err := l.Warehouse.MayWrite(ctx, l.Into, existing); err != nil {
		return nil, err
	}
	a, err := l.plan(ctx, m, b)
	if err != nil {
		return nil, err
	}
	if existing != nil {
		a = l.Warehouse.Anew(existing, a)
	} else {
		a.Operation = "create"
	}
	if a.Properties, err = m.properties(a.Schema, existing != nil); err != nil {
		return nil, err
	}
	out := &Made{Table: l.Into.String(), Schema: a.Schema, Spec: a.Spec, Sort: a.Sort, Format: string(a.Format), Properties: m.Properties,
		Anew: existing != nil, DryRun: l.DryRun}
	if existing != nil {
		if s, ok := existing.Current(); ok {
			out.Before = s.ID
		}
	}
	if l.DryRun {
		return out, nil
	}
	s, err := a.Commit(ctx, nil)
	if err != nil {
		a.Rollback()
	}
	out.SnapshotID = s.ID
	return out, err
}

// plan settles the columns and the layout.
func (l Request) plan(ctx context.Context, m Making, b run.Budget) (*table.Append, error) {
	s := schema.Schema{}
	switch {
	case m.Like != nil:
		s = m.Like.Schema.Clone()
		s.Walk(func(_ string, f *schema.Field) { f.Untyped = false })
		if l.Partition == "" {
			l.Partition = m.Like.Spec.String()
		}
		if l.Sort == "" {
			l.Sort = m.Like.Sort.String()
		}
		if l.Format == "" {
			l.Format = m.Like.Format
		}
	case len(m.Declared) > 0:
		s.Fields = slices.Clone(m.Declared)
		for _, f := range s.Fields {
			if f.Type.Kind == schema.Unknown {
				return nil, fault.New(fault.Usage, "the feed file does not say of which type the column %q is", f.Name).
					Try("state it there, or leave the feed's columns to the source")
			}
		}
	default:
		return l.planned(ctx, m, b)
	}
	if err := require(&s, m.Required, l.Corrections.Key); err != nil {
		return nil, err
	}
	s, err := commented(s, m.Comments)
	if err != nil {
		return nil, err
	}
	a, _, err := l.firstOutput(s)
	return a, err
}

// planned settles them from the records of the source, all of which are looked at.
func (l Request) planned(ctx context.Context, m Making, b run.Budget) (a *table.Append, err error) {
	data, err := infer.Survey(ctx, &l.Reading, b)
	if err != nil {
		return nil, err
	}
	added, err := write.Extras(data, l.Task)
	if err != nil {
		return nil, err
	}
	inferred, err := data.All(ctx, l.Reading, b)
	if err != nil {
		return nil, err
	}
	_, err = write.Under(inferred, added, func(s schema.Schema) (out write.Prepared, err error) {
		if s, err = commented(s, m.Comments); err == nil {
			a, out, err = l.firstOutput(s)
		}
		return out, err
	})
	return a, err
}

// require has columns be required, and those of a key.
func require(s *schema.Schema, required, key []string) error {
	if len(key) > 0 {
		s.Key = nil
	}
	for i, name := range slices.Concat(required, key) {
		f, err := layout.Column(*s, name)
		if err != nil {
			return err
		}
		f.Required = true
		if i >= len(required) {
			s.Key = append(s.Key, f.Name)
		}
	}
	return nil
}

// commented puts comments on columns.
func commented(s schema.Schema, comments []schema.Setting) (schema.Schema, error) {
	if len(comments) == 0 {
		return s, nil
	}
	s = s.Clone()
	s.AssignIDs() // by which columns are told from each other
	out, _, err := s.Alter(schema.Alteration{Comment: comments})
	if err != nil {
		return s, fault.New(fault.Usage, "--column-comment: %s", err)
	}
	return out, nil
}

// properties are those that the table gets: what is stated, and the rules that it keeps, which are no others where it begins anew.
func (m Making) properties(s schema.Schema, anew bool) (map[string]string, error) {
	out, texts := maps.Clone(m.Properties), []string{}
	for _, r := range m.Checks {
		if err := r.Fits(s); err != nil {
			return nil, err
		}
		texts = append(texts, r.String())
	}
	if len(texts) > 0 || anew {
		if out == nil {
			out = map[string]string{}
		}
		key, value := table.ChecksProperty(texts)
		out[key] = value
	}
	return out, nil
}
