package load

import (
	"context"
	"slices"
	"strings"
	"time"

	"trevak/internal/amend"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/table"
	"trevak/internal/write"
)

// appending is a load into a table that exists.
type appending struct {
	Request
	data    *infer.Data
	table   *table.Table
	budget  run.Budget
	started time.Time
	added   []write.Extra
	// inferred is the batch's own schema, nil while it is not needed.
	inferred *infer.Inference
	load     *table.Append
	// merged is where rows were held against the table's, nil in other modes.
	merged *amend.Upsert
	left   []string // columns that updated rows keep
}

// begin makes the checks that need no row, and looks at the records where that is needed.
func (l *appending) begin(ctx context.Context) (err error) {
	if err := l.sameLayout(); err != nil {
		return err
	}
	if err := l.partitioned(l.table.Spec); err != nil {
		return err
	}
	if err := l.sameKey(); err != nil {
		return err
	}
	if l.added, err = write.Extras(l.data, l.Task); err != nil {
		return err
	}
	if err := l.table.KeepTypes(ctx); err != nil {
		return err
	}
	if l.table.Schema.Index(schema.MisfitColumn) >= 0 {
		l.added = append(l.added, write.MisfitExtra)
	}
	l.byPosition()
	return l.look(ctx)
}

// sameKey refuses a key that was stated for this load and is not the table's: a load does not give a table that exists another one.
func (l *appending) sameKey() error {
	if !l.KeyStated || slices.Equal(l.Corrections.Key, l.table.Schema.Key) || l.Mode.byKey() && len(l.table.Schema.Key) == 0 {
		return nil
	}
	index := schema.NewIndex(l.table.Schema.Fields, l.Corrections.Names)
	same := len(l.Corrections.Key) == len(l.table.Schema.Key)
	for _, name := range l.Corrections.Key {
		at := index.Find(name)
		same = same && at >= 0 && slices.Contains(l.table.Schema.Key, l.table.Schema.Fields[at].Name)
	}
	if same {
		return nil
	}
	has := "no key"
	if len(l.table.Schema.Key) > 0 {
		has = "the key " + strings.Join(l.table.Schema.Key, ", ")
	}
	return fault.New(fault.Usage, "--key %s has no effect on the table %s, which is there already and has %s",
		strings.Join(l.Corrections.Key, ","), l.table.Name, has).
		Try("leave it out; --required has a record without a value refused")
}

func (l *appending) run(ctx context.Context) (write.Result, error) {
	var done write.Result
	if err := l.begin(ctx); err != nil {
		return done, err
	}
	rewritten := false
	err := infer.Again(func() error {
		out, err := l.prepare()
		if err != nil {
			return err
		}
		files, report, err := write.Attempt(ctx, l.data, l.Task, l.budget, &out, l.started, l.Into.String())
		if err != nil {
			l.load.Rollback()
			rewritten = rewritten || report.Wrote()
			return err
		}
		report.Rewritten = rewritten && !l.DryRun
		if l.merged != nil && len(l.UpdateOnly) == 0 {
			report.Left = slices.Concat(l.left, l.merged.Unseen)
		}
		done = write.Result{Output: out, Files: files, Report: report}
		return nil
	}, write.MisfitsNeedAColumn(&l.added), write.Relearn(ctx, l.data, l.Reading, l.budget, &l.inferred))
	if err != nil {
		return done, err
	}
	l.load.Schema, l.load.Cause = tableSchema(done.Schema), "load of "+cause(l.data)
	for _, d := range done.Report.Drift {
		if d.Kind == schema.Added || d.Kind == schema.Widened || d.Kind == schema.Settled {
			l.load.Changes = append(l.load.Changes, write.Sentence(d))
		}
	}
	if write.HasMisfits(l.added) && l.table.Schema.Index(schema.MisfitColumn) < 0 {
		l.load.Changes = append(l.load.Changes, "column "+schema.MisfitColumn+" is new, for values that fit no other")
	}
	return done, nil
}

// cause names the objects of a source in the history of a table.
func cause(s *infer.Data) string {
	if len(s.Inputs) == 1 {
		return s.Inputs[0].Location
	}
	return s.Inputs[0].Location + " and others"
}

// look infers the batch's schema where it is needed before the first row: for columns that the table does not have, for
// corrections, and to tell every difference.
func (l *appending) look(ctx context.Context) (err error) {
	c := l.Corrections
	_, declared := l.data.Rows.Declared()
	corrected := len(c.Types)+len(c.Renames)+len(c.Only)+len(c.Drop)+len(c.Required)+len(c.Key)+len(c.Columns) > 0
	switch {
	case l.Drift == Stop:
		l.inferred, err = l.data.All(ctx, l.Reading, l.budget)
	case len(l.table.Schema.Untyped()) > 0:
		// What the first values are decides a type, so all of them have to be looked at.
		l.inferred, err = l.data.All(ctx, l.Reading, l.budget)
	case corrected, declared, l.data.Format() == sniff.Delimited && l.Drift == Grow && l.newNames():
		l.inferred, err = l.data.First(ctx, l.Reading, l.budget)
	}
	return err
}

