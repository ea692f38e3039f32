// Package load loads sources into tables: the first rows make a table, further ones are brought into what it is.
//
// What comes in is what a load is asked to do; what goes out is one commit with all of its rows, or none.
package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"trevak/internal/amend"
	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/ledger"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Request is what a load is asked to do.
type Request struct {
	write.Task
	Warehouse *table.Warehouse
	Into      table.Name
	// Branch is the one of the table that the load goes to, and that begins with it; empty for main.
	Branch string
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
	// Merge says what becomes of the rows that the table has.
	Merge
	// Again takes objects in that the table has taken in before, as if it had not; Changed says what becomes of those that are others now.
	Again   bool
	Changed Changed
	// Verify reads back what was written before the commit, and holds it against the rows.
	Verify bool
	// DryRun asks for the account of a load that writes nothing.
	DryRun bool
	// Judge is asked before the commit whether the load may be made, by its account; nil for nobody.
	Judge func(ctx context.Context, r *write.Report) error

	// origin is the number that rows get which come of the first object, and replaced are objects, by what they are known by, whose former
	// rows are to go.
	origin   int64
	replaced []string
	// written is what was written and is to be read back, nil where that is not asked for.
	written *prove.Written
	// held is where rows go in the place of files, nil for files.
	held func(*write.Output) (write.Sink, error)
	// began is when the load began.
	began time.Time
	// ledger is what the table's ledger knew when it was read last, nil before.
	ledger *ledgered
}

// Load writes the source's rows into a table, in one commit.
func Load(ctx context.Context, l Request, b run.Budget) (*write.Report, error) {
	r, err := l.load(ctx, b)
	return write.Masked(l.Mask, r, err)
}

func (l Request) load(ctx context.Context, b run.Budget) (*write.Report, error) {
	if err := l.Merge.check(l.Splits); err != nil {
		return nil, err
	}
	if err := l.suitsChanged(); err != nil {
		return nil, err
	}
	l.Warehouse.Waiting = func() { b.Tell(run.Event{Stage: run.Committing, Waits: "another commit"}) }
	if err := l.resolve(ctx); err != nil {
		return nil, err
	}
	release, err := l.inLine(ctx, b)
	if err != nil {
		return nil, err
	}
	defer release()
	l.began = time.Now()
	var report *write.Report
	tries := 0
	err = infer.Again(func() (err error) {
		tries++
		report, err = l.once(ctx, b)
		return err
	}, func(err error) (bool, error) {
		// Another load changed the table between the look at it and the commit: the files are written anew for the table as it is.
		return errors.Is(err, table.ErrChanged) && tries < mostTries, nil
	})
	return report, err
}

// resolve finds the objects, but for those that the tables have taken in as they are.
func (l *Request) resolve(ctx context.Context) error {
	if !l.Again && !l.wholly() {
		if err := l.passOverKnown(ctx); err != nil {
			return err
		}
	}
	return l.Resolve(ctx)
}

// find returns a table as the branch has it that the load goes to; nil for one that is not there.
func (l Request) find(ctx context.Context, name table.Name) (*table.Table, error) {
	t, err := l.Warehouse.Load(ctx, name)
	switch {
	case err != nil || l.Branch == "":
		return t, err
	case t == nil:
		return nil, fault.New(fault.Usage, "there is no table %s yet, of which a branch %s could be", name, l.Branch).
			Try("leave --branch out: what the load makes can be dropped again")
	}
	return t.NewBranch(l.Branch)
}

// inLine waits for other loads that change rows of the table, where this one does too: what they find of it would be void by the time
// they commit.
func (l Request) inLine(ctx context.Context, b run.Budget) (release func(), err error) {
	existing, err := l.find(ctx, l.Into)
	if err != nil || existing == nil || !l.Mode.byKey() || l.DryRun {
		return func() {}, err
	}
	if err := l.Warehouse.MayWrite(ctx, l.Into, existing); err != nil {
		return nil, err
	}
	return existing.Alone(ctx, func() { b.Tell(run.Event{Stage: run.Committing, Waits: "another load that changes rows"}) })
}

// mostTries bounds how often a load is begun anew because others came first. Of loads that race at least one succeeds each time.
const mostTries = 50

// once loads the source into the table as it is now.
func (l Request) once(ctx context.Context, b run.Budget) (*write.Report, error) {
	if len(l.Splits) > 0 {
		return l.split(ctx, b)
	}
	w, err := l.write(ctx, b)
	if errors.Is(err, errNothingNew) {
		return l.nothingNew(w.counts), nil
	}
	if err != nil || l.DryRun {
		return w.report, err
	}
	return w.report, w.commit(ctx, b)
}

