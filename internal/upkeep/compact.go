// Package upkeep keeps tables in shape: it finds what is due, and writes files anew that have become small, are full of deleted rows or
// out of order.
//
// What comes in is a table; what goes out are commits that leave its rows as they are, and an account of each.
package upkeep

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Compaction is what is to be written anew of a table.
type Compaction struct {
	Warehouse *table.Warehouse
	Table     table.Name
	// Layout is that of the files to come.
	Layout layout.Options
	OnlyIf OnlyIf
	// All has every file written anew, those of former partitionings too.
	All    bool
	DryRun bool
}

// Compacted is what came of a compaction.
type Compacted struct {
	Table  string
	DryRun bool
	// Before and After are the files of the table. Of a dry run After is what is to be expected.
	Before, After Shape
	// Partitions is in how many of them files were written anew: Rewritten of them, as Written, which have Bytes.
	Partitions, Rewritten, Written int
	Bytes                          int64
	// Rows were written anew, and Dropped were deleted ones that are in no file any more.
	Rows, Dropped int64
	// Former files are of a former partitioning, and stay.
	Former int
	// Overtaken are partitions of which another commit changed files meanwhile: those stay as that one left them.
	Overtaken  []string
	SnapshotID int64
	Seconds    float64
}

// Shape is how many files a table has, and how large.
type Shape struct {
	Files, DeleteFiles int
	Bytes              int64
}

// errNothing says that there is nothing left to commit.
var errNothing = errors.New("nothing to commit")

// Compact writes files of a table anew where that pays, in one commit, or in several where they are very many. Other commits may come
// meanwhile; where they changed files that were written anew, those alone stay as they are.
func Compact(ctx context.Context, c Compaction, b run.Budget) (*Compacted, error) {
	started := time.Now()
	t, err := c.Warehouse.Find(ctx, c.Table)
	if err == nil {
		err = c.Warehouse.MayWrite(ctx, c.Table, t)
	}
	if err != nil {
		return nil, err
	}
	found, err := c.choose(ctx, t)
	if err != nil {
		return nil, err
	}
	out := &Compacted{Table: c.Table.String(), DryRun: c.DryRun, Former: found.former,
		Before: Shape{found.all.files, found.all.deletes, found.all.bytes}}
	out.After = out.Before
	partitions := map[string]bool{}
	for _, u := range found.units {
		partitions[u.partition] = true
		out.Rewritten += len(u.tasks)
	}
	out.Partitions = len(partitions)
	if c.DryRun || len(found.units) == 0 {
		c.foresee(found, out)
		out.Seconds = time.Since(started).Seconds()
		return out, nil
	}
	out.Rewritten, out.Partitions = 0, 0
	for _, units := range found.parts() {
		w := compacting{Compaction: c, table: t, units: units, deletes: found.deletes, out: &Compacted{}, budget: b, began: time.Now()}
		if err := w.run(ctx); err != nil {
			return nil, err
		}
		out.add(w.out)
		if t, err = c.Warehouse.Find(ctx, c.Table); err != nil {
			return nil, err
		}
	}
	out.Seconds = time.Since(started).Seconds()
	return out, nil
}

// partFilesMost bounds how many files are written anew with one commit: a commit holds what it knows of each in memory. A table with more
// is done in several, after each of which it is as good as before.
const partFilesMost = 20_000

// parts divides the units between commits.
func (f *chosen) parts() (out [][]unit) {
	files := 0
	for _, u := range f.units {
		if len(out) == 0 || files+len(u.tasks) > partFilesMost {
			out, files = append(out, nil), 0
		}
		out[len(out)-1] = append(out[len(out)-1], u)
		files += len(u.tasks)
	}
	return out
}

// add counts what a further commit did.
func (c *Compacted) add(part *Compacted) {
	c.Partitions, c.Rewritten, c.Written = c.Partitions+part.Partitions, c.Rewritten+part.Rewritten, c.Written+part.Written
	c.Bytes, c.Rows, c.Dropped = c.Bytes+part.Bytes, c.Rows+part.Rows, c.Dropped+part.Dropped
	c.Overtaken = append(c.Overtaken, part.Overtaken...)
	if part.SnapshotID != 0 {
		c.After, c.SnapshotID = part.After, part.SnapshotID
	}
}

