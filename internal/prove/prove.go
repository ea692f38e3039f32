// Package prove holds two sides of rows against each other, whatever order they come in, and finds the rows and values that differ.
//
// What comes in are two sides with the same columns, each of which can be read again; what goes out are counts and sums of both, by
// column, and the first rows that differ, with their places.
package prove

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"
	"golang.org/x/sync/errgroup"

	"trevak/internal/schema"
)

// Side is rows that can be read again and again, and are the same each time. Their columns are the same as those of the other side.
type Side interface {
	// Read hands over the rows, with what tells the place of each. The batch is valid until take returns.
	Read(ctx context.Context, take func(Rows) error) error
}

// Rows are some rows of a side.
type Rows struct {
	Batch arrow.RecordBatch
	// Object tells which object the rows came of, as the side numbers them; Place tells it of a single row, with the row's number there,
	// from 1.
	Object func(row int) int64
	Place  func(row int) Place
	// Foreign reports whether a row is of an object that the other side does not have, or on the left that the row of its key was to go;
	// nil where none is.
	Foreign func(row int) bool
}

// Parted is a side that can be read in parts, side by side.
type Parted interface {
	Side
	// Parts divides the side into about n sides, in its order.
	Parts(ctx context.Context, n int) ([]Side, error)
}

// Place is where a row is: the number of its record in an object, from 1, whatever the side takes for objects.
type Place struct {
	Object int64
	Record int64
}

// Request is what is to be compared.
type Request struct {
	Fields []schema.Field
	// Key is the columns that tell rows from each other, nil for all: then a row that was altered is one that is missing and one more.
	Key []int
	// Latest says that the right side has one row of each key, of whatever object came last. AllLeft and AllRight are the sides with the
	// rows that are foreign, nil for the sides themselves.
	Latest            bool
	AllLeft, AllRight Side
	// Examples is how many of the rows that differ are wanted.
	Examples int
	Workers  int
}

// Outcome is what a comparison came to: of the one side, Left, and of the other, Right.
type Outcome struct {
	Equal       bool
	Left, Right *Digest
	// OnlyLeft and OnlyRight are how many rows the other side does not have, and Altered how many have the same key there with other
	// values.
	OnlyLeft, OnlyRight, Altered int64
	// Elsewhere rows of the left side are there as rows of another object, and Superseded have a key that another row came after with.
	Elsewhere, Superseded int64
	// Examples are the first of them, in the order of the left side and then of the right one.
	Examples []Example
}

// Example is a row that differs.
type Example struct {
	// Left and Right are its places, nil where a side does not have it.
	Left, Right *Place
	// Key is the values of the key, or of all columns where there is none.
	Key []Cell
	// Cells are the values that differ, of a row that both sides have.
	Cells []Pair
	// Guessed says that the two rows have no key in common, but are alike but for the cells.
	Guessed bool
}

// Cell is a value of a column as text.
type Cell struct {
	Column string
	Text   string
	Null   bool
}

// Pair is a value of a column on both sides.
type Pair struct {
	Column      string
	Left, Right Cell
}

// Compare holds two sides against each other. Where they differ it reads them again to find the rows.
func Compare(ctx context.Context, left, right Side, r Request) (*Outcome, error) {
	l, err := Sum(ctx, left, r)
	if err != nil {
		return nil, err
	}
	rt, err := Sum(ctx, right, r)
	if err != nil {
		return nil, err
	}
	return Settle(ctx, left, right, l, rt, r)
}

// Sum makes the digest of a side.
func Sum(ctx context.Context, s Side, r Request) (*Digest, error) {
	if p, ok := s.(Parted); ok && r.Workers > 1 {
		return sumParts(ctx, p, r)
	}
	d := NewDigest(r.Fields, r.Key, r.Workers)
	return d, d.addAll(ctx, s)
}

// addAll takes all rows of a side.
func (d *Digest) addAll(ctx context.Context, s Side) error {
	return s.Read(ctx, func(rows Rows) error { return d.AddRows(ctx, rows) })
}

// AddRows is Add for rows that tell their objects.
func (d *Digest) AddRows(ctx context.Context, rows Rows) error {
	if err := d.Add(ctx, rows.Batch); err != nil || rows.Object == nil {
		return err
	}
	// Rows of an object come together mostly.
	last, n := int64(0), int64(0)
	for i := range int(rows.Batch.NumRows()) {
		if of := rows.Object(i); of != last {
			d.Objects[last] += n
			last, n = of, 0
		}
		n++
	}
	d.Objects[last] += n
	return nil
}

// sumParts makes the digest of parts of a side, some at a time.
func sumParts(ctx context.Context, p Parted, r Request) (*Digest, error) {
	parts, err := p.Parts(ctx, r.Workers)
	if err != nil {
		return nil, err
	}
	workers := r.Workers
	r.Workers = 1
	digests := make([]*Digest, workers)
	next := make(chan Side)
	work, ctx := errgroup.WithContext(ctx)
	for i := range digests {
		digests[i] = NewDigest(r.Fields, r.Key, 1)
		work.Go(func() error {
			for part := range next {
				if err := digests[i].addAll(ctx, part); err != nil {
					return err
				}
			}
			return nil
		})
	}
	work.Go(func() error {
		defer close(next)
		for _, part := range parts {
			select {
			case next <- part:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	if err := work.Wait(); err != nil {
		return nil, err
	}
	for _, d := range digests[1:] {
		digests[0].merge(d)
	}
	return digests[0], nil
}

// Settle is Compare for sides whose digests are known.
func Settle(ctx context.Context, left, right Side, l, rt *Digest, r Request) (*Outcome, error) {
	out := &Outcome{Left: l, Right: rt, Equal: l.Equal(rt)}
	if out.Equal {
		return out, nil
	}
	if r.AllLeft != nil {
		left = r.AllLeft
	}
	if r.AllRight != nil {
		right = r.AllRight
	}
	return out, find(ctx, left, right, out, r)
}
