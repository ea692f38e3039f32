package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// Loading is what a load is asked to do.
type Loading struct {
	Reading
	Warehouse *table.Warehouse
	Into      table.Name
	// Partition is the partition fields of a new table.
	Partition string
	// Sort is the order of the rows in each file of a new table.
	Sort   string
	Layout layout.Options
	// Format is that of the data files; empty for the table's, which is Parquet for a new one.
	Format columnar.Format
	// Drift is the policy for a table that exists.
	Drift Drift
	// Splits are lists that go to tables of their own.
	Splits []Split
	// KeyStated says that the key was stated for this very load, which a table that has another one refuses.
	KeyStated bool
	// DryRun asks for the account of a load that writes nothing.
	DryRun bool
}

// Load writes the source's rows into a table, in one commit.
func Load(ctx context.Context, l Loading, b Budget) (*Report, error) {
	if err := l.resolve(ctx); err != nil {
		return nil, err
	}
	// Another load may change the table between the look at it and the commit. Then the files are written anew for the table as it is.
	for tries := 1; ; tries++ {
		report, err := l.once(ctx, b)
		if !errors.Is(err, table.ErrChanged) || tries == mostTries {
			return report, err
		}
	}
}

// mostTries bounds how often a load is begun anew because others came first. Of loads that race at least one succeeds each time.
const mostTries = 50

// once loads the source into the table as it is now.
func (l Loading) once(ctx context.Context, b Budget) (*Report, error) {
	if len(l.Splits) > 0 {
		return l.split(ctx, b)
	}
	w, err := l.write(ctx, b)
	if err != nil || l.DryRun {
		return w.report, err
	}
	return w.report, w.commit(ctx, b)
}

// CheckLoad makes the checks that a load makes before it writes, on a sample of the records.
func CheckLoad(ctx context.Context, l Loading, b Budget) error {
	if len(l.Splits) > 0 {
		if err := l.resolve(ctx); err != nil {
			return err
		}
		parts, err := l.parts()
		for _, part := range parts {
			if err == nil {
				err = CheckLoad(ctx, part, b)
			}
		}
		return err
	}
	source, err := survey(ctx, &l.Reading, b)
	if err != nil {
		return err
	}
	existing, err := l.Warehouse.Load(ctx, l.Into)
	if err != nil {
		return err
	}
	if err := l.Warehouse.MayWrite(ctx, l.Into, existing); err != nil {
		return err
	}
	l.DryRun = true
	if existing != nil {
		f := further{Loading: l, source: source, table: existing, budget: b, started: time.Now()}
		if err := f.begin(ctx); err != nil {
			return err
		}
		_, err = f.prepare()
		return err
	}
	added, err := source.extras(l.Reading)
	if err != nil {
		return err
	}
	inferred, err := source.inferFirst(ctx, l.Reading, b)
	if err != nil {
		return err
	}
	_, err = source.underInferred(inferred, added, func(s schema.Schema) (prepared, error) {
		_, out, err := l.firstOutput(s)
		return out, err
	})
	return err
}

// written is a load whose files are there, before its commit.
type written struct {
	started time.Time
	source  *Source
	load    *table.Append
	files   []layout.DataFile
	report  *Report
	store   storage.Store
	// existing is the table as it was; nil for a new one.
	existing *table.Table
}

// write writes the files of a load.
func (l Loading) write(ctx context.Context, b Budget) (w written, err error) {
	w.started, w.store = time.Now(), l.Store
	if w.source, err = survey(ctx, &l.Reading, b); err != nil {
		return w, err
	}
	if err = w.source.foreseeRows(ctx, l.Reading, b); err != nil {
		return w, err
	}
	if w.existing, err = l.Warehouse.Load(ctx, l.Into); err != nil {
		return w, err
	}
	if err = l.Warehouse.MayWrite(ctx, l.Into, w.existing); err != nil {
		return w, err
	}
	var report *Report
	if w.existing == nil {
		w.load, w.files, report, err = l.first(ctx, w.source, b, w.started)
	} else {
		f := further{Loading: l, source: w.source, table: w.existing, budget: b, started: w.started}
		w.load, w.files, report, err = f.run(ctx)
	}
	if err != nil {
		return w, err
	}
	w.report = report
	report.Table, report.Created = l.Into.String(), w.load.Creates
	if err := w.source.mustGive(report.RecordsRead); err != nil {
		w.load.Rollback()
		return w, err
	}
	if report.NotMade = w.load.Creates && report.RecordsRead == 0 && len(report.NoType) > 0; report.NotMade {
		report.Created = false
		w.load.Rollback()
	}
	if l.DryRun {
		report.DryRun, report.Seconds = true, time.Since(w.started).Seconds()
		return w, l.align(ctx, w.source, w.load, w.existing, b, report)
	}
	return w, nil
}