func (l *appending) newNames() bool {
	return scan.Find(l.data.Rows, scan.Target{Schema: l.table.Schema, Style: l.Corrections.Names, Fixed: true}).Unknown()
}

// prepare makes the output of the next attempt.
func (l *appending) prepare() (write.Output, error) {
	if err := l.sameNames(); err != nil {
		return write.Output{}, err
	}
	s, next := l.table.Schema.Clone(), l.table.LastColumnID()+1
	options := l.Layout
	options.Sort = l.table.Sort
	out := write.Output{Spec: l.table.Spec, Options: options, Fixed: true, Style: l.Corrections.Names, Stop: l.Drift == Stop,
		Extras: l.added, Hashes: true, Origins: true, Origin: l.origin, Dry: l.DryRun}
	s.Walk(func(_ string, f *schema.Field) { f.Held, f.Widens = true, l.Drift == Grow })
	for i := range s.Fields {
		f := &s.Fields[i]
		f.Added = slices.Contains(write.OwnColumns, f.Name) ||
			slices.ContainsFunc(l.added, func(e write.Extra) bool { return e.Field.Name == f.Name })
	}
	l.notation(&s)
	if l.inferred != nil {
		if err := l.evolve(&s, &next, &out); err != nil {
			return out, err
		}
	}
	if l.Drift == Hold {
		out.Unknown = fit.UnknownKept
	}
	if err := write.WithoutControls(s); err != nil {
		return out, err
	}
	l.addOwn(&s, &next)
	if err := l.requiredThere(s); err != nil {
		return out, err
	}
	var err error
	if out.Options.Columnar, err = options.Columnar.For(s); err != nil {
		return out, err
	}
	if out.Options.Columnar, err = l.withFormat(out.Options.Columnar, l.table.Format); err != nil {
		return out, err
	}
	if l.load, err = l.Warehouse.Append(l.table, s); err != nil {
		return out, err
	}
	l.load.Format = out.Options.Columnar.Format
	out.Schema, out.Create = s, l.place(l.load)
	l.tap(&out)
	if l.Mode == Upsert {
		l.left = l.absent(s)
	}
	return out, l.merging(&out, l.table, l.left, l.data.Rows.Named(), l.budget, func(u *amend.Upsert) { l.merged = u })
}

// addOwn puts columns that the run fills itself behind the others, where the table lacks them and may grow. The one for misfits
// comes under any policy.
func (l *appending) addOwn(s *schema.Schema, next *int) {
	for _, e := range l.added {
		if s.Index(e.Field.Name) >= 0 || l.Drift != Grow && e.Field.Name != schema.MisfitColumn {
			continue
		}
		f := e.Field
		if f.ID = *next; f.Name == schema.MisfitColumn {
			f.Doc = "values that fit no column, as JSON"
		}
		*next++
		s.Fields = append(s.Fields, f)
	}
}

// byPosition gives the fields of objects without a header the names of the table's columns, in the order these were made,
// unless the table knows them by the names that fields without a header have.
func (l *appending) byPosition() {
	columns := slices.Clone(l.table.Schema.Fields)
	slices.SortFunc(columns, func(a, b schema.Field) int { return a.ID - b.ID })
	index := schema.NewIndex(columns, l.Corrections.Names)
	for i := range l.data.Inputs {
		rules := &l.data.Inputs[i].Rules
		if rules.Format != sniff.Delimited || rules.Header || len(l.Stated.Columns) > 0 ||
			slices.ContainsFunc(rules.Names, func(name string) bool { return index.Find(name) >= 0 }) {
			continue
		}
		names := slices.Clone(rules.Names)
		for c := range names {
			if c < len(columns) && columns[c].Name != schema.MisfitColumn {
				names[c] = columns[c].Source()
			}
		}
		rules.Names = names
	}
}

// notation makes the table's columns be read as the corrections say of all columns.
func (l *appending) notation(s *schema.Schema) {
	s.Walk(func(_ string, f *schema.Field) {
		if f.Type.Nested() {
			return
		}
		f.Notation.Nulls = slices.Concat(f.Notation.Nulls, l.Corrections.Nulls)
		switch f.Type.Kind {
		case schema.Int, schema.Long, schema.Float, schema.Double, schema.Decimal:
			f.Notation.DecimalMark = l.Corrections.DecimalMark
		}
	})
}