// Check makes the checks that a load makes before it writes, on a sample of the records.
func Check(ctx context.Context, l Request, b run.Budget) error {
	_, err := write.Masked(l.Mask, nil, l.check(ctx, b))
	return err
}

func (l Request) check(ctx context.Context, b run.Budget) error {
	if len(l.Splits) > 0 {
		if err := l.Resolve(ctx); err != nil {
			return err
		}
		parts, err := l.parts()
		for _, part := range parts {
			if err == nil {
				err = Check(ctx, part, b)
			}
		}
		return err
	}
	data, err := infer.Survey(ctx, &l.Reading, b)
	if err != nil {
		return err
	}
	existing, err := l.find(ctx, l.Into)
	if err != nil {
		return err
	}
	if err := l.Warehouse.MayWrite(ctx, l.Into, existing); err != nil {
		return err
	}
	l.DryRun = true
	if existing != nil {
		f := appending{Request: l, data: data, table: existing, budget: b, started: time.Now()}
		if err := f.begin(ctx); err != nil {
			return err
		}
		_, err = f.prepare()
		return err
	}
	added, err := write.Extras(data, l.Task)
	if err != nil {
		return err
	}
	inferred, err := data.First(ctx, l.Reading, b)
	if err != nil {
		return err
	}
	_, err = write.Under(inferred, added, func(s schema.Schema) (write.Prepared, error) {
		_, out, err := l.firstOutput(s)
		return out, err
	})
	return err
}

// pending is a load whose files are there, before its commit.
type pending struct {
	started time.Time
	data    *infer.Data
	load    *table.Append
	files   []layout.DataFile
	report  *write.Report
	store   storage.Store
	// existing is the table as it was; nil for a new one.
	existing *table.Table
	// known is what the table's ledger knew when the load began, nil where nobody asks it; counts is what that made of the source.
	known   *ledgered
	counts  write.Known
	again   bool
	none    bool // nothing is to be taken in
	origin  int64
	fixed   []ledger.Entry // what goes into the ledger, where it is known beforehand
	anew    bool           // the table has nothing but this load
	segment string         // of the ledger, once it is written
}

// write writes the files of a load.
func (l Request) write(ctx context.Context, b run.Budget) (w pending, err error) {
	l.noting(b)
	if err = l.withChecks(ctx); err != nil {
		return w, err
	}
	w.started, w.store, w.again, w.anew = time.Now(), l.Store, l.Again, l.wholly()
	if w.existing, err = l.find(ctx, l.Into); err != nil {
		return w, err
	}
	if !l.Again {
		var none bool
		if w.known, w.counts, none, err = l.onlyNew(ctx, w.existing); err != nil {
			return w, err
		}
		if none {
			if err = l.suits(ctx, w.existing); err == nil {
				err = errNothingNew
			}
			return w, err
		}
	}
	if w.data, err = infer.Survey(ctx, &l.Reading, b); err != nil {
		return w, err
	}
	l.origin = w.known.freshOrigin(len(w.data.Inputs))
	w.origin = l.origin
	if err = w.data.ForeseeRows(ctx, l.Reading, b); err != nil {
		return w, err
	}
	if err = w.grownAsLines(l); err != nil {
		return w, err
	}
	if err = l.Warehouse.MayWrite(ctx, l.Into, w.existing); err != nil {
		return w, err
	}
	var done write.Result
	var merged *amend.Upsert
	if w.existing == nil {
		w.load, done, merged, err = l.first(ctx, w.data, b, w.started)
	} else {
		f := appending{Request: l, data: w.data, table: w.existing, budget: b, started: w.started}
		done, err = f.run(ctx)
		w.load, merged = f.load, f.merged
	}
	if err == nil {
		err = l.finish(ctx, w.load, done, merged, w.existing)
	}
	if err != nil {
		if w.load != nil {
			w.load.Rollback()
		}
		return w, err
	}
	report := done.Report
	w.report, w.files = report, done.Files
	report.Table, report.Created, report.Known, report.Branch = l.Into.String(), w.load.Creates, w.counts, l.Branch
	if err = l.swap(ctx, &w, &done.Output, b); err == nil {
		err = l.verify(ctx, &w, b)
	}
	if err == nil {
		err = l.unique(ctx, &w, done.Schema)
	}
	if err == nil && l.Judge != nil {
		err = l.Judge(ctx, report)
	}
	if err != nil {
		w.load.Rollback()
		return w, err
	}
	w.alike()
	w.load.Ledger = w.record
	if err := w.data.MustGive(report.RecordsRead); err != nil {
		w.load.Rollback()
		return w, err
	}
	if report.NotMade = w.load.Creates && report.RecordsRead == 0 && len(report.NoType) > 0; report.NotMade {
		report.Created = false
		w.load.Rollback()
	}
	if l.DryRun {
		report.DryRun, report.Seconds = true, time.Since(w.started).Seconds()
		return w, l.align(ctx, w.data, w.load, w.existing, b, report)
	}
	return w, nil
}

