// Package transfer copies tables from one warehouse to another.
//
// What comes in are a table and where it is to be; what goes out is a table there with the same rows, which were read back and held
// against those that were copied before it came into being.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/zeebo/xxh3"
	"golang.org/x/sync/errgroup"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/ledger"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Copied is what came of a copy.
type Copied struct {
	From, To  string
	Warehouse string
	// How says what was done: copied, with its history, or registered where it lies.
	How How
	// Files were copied as they are, of which Kept had been copied before, and Rewritten were written anew: those with deletes, and of
	// former partitionings.
	Files, Kept, Rewritten int
	Rows, Bytes            int64
	// States are those that the copy has, Objects those that the ledger knows there too.
	States, Objects int
	SnapshotID      int64
	DryRun          bool
	// There says that the copy was there already, Dropped that the table itself is no more.
	There, Dropped bool
	Seconds        float64

	registered string // the description that another catalog knows the table by

	mutex sync.Mutex
	made  []string // the files that this run has made
}

// How says what becomes of a table that is copied.
type How uint8

// Present copies the rows that a table has now, History all its states; InPlace copies nothing but has another catalog know it.
const (
	Present How = iota
	History
	InPlace
)

// copying is a copy in the making.
type copying struct {
	from   *table.Table
	to     *table.Warehouse
	load   *table.Append
	budget run.Budget
	out    *Copied
	began  time.Time
	state  string // what the copy is of

	request Request
	mutex   sync.Mutex
	files   []layout.DataFile
}

// Request is what is to be copied, and where.
type Request struct {
	From *table.Table
	To   *table.Warehouse
	Name table.Name
	How  How
	// Of is the warehouse that the table is in. With ThenDrop it is no table there any more once the copy is verified.
	Of       *table.Warehouse
	ThenDrop bool
	// DryRun says what would be copied, and copies nothing.
	DryRun bool
	Budget run.Budget
}

