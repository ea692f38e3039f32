package amend

import (
	"context"
	"slices"

	"trevak/internal/rowhash"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/write"
)

// compared are the columns that an update may change, those first that are likely to tell soonest that it does. Columns that loads fill
// tell nothing.
func compared(s schema.Schema, key, keep []int, newest int) (out []int) {
	for i, f := range s.Fields {
		own := slices.Contains(write.OwnColumns, f.Name) && f.Name != schema.MisfitColumn
		if !own && !slices.Contains(key, i) && !slices.Contains(keep, i) {
			out = append(out, i)
		}
	}
	rank := func(i int) int {
		switch k := s.Fields[i].Type.Kind; {
		case i == newest:
			return 0
		case k == schema.Timestamp, k == schema.TimestampTz, k == schema.Double, k == schema.Decimal, k == schema.Float:
			return 1
		case k == schema.Long, k == schema.Int, k == schema.Date, k == schema.Time:
			return 2
		case s.Fields[i].Type.Nested():
			return 4
		}
		return 3
	}
	slices.SortStableFunc(out, func(a, b int) int { return rank(a) - rank(b) })
	return out
}

// seedOf has equal values of different columns be hashed differently.
func seedOf(column int) uint64 { return rowhash.Mix(uint64(column) + 1) }

// alike is a row of a file that is, as far as it was looked at, as the row of the load that has its key.
type alike struct {
	position int64
	entry    *entry
	content  uint64
}

// same looks through the rows of a split that rows of the load are to take the place of, column by column, for those that have the same
// values. Of each column only what lies around rows is read that were alike so far.
func (l *lookup) same(ctx context.Context, split int, k *keys) error {
	var left []alike
	for _, m := range l.met[split] {
		if e := &k.entries[m.entry]; l.outcomes[e.row] == updated && e.met == 1 {
			left = append(left, alike{position: m.position, entry: e})
		}
	}
	s := l.out.Schema.Bare()
	unseen := uint64(0) // what columns without a value have added to the content of each row of the load
	for j, c := range l.compare {
		if len(left) == 0 {
			return nil
		}
		if slices.Contains(l.keep, c) {
			unseen += rowhash.Absent
			continue
		}
		var err error
		if left, err = l.sameIn(ctx, l.splits[split], s.Fields[c], j, left); err != nil {
			return err
		}
	}
	for _, a := range left {
		if a.content+unseen == a.entry.content {
			l.outcomes[a.entry.row] = unchanged
		}
	}
	return nil
}

// sameIn returns those rows that are alike in a column too.
func (l *lookup) sameIn(ctx context.Context, split scan.Split, f schema.Field, number int, rows []alike) ([]alike, error) {
	positions := make([]int64, len(rows))
	for i, a := range rows {
		positions[i] = a.position
	}
	target := scan.Target{Schema: schema.Schema{Fields: []schema.Field{f}, Omission: schema.Omission{OmitRest: true}}}
	request := scan.Request{Target: target, Positions: positions, Splits: []scan.Split{split}}
	kept, at := rows[:0], 0
	err := l.rows.Read(ctx, request, func(r *scan.Rows) error {
		values := r.Batch.Column(0)
		value := rowhash.Of(values, seedOf(number))
		at = each(r, positions, at, func(row, i int) {
			a, v := rows[i], uint64(rowhash.Absent)
			if values.IsValid(row) {
				v = value(row)
			}
			if number >= printed || a.entry.prints[number] == byte(v>>56) {
				a.content += v
				kept = append(kept, a)
			}
		})
		return nil
	})
	return kept, err
}

// each goes through the rows of a batch that have some of the positions, which are in order and looked at from one on, and returns the
// one to go on with. Every position is visited with its row.
func each(r *scan.Rows, positions []int64, from int, visit func(row, at int)) int {
	n := int(r.Batch.NumRows())
	if n == 0 {
		return from
	}
	for from < len(positions) && positions[from] < r.Before+r.Rank(0) {
		from++
	}
	last := r.Before + r.Rank(n-1)
	for row := 0; from < len(positions) && positions[from] <= last; from++ {
		if r.Ranks == nil {
			row = int(positions[from] - r.Before)
		}
		for r.Before+r.Rank(row) < positions[from] {
			row++
		}
		if r.Before+r.Rank(row) == positions[from] {
			visit(row, from)
		}
	}
	return from
}