// told is what the history of the table is to tell of a load of so many objects.
func (l Request) told(objects int) table.Told {
	t := table.Told{Objects: objects, Began: l.began}
	if n := len(l.Sources); n > 0 {
		if t.Source = storage.Shown(l.Sources[0]); n > 1 {
			t.Source += " and " + strconv.Itoa(n-1) + " more"
		}
	}
	return t
}

// commit makes the files part of the table.
func (w *pending) commit(ctx context.Context, b run.Budget) error {
	if w.report.NotMade {
		return nil
	}
	n := len(w.data.Inputs)
	b.Tell(run.Event{Stage: run.Committing, Objects: n, Object: n, BytesRead: w.data.Bytes, BytesTotal: w.data.Bytes})
	snapshot, err := w.load.Commit(ctx, w.files)
	if err != nil {
		w.load.Rollback()
		w.report.Discard(ctx, w.store)
		w.report = nil
		return err
	}
	if snapshot.Unhinted != nil {
		b.Warned(fmt.Sprintf("loaded, snapshot %d of %s; other engines see it after the next command here, since the hint for them "+
			"could not be written: %s", snapshot.ID, w.report.Table, snapshot.Unhinted))
	}
	w.report.SnapshotID, w.report.Seconds = snapshot.ID, time.Since(w.started).Seconds()
	return nil
}

// place returns where the files of a load are created: nowhere for one that is to write nothing.
func (l Request) place(load *table.Append) layout.Create {
	if !l.DryRun {
		return load.CreateFile
	}
	return func(_ context.Context, folder string) (func() (storage.Writer, error), string, error) {
		return func() (storage.Writer, error) { return nowhere{io.Discard}, nil }, folder, nil
	}
}

// nowhere is a file that is not kept.
type nowhere struct{ io.Writer }

func (nowhere) Commit() error { return nil }

func (nowhere) Abort() error { return nil }

// first writes the files of a table that does not exist yet.
func (l Request) first(ctx context.Context, d *infer.Data, b run.Budget, started time.Time) (load *table.Append, done write.Result,
	merged *amend.Upsert, err error) {
	done, err = write.First(ctx, d, l.Task, b, started, l.Into.String(), func(s schema.Schema) (out write.Prepared, err error) {
		if load, out, err = l.firstOutput(s); err != nil {
			return out, err
		}
		l.tap(&out.Output)
		return out, l.merging(&out.Output, nil, nil, true, b, func(u *amend.Upsert) { merged = u })
	})
	if err == nil {
		load.Schema = done.Schema
	}
	return load, done, merged, err
}

// firstOutput begins the first load of a table under a schema.
func (l Request) firstOutput(s schema.Schema) (*table.Append, write.Prepared, error) {
	var none write.Prepared
	if err := write.SparesOwn(s.Fields); err != nil {
		return nil, none, err
	}
	if err := write.WithoutControls(s); err != nil {
		return nil, none, err
	}
	describeOrigins(s)
	spec, options, err := l.Arrange(l.Partition, l.Sort, l.Layout, s)
	if err == nil {
		err = l.partitioned(spec)
	}
	if err != nil {
		return nil, none, err
	}
	if options.Columnar, err = l.withFormat(options.Columnar, columnar.Parquet); err != nil {
		return nil, none, err
	}
	load, err := l.Warehouse.Create(l.Into, s, spec, options.Sort, options.Columnar.Format)
	if err != nil {
		return nil, none, err
	}
	out := write.Output{Schema: load.Schema, Spec: load.Spec, Options: options, Create: l.place(load), Hashes: true,
		Origins: true, Origin: l.origin, Dry: l.DryRun}
	return load, write.Prepared{Output: out, Undo: load.Rollback}, nil
}

// withFormat completes options by the format of the data files, usual where the load names none.
func (l Request) withFormat(o columnar.Options, usual columnar.Format) (columnar.Options, error) {
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
