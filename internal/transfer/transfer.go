// Package transfer copies tables from one warehouse to another.
//
// What comes in are a table and where it is to be; what goes out is a table there with the same rows, which were read back and held
// against those that were copied before it came into being.
package transfer

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/zeebo/xxh3"
	"golang.org/x/sync/errgroup"

	"trevak/internal/columnar"
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
	// Files were copied as they are, and Rewritten were written anew: those with deletes, and of former partitionings.
	Files, Rewritten int
	Rows, Bytes      int64
	// Objects are those that the ledger knows there too.
	Objects    int
	SnapshotID int64
	DryRun     bool
	Seconds    float64
}

// copying is a copy in the making.
type copying struct {
	from   *table.Table
	to     *table.Warehouse
	load   *table.Append
	budget run.Budget
	out    *Copied
	began  time.Time
	mutex  sync.Mutex
	files  []layout.DataFile
}

// Copy copies the rows of a table as it is now, with its columns, layout, properties and ledger. The name must be free.
func Copy(ctx context.Context, from *table.Table, to *table.Warehouse, name table.Name, dry bool, b run.Budget) (*Copied, error) {
	started := time.Now()
	existing, err := to.Load(ctx, name)
	if err != nil {
		return nil, err
	}
	if existing != nil {
		return nil, fault.New(fault.Conflict, "the table %s is in the warehouse %s already", name, to.Dir()).
			Try("give the copy another name, or drop that table first")
	}
	if err := to.MayWrite(ctx, name, nil); err != nil {
		return nil, err
	}
	tasks, err := from.Plan(ctx)
	if err != nil {
		return nil, err
	}
	c := &copying{began: started, from: from, to: to, budget: b,
		out: &Copied{From: from.Name.String(), To: name.String(), Warehouse: to.Dir(), DryRun: dry}}
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
	if dry {
		for _, t := range others {
			c.out.Rows, c.out.Bytes = c.out.Rows+t.Rows, c.out.Bytes+t.Bytes
		}
		c.out.Seconds = time.Since(started).Seconds()
		return c.out, nil
	}
	if c.load, err = to.Twin(from, name); err != nil {
		return nil, err
	}
	if err = c.copy(ctx, whole, others); err != nil && fault.KindOf(err) == 0 && !errors.Is(err, context.Canceled) {
		err = fault.Wrap(fault.Storage, err, "copying failed")
	}
	if err == nil {
		err = c.commit(ctx)
	}
	if err != nil {
		c.load.Rollback()
		return nil, err
	}
	c.out.Seconds = time.Since(started).Seconds()
	return c.out, nil
}

// copy copies files side by side, and writes those anew that cannot be copied as they are.
func (c *copying) copy(ctx context.Context, whole, others []table.ReadTask) error {
	c.files = make([]layout.DataFile, len(whole))
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(max(1, c.budget.Workers))
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

// file copies a file and reads the copy back.
func (c *copying) file(ctx context.Context, f table.File) (layout.DataFile, error) {
	d := c.from.Described(f)
	c.mutex.Lock()
	begin, uri, err := c.load.CreateFileAs(ctx, c.from.FolderOf(f), ending(f))
	c.mutex.Unlock()
	if err != nil {
		return d, err
	}
	w, err := begin()
	if err != nil {
		return d, err
	}
	object, err := c.from.Store().Stat(ctx, f.URI)
	if err != nil {
		w.Abort()
		return d, lost(f.URI, err)
	}
	sum, n, err := copied(ctx, c.from.Store(), object, w)
	if err == nil && n != f.Bytes {
		err = fmt.Errorf("it has %d bytes, and the table says %d", n, f.Bytes)
	}
	if err != nil {
		w.Abort()
		return d, lost(f.URI, err)
	}
	if err := w.Commit(); err != nil {
		return d, lost(uri, err)
	}
	back, err := c.to.Store().Stat(ctx, uri)
	if err != nil {
		return d, lost(uri, err)
	}
	again, _, err := copied(ctx, c.to.Store(), back, io.Discard)
	if err != nil {
		return d, lost(uri, err)
	}
	if again != sum {
		return d, fault.New(fault.Storage, "is not as what it was copied from, %s", f.URI).In(uri).Try("look at the disk; nothing was committed")
	}
	d.URI = uri
	return d, nil
}

func lost(uri string, err error) error {
	return fault.Wrap(fault.Storage, err, "copying %s", uri)
}

// ending is that of the files of a format.
func ending(f table.File) columnar.Format { return columnar.Format("." + f.Format) }

// copied copies an object, and returns the hash and the number of its bytes.
func copied(ctx context.Context, s storage.Store, o storage.Object, to io.Writer) (sum string, n int64, err error) {
	in, err := s.Open(ctx, o)
	if err != nil {
		return "", 0, err
	}
	defer in.Close()
	h := xxh3.New()
	buffer := make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return "", n, err
		}
		k, err := in.Read(buffer)
		// A hash never fails to take bytes.
		_, _ = h.Write(buffer[:k])
		n += int64(k)
		if _, failed := to.Write(buffer[:k]); failed != nil {
			return "", n, failed
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "", n, err
		}
	}
	bytes := h.Sum128().Bytes()
	return hex.EncodeToString(bytes[:]), n, in.Unchanged()
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
	c.load.Operation, c.load.Unsorted = "copy of "+c.from.Name.String(), true
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
	c.load.Operation, c.load.Told = "copy", table.Told{Source: c.from.Name.String() + " of " + c.from.Location(), Began: c.began}
	s, err := c.load.Commit(ctx, c.files)
	c.out.SnapshotID = s.ID
	return err
}