// foresee says what files there would be.
func (c Compaction) foresee(found *chosen, out *Compacted) {
	removed, all := map[string]bool{}, []table.ReadTask{}
	for _, u := range found.units {
		n := int((u.bytes + c.Layout.FileBytes - 1) / max(1, c.Layout.FileBytes))
		out.Written += n
		out.After.Files += n - len(u.tasks)
		for _, task := range u.tasks {
			removed[task.URI] = true
			out.Rows += task.Rows
			for _, d := range task.Deletes {
				out.Dropped += found.deletes[d.URI][task.URI]
			}
		}
		all = append(all, u.tasks...)
	}
	out.Rows -= out.Dropped
	if len(found.units) > 0 {
		out.After.DeleteFiles -= len(unneeded(all, found.deletes, removed)) + found.idle
	}
}

// compacting is a compaction that writes.
type compacting struct {
	Compaction
	table *table.Table
	load  *table.Append
	units []unit
	// deletes are those of chosen.
	deletes map[string]map[string]int64
	out     *Compacted
	budget  run.Budget
	began   time.Time
	mutex   sync.Mutex
	made    [][]layout.DataFile // by unit
	rows    int64
	done    int
}

func (c *compacting) run(ctx context.Context) (err error) {
	if c.load, err = c.Warehouse.Append(c.table, c.table.Schema); err != nil {
		return err
	}
	c.made = make([][]layout.DataFile, len(c.units))
	if err = c.write(ctx); err == nil {
		err = c.commit(ctx)
	}
	if err != nil {
		c.load.Rollback()
		if fault.KindOf(err) == 0 && !errors.Is(err, context.Canceled) {
			err = fault.Wrap(fault.Storage, err, "writing failed")
		}
	}
	return err
}

// write writes the units anew, some side by side.
func (c *compacting) write(ctx context.Context) error {
	workers := max(1, min(c.budget.Workers, len(c.units)))
	options := c.Layout.Within(c.budget.Memory)
	options.Sort, options.Columnar.Format = c.table.Sort, c.table.Format
	options.Columnar.Counts = true
	options.BudgetBytes /= int64(workers)
	options.OpenFiles = max(1, options.OpenFiles/workers)
	if options.Columnar.Workers = c.budget.Workers; workers > 1 {
		options.Columnar.Workers = 1
	}
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(workers)
	for i := range c.units {
		work.Go(func() error { return c.unit(inner, i, options) })
	}
	return work.Wait()
}