// commit makes the files part of the table.
func (w *written) commit(ctx context.Context, b Budget) error {
	if w.report.NotMade {
		return nil
	}
	if b.Events != nil {
		b.Events(Event{Stage: "committing", Objects: len(w.source.Inputs), Object: len(w.source.Inputs), BytesRead: w.source.Bytes, BytesTotal: w.source.Bytes})
	}
	snapshot, err := w.load.Commit(ctx, w.files)
	if err != nil {
		w.load.Rollback()
		w.report.discard(ctx, w.store)
		w.report = nil
		return err
	}
	if snapshot.Unhinted != nil {
		b.warn(fmt.Sprintf("loaded, snapshot %d of %s; other engines see it after the next command here, since the hint for them could not be written: %s", snapshot.ID, w.report.Table, snapshot.Unhinted))
	}
	w.report.SnapshotID, w.report.Seconds = snapshot.ID, time.Since(w.started).Seconds()
	return nil
}

// place returns where the files of a load are created: nowhere for one that is to write nothing.
func (l Loading) place(load *table.Append) layout.Create {
	if !l.DryRun {
		return load.CreateFile
	}
	return func(_ context.Context, folder string) (storage.Writer, string, error) {
		return nowhere{io.Discard}, folder, nil
	}
}

// nowhere is a file that is not kept.
type nowhere struct{ io.Writer }

func (nowhere) Commit() error { return nil }

func (nowhere) Abort() error { return nil }

// first writes the files of a table that does not exist yet.
func (l Loading) first(ctx context.Context, source *Source, b Budget, started time.Time) (*table.Append, []layout.DataFile, *Report, error) {
	var load *table.Append
	out, files, report, err := source.writeFirst(ctx, l.Reading, b, started, l.Into.String(), func(s schema.Schema) (out prepared, err error) {
		load, out, err = l.firstOutput(s)
		return out, err
	})
	if err == nil {
		load.Schema = out.schema
	}
	return load, files, report, err
}

// firstOutput begins the first load of a table under a schema.
func (l Loading) firstOutput(s schema.Schema) (*table.Append, prepared, error) {
	if err := sparesOwn(s.Fields); err != nil {
		return nil, prepared{}, err
	}
	if err := withoutControls(s); err != nil {
		return nil, prepared{}, err
	}
	describeOrigins(s)
	spec, options, err := l.arrange(l.Partition, l.Sort, l.Layout, s)
	if err != nil {
		return nil, prepared{}, err
	}
	if options.Columnar, err = l.formatted(options.Columnar, columnar.Parquet); err != nil {
		return nil, prepared{}, err
	}
	load, err := l.Warehouse.Create(l.Into, s, spec, options.Sort, options.Columnar.Format)
	if err != nil {
		return nil, prepared{}, err
	}
	return load, prepared{output{schema: load.Schema, spec: load.Spec, options: options, create: l.place(load), hashes: true, dry: l.DryRun}, load.Rollback}, nil
}

// formatted completes options by the format of the data files, usual where the load names none.
func (l Loading) formatted(o columnar.Options, usual columnar.Format) (columnar.Options, error) {
	if o.Format = l.Format; o.Format == "" {
		o.Format = usual
	}
	o.Counts = o.Format != columnar.Parquet
	return o, o.Suits(o.Format)
}

// describeOrigins keeps the name a column had in the source in its comment, where it has no other.
func describeOrigins(s schema.Schema) {
	s.Walk(func(_ string, f *schema.Field) {
		if f.Origin != "" && f.Doc == "" {
			f.Doc = "named " + fault.Quote(f.Origin) + " in the source"
		}
	})
}