// evolve brings the batch's own schema into the table's.
func (l *appending) evolve(s *schema.Schema, next *int, out *write.Output) error {
	if err := l.matched(); err != nil {
		return err
	}
	if err := l.renamesHold(); err != nil {
		return err
	}
	batch := l.inferred.Schema.Clone()
	if err := write.SparesOwn(batch.Fields); err != nil {
		return err
	}
	out.AssumedStarts = l.inferred.AssumedStarts()
	evolved, found := schema.Evolve(*s, batch, l.Corrections.Names, next)
	if l.Drift == Stop && len(found) > 0 {
		return &write.DriftError{Table: l.table.Name.String(), Differences: found}
	}
	out.Known = found
	if l.Drift == Hold {
		// The columns stay, but what the corrections say of them holds.
		*next = l.table.LastColumnID() + 1
		out.Known = nil
		evolved.Fields = evolved.Fields[:len(s.Fields)]
		for i := range evolved.Fields {
			evolved.Fields[i].ID, evolved.Fields[i].Type, evolved.Fields[i].Notation = s.Fields[i].ID, s.Fields[i].Type,
				s.Fields[i].Notation
		}
	}
	*s = evolved
	if l.inferred.Whole {
		infer.SettleUnseen(s)
		// Whatever could widen did.
		s.Walk(func(_ string, f *schema.Field) { f.Widens = false })
	}
	passOver(s, batch)
	return l.pinTable(s)
}

// matched explains corrections that name a column which neither source nor table has.
func (l *appending) matched() error {
	kept := l.inferred.Unmatched[:0]
	for _, u := range l.inferred.Unmatched {
		known := false
		l.table.Schema.Walk(func(path string, f *schema.Field) {
			known = known || path == u.Name || f.Source() == u.Name || strings.ReplaceAll(path, "."+schema.ElementName, "") == u.Name
		})
		if !known || u.Flag == "--rename" {
			kept = append(kept, u)
		}
	}
	l.inferred.Unmatched = kept
	return l.inferred.Matched()
}

// renamesHold refuses a new name for a column that the table has under another: a load does not rename columns of a table.
func (l *appending) renamesHold() error {
	index := schema.NewIndex(l.table.Schema.Fields, l.Corrections.Names)
	for _, old := range write.SortedKeys(l.Corrections.Renames) {
		name := l.Corrections.Renames[old]
		if at := index.Exact(old); at >= 0 && l.table.Schema.Fields[at].Name != name {
			column := l.table.Schema.Fields[at].Name
			return fault.New(fault.Usage, "--rename %s=%s: the table %s has the column as %q", old, name, l.table.Name, column).
				Try("rename it with").By(fault.RenameColumn, l.table.Name.String(), column, name)
		}
	}
	return nil
}

// passOver marks the table's columns that corrections leave out.
func passOver(s *schema.Schema, batch schema.Schema) {
	for i := range s.Fields {
		f := &s.Fields[i]
		omitted := slices.Contains(batch.Omit, f.Source()) || slices.Contains(batch.Omit, f.Name)
		if batch.OmitRest {
			omitted = !slices.ContainsFunc(batch.Fields,
				func(b schema.Field) bool { return b.Source() == f.Source() || b.Name == f.Name })
		}
		f.Skip = omitted && !f.Added
	}
}

// pinTable marks the columns of a table whose type the user states, so that every spelling of it is taken and it does not widen.
func (l *appending) pinTable(s *schema.Schema) error {
	var err error
	s.Walk(func(path string, f *schema.Field) {
		stated, ok := l.Corrections.Types[path]
		for _, name := range []string{f.Source(), f.Alias, strings.ReplaceAll(path, "."+schema.ElementName, "")} {
			if !ok && name != "" {
				stated, ok = l.Corrections.Types[name]
			}
		}
		if !ok || !f.Held || err != nil {
			return
		}
		if stated.Opens() {
			f.Opened = true
			return
		}
		if !f.Type.Equal(stated.Type) && !schema.Promotes(stated.Type, f.Type) {
			err = fault.New(fault.Schema, "column %q of the table is %s, not %s", path, f.Type, stated.Type).
				Try("leave --type out for it; a table keeps its types, and alter can widen them")
			return
		}
		f.Pinned, f.Widens = true, false
		if stated.Notation.Format != "" {
			f.Notation.Format = stated.Notation.Format
		}
	})
	return err
}

// requiredThere refuses delimited text without a column that always has a value.
func (l *appending) requiredThere(s schema.Schema) error {
	if !l.data.Rows.Named() {
		return nil
	}
	fields := scan.Find(l.data.Rows, scan.Target{Schema: s, Style: l.Corrections.Names, Fixed: true})
	for i, in := range l.data.Inputs {
		for c, at := range fields.Fields[i] {
			if f := s.Fields[c]; at < 0 && f.Required && !f.Added {
				e := fault.New(fault.Schema, "is missing, and the table requires it").In(in.Location).
					Try("ask the sender for the column, or make it optional with").By(fault.MakeOptional, l.table.Name.String(), f.Name)
				e.Column = f.Name
				return e
			}
		}
	}
	return nil
}

// tableSchema leaves out of a schema what holds for one run only.
func tableSchema(s schema.Schema) schema.Schema {
	s = s.Clone()
	s.Omit, s.OmitRest = nil, false
	s.Walk(func(_ string, f *schema.Field) {
		slices.Sort(f.Notation.Nulls)
		f.Notation.Nulls = slices.Compact(f.Notation.Nulls)
	})
	return s
}
