package load

import (
	"context"
	"slices"

	"trevak/internal/amend"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Mode says what a load does to the rows that the table has.
type Mode uint8

// Append adds rows to them; Replace has only the load's in their place, in the whole table or in the partitions that it touches; Upsert
// updates rows whose key the table has, and adds the others; Missing adds the others alone.
const (
	Append Mode = iota
	Replace
	Upsert
	Missing
)

var modeNames = [...]string{"append", "replace", "upsert", "missing"}

// ModeNames are what the modes are called.
func ModeNames() []string { return modeNames[:] }

func (m Mode) String() string { return modeNames[m] }

// ParseMode reads append, replace, upsert or missing.
func ParseMode(text string) (Mode, error) {
	if i := slices.Index(modeNames[:], text); i >= 0 {
		return Mode(i), nil
	}
	return 0, fault.Unknown("mode", text, modeNames[:]...)
}

// byKey reports whether rows are held against the table by their key.
func (m Mode) byKey() bool { return m == Upsert || m == Missing }

// Merge says how rows are held against those of the table.
type Merge struct {
	Mode Mode
	// Touching has Replace go no further than the partitions that the load has rows in.
	Touching bool
	// NewestBy, DeleteWhere, UpdateOnly and As are those of amend.Options, in the words of the source.
	NewestBy, DeleteWhere string
	UpdateOnly            []string
	As                    amend.How
}

// suitsChanged refuses ways of taking changed objects in that leave open which rows hold.
func (l Request) suitsChanged() error {
	if l.Mode != Append && (l.Changed == ChangedReplace || l.Changed == ChangedGrown) {
		return fault.New(fault.Usage, "--changed %s has no effect in the mode %s, in which %s", changedNames[l.Changed], l.Mode,
			map[Mode]string{Replace: "the rows of the load take the place of the table's", Upsert: "a key decides",
				Missing: "a key decides"}[l.Mode]).
			Try("leave it out: what has changed is taken in")
	}
	return nil
}

// check refuses what has no effect with a mode.
func (m Merge) check(splits []Split) error {
	if len(splits) > 0 && m.Mode.byKey() {
		return fault.New(fault.Usage, "--split has no effect in the mode %s: which elements a list had before is not known", m.Mode).
			Try("load records and lists with --mode append or replace, or keep the lists within the records")
	}
	for _, f := range []struct {
		name string
		set  bool
		with []Mode
	}{{"--touching", m.Touching, []Mode{Replace}}, {"--newest-by", m.NewestBy != "", []Mode{Upsert, Missing}},
		{"--delete-where", m.DeleteWhere != "", []Mode{Upsert}}, {"--update-only", len(m.UpdateOnly) > 0, []Mode{Upsert}},
		{"--upsert-as", m.As != amend.Weighed, []Mode{Upsert}}} {
		if f.set && !slices.Contains(f.with, m.Mode) {
			return fault.New(fault.Usage, "%s has no effect in the mode %s", f.name, m.Mode).Try("add --mode %s, or leave it out", f.with[0])
		}
	}
	return nil
}

// keyOf is the key that rows are held against the table by, in its columns' legal names.
func (l Request) keyOf(s schema.Schema) ([]string, error) {
	stated := l.Corrections.Key
	if len(stated) == 0 {
		stated = s.Key
	}
	if len(stated) == 0 {
		return nil, fault.New(fault.Usage, "the mode %s needs a key, and the table %s has none", l.Mode, l.Into).
			Try("name the columns that tell its rows from each other, like --key id")
	}
	index := schema.NewIndex(s.Fields, l.Corrections.Names)
	out := make([]string, len(stated))
	for i, name := range stated {
		at := index.Find(name)
		if at < 0 {
			f, err := layout.Column(s, name)
			if err != nil {
				return nil, err
			}
			at = s.Index(f.Name)
		}
		out[i] = s.Fields[at].Name
	}
	return out, nil
}

// merging has the rows of an output be held against a table, nil for one that does not exist yet. kept are columns that the source does
// not have; named says that it tells them before the first record.
func (l Request) merging(out *write.Output, t *table.Table, kept []string, named bool, b run.Budget, take func(*amend.Upsert)) error {
	if l.held != nil {
		out.Sink = l.held
		return nil
	}
	if !l.Mode.byKey() {
		return nil
	}
	key, err := l.keyOf(out.Schema)
	if err != nil {
		return err
	}
	if kept, err = l.kept(out.Schema, key, kept); err != nil {
		return err
	}
	o := amend.Options{Key: key, Missing: l.Mode == Missing, NewestBy: l.NewestBy, DeleteWhere: l.DeleteWhere, Keep: kept,
		KeepUnseen: l.Mode == Upsert && len(l.UpdateOnly) == 0 && !named, As: l.Merge.As}
	out.Sink = func(of *write.Output) (write.Sink, error) {
		u, err := amend.NewUpsert(o, of, t, b)
		if err != nil {
			return nil, err
		}
		take(u)
		return u, nil
	}
	return nil
}

// kept are the columns that updated rows keep: all but those that are to be updated, or those that the source does not have.
func (l Request) kept(s schema.Schema, key, without []string) ([]string, error) {
	if len(l.UpdateOnly) == 0 {
		return without, nil
	}
	update := map[string]bool{schema.MisfitColumn: true}
	for _, name := range l.UpdateOnly {
		f, err := layout.Column(s, name)
		if err != nil {
			return nil, fault.Wrap(fault.Usage, err, "--update-only")
		}
		if slices.Contains(key, f.Name) {
			return nil, fault.New(fault.Usage, "--update-only names %q, which is part of the key", name).Try("name other columns")
		}
		update[f.Name] = true
	}
	var out []string
	for _, f := range s.Fields {
		if !update[f.Name] && !slices.Contains(key, f.Name) {
			out = append(out, f.Name)
		}
	}
	return out, nil
}

// absent are the table's columns that no object of the load has, as far as that is known before the first record, or that the load
// passes over.
func (l *appending) absent(s schema.Schema) (out []string) {
	columns := scan.Find(l.data.Rows, scan.Target{Schema: s, Style: l.Corrections.Names, Fixed: true})
	for _, at := range columns.Missing {
		out = append(out, s.Fields[at].Name)
	}
	for _, f := range s.Fields {
		if f.Skip && !slices.Contains(out, f.Name) {
			out = append(out, f.Name)
		}
	}
	return out
}

// finish has a load take away what it is to take away, besides what its rows came to.
func (l Request) finish(ctx context.Context, load *table.Append, done write.Result, u *amend.Upsert, existing *table.Table) error {
	files, report := done.Files, done.Report
	load.Operation = l.Mode.String()
	load.Told = l.told(len(report.Objects))
	if u != nil {
		load.Deletes, load.Remove, load.Exact = u.Deletes, u.Remove, existing != nil
		load.Told.Key, _ = l.keyOf(done.Schema)
		load.Gain, load.Loss = new(u.Counts.Inserted+u.Counts.Updated), new(u.Outcome.Rows)
		report.Merged = &write.Merged{Mode: l.Mode.String(), MergeCounts: u.Counts, Outcome: u.Outcome}
		return nil
	}
	if l.Mode != Replace || existing == nil {
		return nil
	}
	if report.RowsWritten == 0 {
		return fault.New(fault.Input, "the load has no row, so that the table %s would be empty", l.Into).
			Try("look at the source and at --where; to have no rows left on purpose, delete them").By(fault.DeleteAll, l.Into.String())
	}
	touched := map[string]bool{}
	for _, f := range files {
		key, err := existing.PartitionOf(f)
		if err != nil {
			return err
		}
		touched[key] = true
	}
	report.Merged = &write.Merged{Mode: l.Mode.String()}
	load.Gain, load.Loss = new(report.RowsWritten), new(int64)
	load.RemoveOf = func(ctx context.Context, now *table.Table) (out []table.File, err error) {
		report.Merged.Outcome = write.Outcome{}
		before, known := now.Rows()
		all, err := now.AllFiles(ctx)
		for _, f := range all {
			if l.Touching && !now.OfSpec(f) {
				return nil, fault.New(fault.Schema, "the table %s has files of a former partitioning, of which it cannot be told which partitions "+
					"they are of", l.Into).Try("leave --touching out and load the whole table, or delete the rows that are to go first")
			}
			if l.Touching && !touched[f.Partition()] {
				continue
			}
			out = append(out, f)
			if !f.Deletes() {
				report.Merged.Dropped++
				report.Merged.Rows += f.Rows
			}
		}
		switch {
		case !l.Touching && known:
			*load.Loss, report.Merged.Rows = before, before
		case slices.ContainsFunc(out, table.File.Deletes):
			*load.Loss = -1
		default:
			*load.Loss = report.Merged.Rows
		}
		return out, err
	}
	if l.DryRun {
		_, err := load.RemoveOf(ctx, existing)
		return err
	}
	return nil
}

// partitioned refuses to replace partitions of a table that has none.
func (l Request) partitioned(spec layout.Spec) error {
	if l.Touching && len(spec) == 0 {
		return fault.New(fault.Usage, "--touching replaces partitions, and the table %s has none", l.Into).
			Try("leave it out to replace the whole table, or give each row a key and use --mode upsert")
	}
	return nil
}
