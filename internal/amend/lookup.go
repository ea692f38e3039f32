package amend

import (
	"context"

	"golang.org/x/sync/errgroup"

	"trevak/internal/expr"
	"trevak/internal/rowhash"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// met is a row of a data file that has a key of the load.
type met struct {
	position int64
	entry    uint32
	newest   uint64
}

// lookup looks for keys in the files of a table that can hold any of the load.
type lookup struct {
	*Upsert
	tasks  []table.ReadTask
	rows   scan.Source
	splits []scan.Split
	bounds []expr.Bound
	target schema.Schema
	met    [][]met // by split, in the order of the rows
}

// newLookup plans to read the columns of the key where these can hold one.
func (u *Upsert) newLookup(ctx context.Context) (*lookup, error) {
	l := &lookup{Upsert: u}
	s := u.out.Schema.Bare()
	for i, c := range u.key {
		l.target.Fields = append(l.target.Fields, s.Fields[c])
		l.bounds = append(l.bounds, u.ranges[i].bounds(s.Fields[c].Name)...)
		u.ranges[i] = ranges{}
	}
	if u.newest >= 0 {
		l.target.Fields = append(l.target.Fields, s.Fields[u.newest])
	}
	l.target.Omission = s.Omission
	tasks, err := u.table.Plan(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tasks {
		if scan.MayHold(l.bounds, l.target.Fields, t.File) {
			l.tasks = append(l.tasks, t)
		}
	}
	if len(l.tasks) == 0 {
		return l, nil
	}
	if l.rows, err = scan.OfFiles(ctx, u.table, l.tasks); err != nil {
		return nil, err
	}
	// Each row group is read by itself.
	l.splits, err = l.rows.Plan(ctx, 1)
	l.met = make([][]met, len(l.splits))
	return l, err
}

// run looks for some keys, and tells their entries what they met.
func (l *lookup) run(ctx context.Context, k *keys) error {
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(max(1, l.budget.Workers))
	for i, split := range l.splits {
		work.Go(func() (err error) {
			l.met[i], err = l.read(ctx, split, k)
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	for _, list := range l.met {
		for _, m := range list {
			e := &k.entries[m.entry]
			if e.met++; e.met == 2 {
				l.Counts.Repeated++
			}
			e.behind = e.behind || m.newest > e.newest
		}
	}
	return nil
}

// read looks through a part of a file.
func (l *lookup) read(ctx context.Context, split scan.Split, k *keys) (found []met, err error) {
	columns := make([]int, len(l.key))
	for i := range columns {
		columns[i] = i
	}
	var hashes []rowhash.Key
	var at, numbers []uint32
	request := scan.Request{Target: scan.Target{Schema: l.target}, Bounds: l.bounds, Splits: []scan.Split{split}}
	err = l.rows.Read(ctx, request, func(rows *scan.Rows) error {
		hashes = rowhash.Keys(rows.Batch, columns, hashes)
		var newest func(int) uint64
		at, numbers = k.among(hashes, at, numbers)
		for i, row := range at {
			m := met{position: rows.Before + rows.Rank(int(row)), entry: numbers[i]}
			if l.newest >= 0 {
				if newest == nil {
					newest = newestBits(rows.Batch.Column(len(l.key)))
				}
				m.newest = newest(int(row))
			}
			found = append(found, m)
		}
		return nil
	})
	return found, err
}

// take has the rows go that make way, tells updates that change nothing from the others, and keeps what updated rows are to have of
// the old ones.
func (l *lookup) take(ctx context.Context, k *keys) error {
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(max(1, l.budget.Workers))
	for i := range l.splits {
		if len(l.met[i]) > 0 && !l.options.Missing {
			work.Go(func() error { return l.same(inner, i, k) })
		}
	}
	if err := work.Wait(); err != nil {
		return err
	}
	for i, list := range l.met {
		task := l.splits[i].Object
		var patched []met
		for _, m := range list {
			switch e := &k.entries[m.entry]; l.outcomes[e.row] {
			case updated:
				patched = append(patched, m)
				l.gone.rows[task] = append(l.gone.rows[task], m.position)
			case deleted:
				l.gone.rows[task] = append(l.gone.rows[task], m.position)
			}
		}
		if err := l.patches.read(ctx, l.rows, l.splits[i], patched, func(m met) int64 { return k.entries[m.entry].row }); err != nil {
			return err
		}
		l.met[i] = nil
	}
	return nil
}
