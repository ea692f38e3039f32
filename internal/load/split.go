package load

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"trevak/internal/fault"
	"trevak/internal/run"
	"trevak/internal/shape"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Split is a list whose elements go to a table of their own, with the key of their record.
type Split struct {
	List string
	Into table.Name
}

// split loads records into one table and their lists into others. The files of all are written before the first commit. When a
// later commit fails, the same load done again makes the commits that are missing.
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
	for _, part := range parts {
		w, err := part.write(ctx, b)
		if err != nil {
			rollback()
			return nil, err
		}
		all = append(all, &w)
	}
	report := all[0].report
	for i, w := range all[1:] {
		report.Split = append(report.Split, w.report)
		if w.report.RowsWritten != report.Elements[i] {
			rollback()
			return nil, fault.New(fault.Storage, "the lists %s have %d elements, but %d rows were written of them", l.Splits[i].List,
				report.Elements[i], w.report.RowsWritten).
				Try("this is a fault of the program; nothing was committed")
		}
	}
	if l.DryRun {
		return report, nil
	}
	if err := l.commitAll(ctx, b, all); err != nil {
		return nil, err
	}
	return report, nil
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

// commitAll commits to each table, unless the same load did so before and could not be finished.
func (l Request) commitAll(ctx context.Context, b run.Budget, all []*pending) error {
	id := l.splitID(all)
	there := make([]table.Snapshot, len(all))
	done := make([]bool, len(all))
	for i, w := range all {
		if w.existing != nil {
			there[i], done[i] = w.existing.Split(id)
		}
	}
	if !slices.Contains(done, false) {
		for _, w := range all {
			w.load.Rollback()
		}
		return fault.New(fault.Conflict, "these records and their lists are in the tables already, since snapshot %d of %s", there[0].ID,
			l.Into).Try("load other files; nothing was written")
	}
	for i, w := range all {
		if done[i] {
			w.load.Rollback()
			w.report.SnapshotID, w.report.Completed = there[i].ID, true
			continue
		}
		w.load.SplitID = id
		report := w.report
		if err := w.commit(ctx, b); err != nil {
			for _, later := range all[i+1:] {
				later.load.Rollback()
			}
			if i > 0 {
				return &PartlyError{l.Into, err}
			}
			return err
		}
		w.report = report
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

// splitID tells the load of these objects into these tables from all others, whenever it is done.
func (l Request) splitID(all []*pending) string {
	var text strings.Builder
	for i, o := range all[0].report.Objects {
		fmt.Fprintf(&text, "%s %s\n", all[0].data.Inputs[i].Canonical(), o.Hash)
	}
	fmt.Fprintf(&text, "%s %v %+v", l.Into, l.Splits, l.Shape)
	sum := xxh3.HashString128(text.String()).Bytes()
	return hex.EncodeToString(sum[:])
}
