package load

import (
	"context"

	"trevak/internal/fault"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/write"
)

// tap has the rows noted that an output writes, where they are to be read back.
func (l Request) tap(out *write.Output) {
	if l.written != nil {
		l.written.Begin(out.Stored())
		out.Options.Tap = l.written.Take
	}
}

// noting prepares to note what is written.
func (l *Request) noting(b run.Budget) {
	if l.Verify && !l.DryRun {
		l.written = &prove.Written{Store: l.Store, Workers: b.Workers}
	}
}

// verify reads back what the load has written.
func (l Request) verify(ctx context.Context, w *pending, b run.Budget) error {
	if l.written == nil {
		return nil
	}
	b.Tell(run.Event{Stage: run.Comparing, Objects: len(w.files)})
	l.written.Store = l.Warehouse.Store()
	var files []string
	for _, f := range w.files {
		files = append(files, f.URI)
	}
	if err := l.written.ReadBack(ctx, files); err != nil {
		return err
	}
	for _, d := range w.load.Deletes {
		n, err := scan.RowsIn(ctx, l.Warehouse.Store(), d.URI)
		if err == nil && n != d.Summary.Rows {
			err = fault.New(fault.Storage, "has %d rows, and %d were written", n, d.Summary.Rows).In(d.URI)
		}
		if err != nil {
			return fault.Wrap(fault.Storage, err, "what was written cannot be read back")
		}
	}
	w.report.Verified = l.written.Rows()
	return nil
}