// unit writes the rows of a unit anew, and counts them in what was written.
func (c *compacting) unit(ctx context.Context, at int, options layout.Options) error {
	u := c.units[at]
	from, err := scan.OfFiles(ctx, c.table, u.tasks)
	if err != nil {
		return err
	}
	o := write.Output{Schema: c.table.Schema, Origins: true}
	stored := o.Stored()
	if options.Columnar, err = options.Columnar.For(stored); err != nil {
		return err
	}
	files := layout.NewRouter(stored, c.table.Spec, options, c.create)
	defer files.Abandon()
	var rows, written int64
	if err := from.Read(ctx, scan.Request{Target: scan.Target{Schema: stored.Bare()}}, func(r *scan.Rows) error {
		rows += r.Batch.NumRows()
		return files.Write(ctx, r.Batch)
	}); err != nil {
		return err
	}
	made, err := files.Close(ctx)
	if err != nil {
		return err
	}
	for _, f := range made {
		written += f.Summary.Rows
	}
	if rows != written {
		return fault.New(fault.Storage, "%d rows were read of the partition %s, but %d were written", rows, u.partition, written).
			Try("this is a fault of the program; nothing was committed")
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.made[at] = made
	c.done++
	c.budget.Tell(run.Event{Stage: run.Writing, Objects: len(c.units), Object: c.done})
	return nil
}

// create makes a file; the load does that for one at a time.
func (c *compacting) create(ctx context.Context, folder string) (begin func() (storage.Writer, error), uri string, err error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.load.CreateFile(ctx, folder)
}

// commit puts the new files in the place of the others, but for those that another commit changed meanwhile. It waits for loads that
// change rows, which would otherwise have to begin anew.
func (c *compacting) commit(ctx context.Context) error {
	release, err := c.table.Alone(ctx, func() { c.budget.Tell(run.Event{Stage: run.Committing, Waits: "a load that changes rows"}) })
	if err != nil {
		return err
	}
	defer release()
	var void []layout.DataFile
	c.load.Gain, c.load.Loss = new(int64), new(int64)
	c.load.Operation, c.load.Told = "compact", table.Told{Began: c.began}
	c.load.Settle = func(ctx context.Context, now *table.Table, change *table.Change) (err error) {
		void, err = c.settle(ctx, now, change)
		return err
	}
	s, err := c.load.Commit(ctx, slices.Concat(c.made...))
	if errors.Is(err, errNothing) {
		c.load.Rollback()
		return nil
	}
	if err != nil {
		return err
	}
	c.load.Spare(void)
	c.out.SnapshotID = s.ID
	return nil
}

// settle chooses the units whose files are still what they were, and returns the files of the others.
func (c *compacting) settle(ctx context.Context, now *table.Table, change *table.Change) (void []layout.DataFile, err error) {
	tasks, idle, err := now.PlanSlim(ctx)
	if err != nil {
		return nil, err
	}
	is := map[string]table.ReadTask{}
	for _, task := range tasks {
		is[task.URI] = task
	}
	change.Add, change.Remove = nil, nil
	removed, partitions := map[string]bool{}, map[string]bool{}
	out := c.out
	out.Rewritten, out.Written, out.Bytes, out.Rows, out.Dropped, out.Overtaken = 0, 0, 0, 0, 0, nil
	for i, u := range c.units {
		if slices.ContainsFunc(u.tasks, func(task table.ReadTask) bool { return !same(task, is[task.URI]) }) {
			out.Overtaken = append(out.Overtaken, u.partition)
			void = append(void, c.made[i]...)
			continue
		}
		partitions[u.partition] = true
		for _, task := range u.tasks {
			removed[task.URI] = true
			change.Remove = append(change.Remove, task.File)
			out.Rewritten++
			out.Dropped += task.Rows
		}
		for _, f := range c.made[i] {
			change.Add = append(change.Add, f)
			out.Written++
			out.Bytes, out.Rows, out.Dropped = out.Bytes+f.Summary.Bytes, out.Rows+f.Summary.Rows, out.Dropped-f.Summary.Rows
		}
	}
	if len(change.Remove) == 0 {
		return nil, errNothing
	}
	gone := append(unneeded(tasks, c.deletes, removed), idle...)
	change.Remove = append(change.Remove, gone...)
	out.Partitions = len(partitions)
	out.Before, out.After = shapes(tasks, idle, change.Add, removed, gone)
	return void, nil
}

// same reports whether a file has the deletes that it had.
func same(was, is table.ReadTask) bool {
	return was.URI == is.URI && slices.EqualFunc(was.Deletes, is.Deletes, func(a, b table.Deletes) bool { return a.URI == b.URI })
}

// shapes are what a table's files are, and what they will be.
func shapes(tasks []table.ReadTask, idle []table.File, added []layout.DataFile, removed map[string]bool, gone []table.File) (before,
	after Shape) {
	deletes := map[string]bool{}
	for _, task := range tasks {
		before.Files, before.Bytes = before.Files+1, before.Bytes+task.Bytes
		if removed[task.URI] {
			after.Files, after.Bytes = after.Files-1, after.Bytes-task.Bytes
		}
		for _, d := range task.Deletes {
			if !deletes[d.URI] {
				deletes[d.URI] = true
				before.DeleteFiles, before.Bytes = before.DeleteFiles+1, before.Bytes+d.Bytes
			}
		}
	}
	for _, f := range idle {
		before.DeleteFiles, before.Bytes = before.DeleteFiles+1, before.Bytes+f.Bytes
	}
	for _, f := range added {
		after.Files, after.Bytes = after.Files+1, after.Bytes+f.Summary.Bytes
	}
	for _, f := range gone {
		after.DeleteFiles, after.Bytes = after.DeleteFiles-1, after.Bytes-f.Bytes
	}
	return before, Shape{before.Files + after.Files, before.DeleteFiles + after.DeleteFiles, before.Bytes + after.Bytes}
}
