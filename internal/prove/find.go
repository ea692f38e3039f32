package prove

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"golang.org/x/sync/errgroup"

	"trevak/internal/rowhash"
	"trevak/internal/rowtext"
)

// heldRows bounds how many rows of both sides are held against each other at a time, of each of which no more is kept than hashes.
const heldRows = 2 << 20

// hashed is a row of which no more is known than its key and all that it has.
type hashed struct {
	key, row rowhash.Key
	// foreign says that it is of an object that the other side does not have.
	foreign bool
}

func (h hashed) compare(o hashed) int {
	for _, c := range [...]int{cmp.Compare(h.key.High, o.key.High), cmp.Compare(h.key.Low, o.key.Low), cmp.Compare(h.row.High, o.row.High)} {
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(h.row.Low, o.row.Low)
}

// finding is the search for rows that differ.
type finding struct {
	Request
	out *Outcome
	// lost are rows that only one side has, by their hashes, of those that are to be shown.
	lost [2]map[hashed]int
}

// find reads both sides again, as often as the rows of the buckets that differ ask for.
func find(ctx context.Context, left, right Side, out *Outcome, r Request) error {
	f := &finding{Request: r, out: out, lost: [2]map[hashed]int{{}, {}}}
	if r.AllLeft == nil && r.AllRight == nil && out.Left.Rows*out.Right.Rows == 0 {
		out.OnlyLeft, out.OnlyRight = out.Left.Rows, out.Right.Rows
		return f.showAll(ctx, left, right)
	}
	buckets, _ := out.Left.differing(out.Right)
	for len(buckets) > 0 {
		var rows int64
		wanted := make([]bool, 1<<bucketBits)
		n := 0
		for n < len(buckets) {
			more := out.Left.buckets[buckets[n]].rows + out.Right.buckets[buckets[n]].rows
			if n > 0 && rows+more > heldRows {
				break
			}
			wanted[buckets[n]], rows, n = true, rows+more, n+1
		}
		buckets = buckets[n:]
		var sides [2][]hashed
		for i, s := range []Side{left, right} {
			if err := f.read(ctx, s, func(_ Rows, row int, h hashed) error {
				if wanted[h.key.High>>(64-bucketBits)] {
					sides[i] = append(sides[i], h)
				}
				return nil
			}); err != nil {
				return err
			}
			slices.SortFunc(sides[i], hashed.compare)
		}
		f.hold(sides[0], sides[1])
	}
	return f.show(ctx, left, right)
}

// read hands over each row with its hashes.
func (f *finding) read(ctx context.Context, s Side, visit func(rows Rows, row int, h hashed) error) error {
	columns := make([]*column, len(f.Fields))
	for i := range columns {
		columns[i] = &column{}
	}
	var all, keys []rowhash.Key
	return s.Read(ctx, func(r Rows) error {
		n := int(r.Batch.NumRows())
		work, _ := errgroup.WithContext(ctx)
		work.SetLimit(max(1, f.Workers))
		for i, c := range columns {
			work.Go(func() error {
				c.hash(r.Batch.Column(i), seedOf(i))
				return nil
			})
		}
		if err := work.Wait(); err != nil {
			return err
		}
		all = combine(all, columns, nil, n)
		of := all
		if f.Key != nil {
			keys = combine(keys, columns, f.Key, n)
			of = keys
		}
		for row := range n {
			if err := visit(r, row, hashed{of[row], all[row], r.Foreign != nil && r.Foreign(row)}); err != nil {
				return err
			}
		}
		return ctx.Err()
	})
}

// hash is add without what is counted.
func (c *column) hash(a arrow.Array, seed uint64) {
	n := a.Len()
	if cap(c.lows) < n {
		c.highs, c.lows = make([]uint64, n), make([]uint64, n)
	}
	c.highs, c.lows = c.highs[:n], c.lows[:n]
	rowhash.Wide(a, seed, c.highs, c.lows)
}

// shownOf bounds of how many rows it is kept that they are lost, of each side: more than are shown, so that they can be shown in order.
const shownOf = 1 << 16

// hold holds the rows of both sides against each other, in the order of their keys.
func (f *finding) hold(left, right []hashed) {
	for len(left)+len(right) > 0 {
		var key rowhash.Key
		switch {
		case len(left) == 0:
			key = right[0].key
		case len(right) == 0 || left[0].compare(right[0]) < 0:
			key = left[0].key
		default:
			key = right[0].key
		}
		l, r := ofKey(left, key), ofKey(right, key)
		f.holdKey(left[:l], right[:r])
		left, right = left[l:], right[r:]
	}
}

// ofKey is how many rows at the beginning have a key.
func ofKey(rows []hashed, key rowhash.Key) int {
	n := 0
	for n < len(rows) && rows[n].key == key {
		n++
	}
	return n
}

// holdKey holds the rows of a key against each other: those that are not equal in pairs are altered, and what is over on one side is its
// alone. Where a table has one row of each key, a row that another one of its key came after is no difference.
func (f *finding) holdKey(left, right []hashed) {
	left, marks := apart(left)
	own, foreign := apart(right)
	l, r := without(left, own), without(own, left)
	if f.Latest {
		there := len(l)
		l = without(l, foreign)
		f.out.Elsewhere += int64(there - len(l))
		matched := len(left) > len(l) || len(marks) > 0 && len(own) == 0
		if len(l) > 0 && (matched || len(r) == 0 && len(foreign) > 0) {
			f.out.Superseded += int64(len(l))
			l = nil
		}
	}
	pairs := min(len(l), len(r))
	f.out.Altered += int64(pairs)
	f.out.OnlyLeft += int64(len(l) - pairs)
	f.out.OnlyRight += int64(len(r) - pairs)
	for i, rows := range [][]hashed{l, r} {
		for _, h := range rows {
			if len(f.lost[i]) < shownOf {
				f.lost[i][h]++
			}
		}
	}
}

// apart divides rows into those that are foreign and the others.
func apart(rows []hashed) (own, foreign []hashed) {
	if !slices.ContainsFunc(rows, func(h hashed) bool { return h.foreign }) {
		return rows, nil
	}
	for _, h := range rows {
		if h.foreign {
			h.foreign = false
			foreign = append(foreign, h)
		} else {
			own = append(own, h)
		}
	}
	return own, foreign
}

// without are the rows of a list that another list does not have, as often as it has them. Both are in order.
func without(rows, others []hashed) (out []hashed) {
	for _, h := range rows {
		for len(others) > 0 && others[0].compare(h) < 0 {
			others = others[1:]
		}
		if len(others) > 0 && others[0] == h {
			others = others[1:]
			continue
		}
		out = append(out, h)
	}
	return out
}

// found is a row that is shown.
type found struct {
	hashed
	place Place
	cells []Cell
}

// show gathers the first rows that differ, in the order of the sides.
func (f *finding) show(ctx context.Context, left, right Side) error {
	var rows [2][]found
	for i, s := range []Side{left, right} {
		if len(f.lost[i]) == 0 || f.Examples == 0 {
			continue
		}
		wanted := f.lost[i]
		var partners map[rowhash.Key]bool
		if i == 1 && f.Key != nil {
			// Of the right side those are wanted first whose other side is shown.
			partners = map[rowhash.Key]bool{}
			for _, l := range rows[0] {
				partners[l.key] = true
			}
		}
		others := 0
		err := f.read(ctx, s, func(r Rows, row int, h hashed) error {
			if wanted[h] == 0 {
				return nil
			}
			if i == 0 && others == f.Examples {
				return io.EOF
			}
			if !partners[h.key] {
				if others == f.Examples {
					return nil
				}
				others++
			}
			wanted[h]--
			rows[i] = append(rows[i], found{h, r.Place(row), f.cells(r.Batch, row)})
			if f.Key == nil && len(rows[i]) == f.Examples {
				return io.EOF
			}
			return nil
		})
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
	}
	f.pair(rows[0], rows[1])
	return nil
}

// showAll shows the first rows of the only side that has any.
func (f *finding) showAll(ctx context.Context, left, right Side) error {
	var rows [2][]found
	for i, s := range []Side{left, right} {
		err := f.read(ctx, s, func(r Rows, row int, h hashed) error {
			if len(rows[i]) == f.Examples {
				return io.EOF
			}
			rows[i] = append(rows[i], found{h, r.Place(row), f.cells(r.Batch, row)})
			return nil
		})
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
	}
	f.pair(rows[0], rows[1])
	return nil
}

// cells are the values of a row as text.
func (f *finding) cells(b arrow.RecordBatch, row int) []Cell {
	out := make([]Cell, len(f.Fields))
	for i, field := range f.Fields {
		out[i].Column = field.Name
		if out[i].Null = isNull(b.Column(i), row); !out[i].Null {
			out[i].Text = string(rowtext.AppendText(nil, b.Column(i), row))
		}
	}
	return out
}

// pair makes examples of the rows: those of the left side in order with their other side, and then what only the right side has.
func (f *finding) pair(left, right []found) {
	used := make([]bool, len(right))
	add := func(e Example) {
		if len(f.out.Examples) < f.Examples {
			f.out.Examples = append(f.out.Examples, e)
		}
	}
	for _, l := range left {
		e := Example{Left: &l.place, Key: f.keyCells(l.cells)}
		at := f.partner(l, right, used)
		if at >= 0 {
			used[at] = true
			e.Right, e.Guessed = &right[at].place, f.Key == nil
			for i := range f.Fields {
				if a, b := l.cells[i], right[at].cells[i]; a != b {
					e.Cells = append(e.Cells, Pair{f.Fields[i].Name, a, b})
				}
			}
		}
		add(e)
	}
	for i, r := range right {
		if !used[i] {
			add(Example{Right: &r.place, Key: f.keyCells(r.cells)})
		}
	}
}

// partner finds the other side of a row: that with its key, or else one that has all values but a few.
func (f *finding) partner(l found, right []found, used []bool) int {
	best, differing := -1, max(1, len(f.Fields)/3)+1
	for i, r := range right {
		switch {
		case used[i]:
		case f.Key != nil && r.key == l.key:
			return i
		case f.Key == nil:
			n := 0
			for c := range l.cells {
				if l.cells[c] != r.cells[c] {
					n++
				}
			}
			if n < differing && n < len(f.Fields) {
				best, differing = i, n
			}
		}
	}
	return best
}

// keyCells are the values of the key, or all where there is none.
func (f *finding) keyCells(cells []Cell) []Cell {
	if f.Key == nil {
		return cells
	}
	out := make([]Cell, len(f.Key))
	for i, at := range f.Key {
		out[i] = cells[at]
	}
	return out
}
