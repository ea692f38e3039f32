package amend

import (
	"context"
	"slices"
	"sync"

	"github.com/apache/arrow-go/v18/arrow/array"
	"golang.org/x/sync/errgroup"

	"trevak/internal/expr"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Taken is what a commit adds and removes so that rows are gone.
type Taken struct {
	Files   []layout.DataFile
	Deletes []table.DeleteFile
	Remove  []table.File
	Outcome write.Outcome
}

// TakeOut has the rows of a table go that came of some objects, by their numbers in order, besides so many that an output writes.
func TakeOut(ctx context.Context, t *table.Table, origins []int64, out *write.Output, written int64, b run.Budget) (Taken, error) {
	fields := []schema.Field{table.OriginField}
	bounds := []expr.Bound{{Column: table.OriginField.Name, Op: expr.Among, Between: func(low, high expr.Value) bool {
		at, _ := slices.BinarySearch(origins, low.Long)
		return at < len(origins) && origins[at] <= high.Long
	}}}
	all, err := t.Plan(ctx)
	if err != nil {
		return Taken{}, err
	}
	all = slices.DeleteFunc(all, func(task table.ReadTask) bool { return !scan.MayHold(bounds, fields, task.File) })
	g := newGone(t, all)
	target := scan.Target{Schema: schema.Schema{Fields: fields, Omission: schema.Omission{OmitRest: true}}}
	request := scan.Request{Target: target, Bounds: bounds}
	if err := g.search(ctx, request, b, func(r *scan.Rows, take func(row int)) {
		of := r.Batch.Column(0).(*array.Int64)
		for i := range of.Len() {
			if _, is := slices.BinarySearch(origins, of.Value(i)); is && of.IsValid(i) {
				take(i)
			}
		}
	}); err != nil {
		return Taken{}, err
	}
	if err := g.settle(ctx, Weighed, written); err != nil {
		return Taken{}, err
	}
	taken, err := g.write(ctx, out)
	return taken, storageError(err)
}

// search looks through the first tasks, as many as there are files to be read, side by side for rows that are to go.
func (g *gone) search(ctx context.Context, request scan.Request, b run.Budget, look func(r *scan.Rows, take func(row int))) error {
	var tasks []table.ReadTask
	for i, task := range g.tasks {
		if !g.whole[i] {
			tasks = append(tasks, task)
		}
	}
	if len(tasks) == 0 {
		return nil
	}
	from, err := scan.OfFiles(ctx, g.table, tasks)
	if err != nil {
		return err
	}
	splits, err := from.Plan(ctx, 1)
	if err != nil {
		return err
	}
	var mutex sync.Mutex
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(max(1, b.Workers))
	for _, split := range splits {
		work.Go(func() error {
			var found []int64
			request := request
			request.Splits = []scan.Split{split}
			err := from.Read(ctx, request, func(r *scan.Rows) error {
				look(r, func(row int) { found = append(found, r.Before+r.Rank(row)) })
				return nil
			})
			mutex.Lock()
			defer mutex.Unlock()
			g.rows[split.Object] = append(g.rows[split.Object], found...)
			return err
		})
	}
	return work.Wait()
}

// write writes what takes the rows out, and names what the table is not to have any more.
func (g *gone) write(ctx context.Context, out *write.Output) (t Taken, err error) {
	files := layout.NewRouter(out.Stored(), out.Spec, out.Options, out.Create)
	defer files.Abandon()
	if err = g.rewrite(ctx, out, files.Write); err != nil {
		return t, err
	}
	if t.Files, err = files.Close(ctx); err != nil {
		return t, err
	}
	if t.Deletes, err = g.deleteFiles(ctx, out); err != nil {
		return t, err
	}
	t.Remove, t.Outcome = g.removed(), g.outcome
	return t, nil
}