// Copy makes a copy of a table. The name must be free, or be that of the very copy, of which what is missing is made then. What was
// copied stays where a run ends before its time: the next one goes on from there.
func Copy(ctx context.Context, r Request) (*Copied, error) {
	started := time.Now()
	out := &Copied{From: r.From.Name.String(), To: r.Name.String(), Warehouse: r.To.Dir(), How: r.How, DryRun: r.DryRun}
	existing, err := r.To.Load(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if err := r.apart(existing, r.To.Place(r.Name)); err != nil {
		return nil, err
	}
	if existing != nil {
		if !r.madeBefore(existing) {
			return nil, fault.New(fault.Conflict, "the table %s is in the warehouse %s already, and is no copy of this one as it is now", r.Name,
				r.To.Dir()).Try("give the copy another name, or drop that table first")
		}
		out.There, out.SnapshotID = true, existing.StateID()
		if r.ThenDrop && !r.DryRun {
			out.registered = existing.MetadataLocation()
			err = drop(ctx, r, out)
		}
		return out, err
	}
	if err := r.To.MayWrite(ctx, r.Name, nil); err != nil {
		return nil, err
	}
	switch r.How {
	case History:
		err = copyWhole(ctx, r, out)
	case InPlace:
		err = register(ctx, r, out)
	default:
		err = copyPresent(ctx, r, out)
	}
	if err != nil && fault.KindOf(err) == 0 && !errors.Is(err, context.Canceled) {
		err = fault.Wrap(fault.Storage, err, "copying failed")
	}
	if err != nil && ctx.Err() == nil {
		r.To.Discard(context.WithoutCancel(ctx), r.Name, out.made)
	}
	if err == nil && r.ThenDrop && !r.DryRun {
		err = drop(ctx, r, out)
	}
	out.Seconds = time.Since(started).Seconds()
	return out, err
}

// apart refuses a copy that would be the table itself, or lie in its folder: to drop the one would end the other.
func (r Request) apart(existing *table.Table, home string) error {
	if existing != nil && existing.MetadataLocation() == r.From.MetadataLocation() {
		return fault.New(fault.Usage, "the table %s of %s is the one that is to be copied", r.Name, r.To.Dir()).
			Try("give the copy another name, or name another warehouse")
	}
	if r.How != InPlace && storage.Clean(home) == storage.Clean(storage.Path(r.From.Location())) {
		return fault.New(fault.Usage, "the copy of %s would lie in the folder of the table itself, %s", r.From.Name, home).
			Try("have the other catalog know the table where it lies, with --in-place, or give the copy another name")
	}
	return nil
}

// madeBefore reports whether a table is the very copy that is asked for.
func (r Request) madeBefore(t *table.Table) bool {
	switch r.How {
	case Present:
		return t.Summary(table.CopiedKey) == r.state() && r.From.Shaped(t, false)
	case InPlace:
		return t.StateID() == r.From.StateID() && r.From.SameAs(t) && r.From.Shaped(t, true)
	}
	return t.StateID() == r.From.StateID() && r.From.Shaped(t, true)
}

// state names the table that is copied, and its state.
func (r Request) state() string { return fmt.Sprintf("%s@%d", r.From.Location(), r.From.StateID()) }

// copyPresent copies the rows of a table as it is now, with its columns, layout, properties and ledger.
func copyPresent(ctx context.Context, r Request, out *Copied) error {
	from, to := r.From, r.To
	tasks, err := from.Plan(ctx)
	if err != nil {
		return err
	}
	c := &copying{began: time.Now(), from: from, to: to, budget: r.Budget, state: r.state(), request: r, out: out}
	var whole, others []table.ReadTask
	for _, t := range tasks {
		if len(t.Deletes) == 0 && from.OfSpec(t.File) {
			whole = append(whole, t)
		} else {
			others = append(others, t)
		}
	}
	c.out.Files, c.out.Rewritten = len(whole), len(others)
	for _, t := range whole {
		c.out.Rows, c.out.Bytes = c.out.Rows+t.Rows, c.out.Bytes+t.Bytes
	}
	out.States = 1
	if r.DryRun {
		for _, t := range others {
			c.out.Rows, c.out.Bytes = c.out.Rows+t.Rows, c.out.Bytes+t.Bytes
		}
		return nil
	}
	if c.load, err = to.Twin(from, r.Name); err != nil {
		return err
	}
	if err = c.copy(ctx, whole, others); err == nil {
		err = c.commit(ctx)
	}
	if err != nil {
		c.load.Rollback()
	}
	return err
}

// copy copies files side by side, and writes those anew that cannot be copied as they are.
func (c *copying) copy(ctx context.Context, whole, others []table.ReadTask) error {
	c.files = make([]layout.DataFile, len(whole))
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(atOnce(c.to.Store(), c.to.Dir(), c.budget))
	for i, t := range whole {
		work.Go(func() (err error) {
			c.files[i], err = c.file(inner, t.File)
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	return c.rewrite(ctx, others)
}

// file copies a file.
func (c *copying) file(ctx context.Context, f table.File) (layout.DataFile, error) {
	d := c.from.Described(f)
	c.mutex.Lock()
	uri, err := c.load.FileAt(ctx, c.from.FolderOf(f), nameOf(c.from, f.URI))
	c.mutex.Unlock()
	if err == nil && uri == f.URI {
		err = c.request.apart(nil, c.from.Location())
	}
	if err != nil {
		return d, err
	}
	d.URI = uri
	return d, c.out.object(ctx, c.from.Store(), f.URI, f.Bytes, c.to.Store(), uri)
}

// nameOf is the name of a file of the table in the folder of its copy: its own, or another one where it lies outside of the table.
func nameOf(t *table.Table, uri string) string {
	if _, within := storage.Rel(storage.Path(t.Location()), uri); within {
		return storage.Base(uri)
	}
	return fmt.Sprintf("%016x-%s", xxh3.HashString(uri), storage.Base(uri))
}

// rewrite writes the rows of files anew, and holds what was written against them.
func (c *copying) rewrite(ctx context.Context, tasks []table.ReadTask) error {
	if len(tasks) == 0 {
		return nil
	}
	from, err := scan.OfFiles(ctx, c.from, tasks)
	if err != nil {
		return err
	}
	options := layout.DefaultOptions.Within(c.budget.Memory)
	options.Sort, options.Columnar.Format = c.from.Sort, c.from.Format
	options.Columnar.Workers, options.Columnar.Counts = c.budget.Workers, true
	o := write.Output{Schema: c.from.Schema, Origins: true}
	stored := o.Stored()
	files := layout.NewRouter(stored, c.from.Spec, options, c.load.CreateFile)
	defer files.Abandon()
	noted := prove.Written{Store: c.to.Store(), Workers: c.budget.Workers}
	noted.Begin(stored)
	err = from.Read(ctx, scan.Request{Target: scan.Target{Schema: stored.Bare()}}, func(r *scan.Rows) error {
		if err := noted.Take(ctx, r.Batch); err != nil {
			return err
		}
		return files.Write(ctx, r.Batch)
	})
	if err != nil {
		return err
	}
	made, err := files.Close(ctx)
	if err != nil {
		return err
	}
	var uris []string
	for _, f := range made {
		uris = append(uris, f.URI)
		c.out.Bytes += f.Summary.Bytes
	}
	if err := noted.ReadBack(ctx, uris); err != nil {
		return err
	}
	c.out.Rows += noted.Rows()
	c.files = append(c.files, made...)
	return nil
}

// commit makes the table, with the ledger of the other.
func (c *copying) commit(ctx context.Context) error {
	c.load.Unsorted = true
	c.load.Ledger = func(ctx context.Context, now *table.Table, load string) ([]string, error) {
		var entries []ledger.Entry
		for _, name := range c.from.Ledger() {
			if err := ledger.Read(ctx, c.from.Store(), c.from.LedgerFolder(), name, func(e ledger.Entry) error {
				entries = append(entries, e)
				return nil
			}); err != nil {
				return nil, err
			}
		}
		if c.out.Objects = len(entries); len(entries) == 0 {
			return nil, nil
		}
		name, err := ledger.Write(ctx, now.Store(), now.LedgerFolder(), load, entries, nil)
		return []string{name}, err
	}
	c.load.Operation = "copy"
	c.load.Told = table.Told{Source: c.from.Name.String() + " of " + c.from.Location(), Began: c.began, Copied: c.state}
	s, err := c.load.Commit(ctx, c.files)
	c.out.SnapshotID = s.ID
	return err
}
