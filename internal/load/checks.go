package load

import (
	"context"
	"slices"

	"trevak/internal/check"
	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
)

// withChecks adds the rules that the table keeps to those of the load.
func (l *Request) withChecks(ctx context.Context) error {
	l.FindTable = l.Warehouse.Find
	t, err := l.find(ctx, l.Into)
	if err != nil || t == nil {
		return err
	}
	kept, err := check.Kept(t)
	if err != nil {
		return err
	}
	for _, r := range kept {
		// What the load states of a rule holds for it.
		if !slices.ContainsFunc(l.Checks, func(own check.Rule) bool { return own.Text == r.Text }) {
			l.Checks = append(l.Checks, r)
		}
	}
	return nil
}

// unique holds the files of a load, and the table as it will be, against the rules that no two rows share values.
func (l Request) unique(ctx context.Context, w *pending, s schema.Schema) error {
	if !slices.ContainsFunc(l.Checks, func(r check.Rule) bool { return r.Unique != nil }) || l.DryRun {
		return nil
	}
	// What is found holds for the table as it was.
	w.load.Exact = w.existing != nil
	tasks, err := w.staying(ctx)
	if err != nil {
		return err
	}
	gone, err := deletedRows(ctx, l.Warehouse.Store(), w.load.Deletes)
	if err != nil {
		return err
	}
	files := check.Files{Store: l.Warehouse.Store(), Schema: s}
	for _, f := range w.files {
		files.URIs = append(files.URIs, f.URI)
	}
	for _, r := range l.Checks {
		if r.Unique == nil {
			continue
		}
		result, err := check.Unique(ctx, r, files, w.existing, tasks, gone)
		if err != nil {
			return err
		}
		w.report.Checks = append(w.report.Checks, result)
		if err := write.BreaksRule(result); err != nil {
			return err
		}
	}
	return nil
}

// staying are the files of the table that it has still with the commit.
func (w *pending) staying(ctx context.Context) ([]table.ReadTask, error) {
	if w.existing == nil {
		return nil, nil
	}
	tasks, err := w.existing.Plan(ctx)
	if err != nil {
		return nil, err
	}
	removed := slices.Clone(w.load.Remove)
	if w.load.RemoveOf != nil {
		more, err := w.load.RemoveOf(ctx, w.existing)
		if err != nil {
			return nil, err
		}
		removed = append(removed, more...)
	}
	goes := map[string]bool{}
	for _, f := range removed {
		goes[f.URI] = true
	}
	return slices.DeleteFunc(tasks, func(t table.ReadTask) bool { return goes[t.URI] }), nil
}

// deletedRows are the rows that files of deletes list which are to be added, by data file and in order.
func deletedRows(ctx context.Context, s storage.Store, deletes []table.DeleteFile) (map[string][]int64, error) {
	out := map[string][]int64{}
	for _, d := range deletes {
		f, err := columnar.Open(ctx, s, d.URI)
		if err != nil {
			return nil, err
		}
		err = f.Batches(ctx, func(b arrow.RecordBatch) error {
			paths, rows := b.Column(0).(*array.String), b.Column(1).(*array.Int64)
			for i := range paths.Len() {
				uri := storage.Path(paths.Value(i))
				out[uri] = append(out[uri], rows.Value(i))
			}
			return nil
		})
		f.Close()
		if err != nil {
			return nil, err
		}
	}
	for _, list := range out {
		slices.Sort(list)
	}
	return out, nil
}
