package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/run"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Together makes several loads of one warehouse, all or none: the files of all are written before the first commit, and the commits are
// one where the warehouse's catalog can make them one. Where it cannot, they follow each other at once, and a *GroupError tells of some
// that could not be made behind others that were; the same loads, done again, complete these. The accounts are in the order of the loads.
func Together(ctx context.Context, list []Request, b run.Budget) (reports []*write.Report, err error) {
	if len(list) == 1 {
		r, err := Load(ctx, list[0], b)
		return []*write.Report{r}, err
	}
	group := list[0].Warehouse.Together()
	list = slices.Clone(list)
	for i := range list {
		l := &list[i]
		if len(l.Splits) > 0 {
			return nil, fault.New(fault.Usage, "a load that splits lists off to %s is one of several that are made together", l.Splits[0].Into).
				Try("take it out of the group")
		}
		l.Warehouse = group.Warehouse
		l.Warehouse.Waiting = func() { b.Tell(run.Event{Stage: run.Committing, Waits: "another commit"}) }
		if err := l.Merge.check(l.Splits); err != nil {
			return nil, err
		}
		if err := l.suitsChanged(); err != nil {
			return nil, err
		}
		if err := l.resolve(ctx); err != nil {
			return nil, err
		}
		l.began = time.Now()
	}
	release, err := allInLine(ctx, list, b)
	if err != nil {
		return nil, err
	}
	defer release()
	tries := 0
	defer func() {
		at := 0
		var member *MemberError
		if errors.As(err, &member) {
			at = member.Load
			_, member.Cause = write.Masked(list[at].Mask, nil, member.Cause)
		}
		for i, r := range reports {
			_, _ = write.Masked(list[i].Mask, r, nil)
		}
	}()
	err = infer.Again(func() (err error) {
		tries++
		reports, err = onceTogether(ctx, list, group, b)
		return err
	}, func(err error) (bool, error) {
		var partly *GroupError
		return errors.Is(err, table.ErrChanged) && !errors.As(err, &partly) && tries < mostTries, nil
	})
	return reports, err
}

// allInLine waits for other loads that change rows of the tables, always in the same order of these.
func allInLine(ctx context.Context, list []Request, b run.Budget) (release func(), err error) {
	var held []func()
	release = func() {
		for _, f := range slices.Backward(held) {
			f()
		}
	}
	sorted := slices.Clone(list)
	slices.SortFunc(sorted, func(a, b Request) int { return cmp.Compare(a.Into.String(), b.Into.String()) })
	last := ""
	for _, l := range sorted {
		if l.Into.String() == last {
			return nil, twoIntoOne(l.Into)
		}
		last = l.Into.String()
		f, err := l.inLine(ctx, b)
		if err != nil {
			release()
			return nil, err
		}
		held = append(held, f)
	}
	return release, nil
}

func twoIntoOne(name table.Name) error {
	return fault.New(fault.Usage, "two of the loads that are made together go to the table %s", name).
		Try("have one of them come after the other, outside of the group")
}

// onceTogether makes the loads into the tables as they are now.
func onceTogether(ctx context.Context, list []Request, group *table.Together, b run.Budget) ([]*write.Report, error) {
	all := make([]*pending, 0, len(list))
	reports := make([]*write.Report, 0, len(list))
	rollback := func() {
		for _, w := range all {
			w.giveUp(ctx)
		}
	}
	for i, l := range list {
		w, err := l.write(ctx, b)
		if w.none = errors.Is(err, errNothingNew); w.none {
			w.report, err = l.nothingNew(w.counts), nil
		}
		if err != nil {
			rollback()
			return nil, &MemberError{i, err}
		}
		all = append(all, &w)
		reports = append(reports, w.report)
	}
	if list[0].DryRun {
		return reports, nil
	}
	var committed []string
	err := group.Commit(ctx, func(ctx context.Context) error {
		committed = nil
		for _, w := range all {
			if w.none {
				continue
			}
			name := w.report.Table
			if err := w.commit(ctx, b); err != nil {
				return err
			}
			committed = append(committed, name)
		}
		return nil
	})
	if err == nil {
		return reports, nil
	}
	if len(committed) > 0 && !group.Whole() {
		for _, w := range all {
			if w.report != nil && !slices.Contains(committed, w.report.Table) {
				w.giveUp(ctx)
			}
		}
		return nil, &GroupError{committed, err}
	}
	if !errors.Is(err, table.ErrUntold) {
		for _, w := range all {
			if w.load != nil {
				w.load.Undone()
			}
		}
		rollback()
	}
	return nil, err
}

// giveUp removes what was written of a load that is not to be committed.
func (w *pending) giveUp(ctx context.Context) {
	if w.load != nil {
		w.load.Rollback()
	}
	if w.report != nil {
		w.report.Discard(ctx, w.store)
	}
}

// MemberError tells which of several loads that are made together went wrong.
type MemberError struct {
	Load  int
	Cause error
}

func (e *MemberError) Error() string { return e.Cause.Error() }

// Unwrap returns what went wrong.
func (e *MemberError) Unwrap() error { return e.Cause }

// GroupError says that several loads which were to be made together ended between their commits.
type GroupError struct {
	Done  []string
	Cause error
}

func (e *GroupError) Error() string {
	return fmt.Sprintf("the rows are in %s, but not in the other tables of the group; the same run, done again, completes it: %s",
		strings.Join(e.Done, ", "), e.Cause)
}

// Unwrap returns why it ended.
func (e *GroupError) Unwrap() error { return e.Cause }

// KnownTo tells objects that the tables of a load have taken in as they are, by name, size and time of change; nil where there are none.
func KnownTo(ctx context.Context, l Request) (func(storage.Object) bool, error) {
	err := l.passOverKnown(ctx)
	return l.Known, err
}

// Fresh counts the objects of a source, and those that the tables of the load have not taken in as they are.
func Fresh(ctx context.Context, l Request) (objects, fresh int, bytes int64, err error) {
	if err := l.passOverKnown(ctx); err != nil {
		return 0, 0, 0, err
	}
	if err := l.Resolve(ctx); err != nil {
		return 0, 0, 0, err
	}
	found, passed := l.Found()
	objects = len(found) + len(passed)
	for _, o := range found {
		bytes += o.Size
		state := unknownObject
		if l.ledger != nil {
			if state, _, err = l.ledger.look(ctx, o); err != nil {
				return 0, 0, 0, err
			}
		}
		if state != knownObject {
			fresh++
		}
	}
	return objects, fresh, bytes, nil
}
