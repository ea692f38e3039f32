package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"trevak/internal/fault"
	"trevak/internal/run"
	"trevak/internal/shape"
	"trevak/internal/source"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Split is a list whose elements go to a table of their own, with the key of their record.
type Split struct {
	List string
	Into table.Name
}

// split loads records into one table and their lists into others. The files of all are written before the first commit. Each table
// has the objects in its own ledger, so that a load which ended between two commits is completed when it is done again.
func (l Request) split(ctx context.Context, b run.Budget) (*write.Report, error) {
	parts, err := l.parts()
	if err != nil {
		return nil, err
	}
	var all []*pending
	rollback := func() {
		for _, w := range all {
			w.load.Rollback()
		}
	}
	nothing := true
	for _, part := range parts {
		w, err := part.write(ctx, b)
		if w.none = errors.Is(err, errNothingNew); w.none {
			w.report, err = part.nothingNew(w.counts), nil
		}
		if err != nil {
			rollback()
			return nil, err
		}
		nothing = nothing && w.none
		all = append(all, &w)
	}
	report := all[0].report
	for i, w := range all[1:] {
		report.Split = append(report.Split, w.report)
		if w.tookAs(all[0]) && w.report.RowsWritten != report.Elements[i] {
			rollback()
			return nil, fault.New(fault.Storage, "the lists %s have %d elements, but %d rows were written of them", l.Splits[i].List,
				report.Elements[i], w.report.RowsWritten).
				Try("this is a fault of the program; nothing was committed")
		}
	}
	for _, w := range all {
		if w.none && !nothing {
			w.report.NothingNew, w.report.Completed = false, true
		}
	}
	if l.DryRun {
		return report, nil
	}
	return report, l.commitAll(ctx, b, all)
}

// tookAs reports whether a load takes the same objects in as another.
func (w *pending) tookAs(other *pending) bool {
	return !w.none && !other.none && slices.EqualFunc(w.data.Inputs, other.data.Inputs, func(a, b source.Input) bool {
		return a.Location == b.Location
	})
}

// parts are the loads into each table, that of the records first.
func (l Request) parts() ([]Request, error) {
	whole := l
	whole.Splits = nil
	whole.ParentID = len(l.Corrections.Key) == 0
	seen := []string{l.Into.String()}
	var children []Request
	for _, s := range l.Splits {
		if slices.Contains(seen, s.Into.String()) {
			return nil, fault.New(fault.Usage, "the table %s is named twice", s.Into).Try("give each list a table of its own")
		}
		seen = append(seen, s.Into.String())
		whole.Shape.Without = append(slices.Clone(whole.Shape.Without), s.List)
		part := l
		part.Splits, part.Into, part.Partition, part.Sort, part.ParentID = nil, s.Into, "", "", whole.ParentID
		part.Corrections.Key, part.Corrections.Required, part.Corrections.Renames = nil, nil, nil
		part.BadElsewhere = true // with those of the records' table
		part.Shape = shape.Spec{Where: l.Shape.Where, Flatten: l.Shape.Flatten, Separator: l.Shape.Separator, Depth: l.Shape.Depth,
			ListsAsJSON: l.Shape.ListsAsJSON,
			Child:       shape.Child{List: s.List, Keys: l.Corrections.Key}}
		children = append(children, part)
	}
	return append([]Request{whole}, children...), nil
}

// commitAll commits to each table that took something in.
func (l Request) commitAll(ctx context.Context, b run.Budget, all []*pending) error {
	committed := false
	for i, w := range all {
		if w.none {
			continue
		}
		report := w.report
		if err := w.commit(ctx, b); err != nil {
			for _, later := range all[i+1:] {
				later.load.Rollback()
			}
			if committed {
				return &PartlyError{l.Into, err}
			}
			return err
		}
		w.report, committed = report, true
	}
	return nil
}

// PartlyError says that a load into several tables ended between their commits.
type PartlyError struct {
	Into  table.Name
	Cause error
}

func (e *PartlyError) Error() string {
	return fmt.Sprintf("the records are in table %s, but not all their lists in theirs; the same load, done again, completes it: %s", e.Into,
		e.Cause)
}

// Unwrap returns why it ended.
func (e *PartlyError) Unwrap() error { return e.Cause }
