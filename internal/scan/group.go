package scan

import (
	"context"
	"errors"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/layout"
	"trevak/internal/shape"
)

// grouper brings rows together, from block to block of one object: consecutive ones, of which it keeps the group that may go
// on, or, where there is an order, those that are next to each other in that.
type grouper struct {
	plan    *shape.Plan
	batch   arrow.RecordBatch // nil without any
	origins []origin
	all     *gathered // nil where rows are taken as they stand
}

func newGrouper(p *shape.Plan, o layout.Options) *grouper {
	g := &grouper{plan: p}
	if rows, order := p.Arranges(); len(order) > 0 {
		g.all = newGathered(rows, order, o)
	}
	return g
}

// add takes the rows of a block of so many records, and returns a row for each group that is complete, and where it came of.
func (g *grouper) add(ctx context.Context, rows *Rows) (arrow.RecordBatch, []origin, error) {
	f := rows.shaped
	records := rows.Records + int64(len(rows.Problems))
	if g.all == nil {
		return g.follow(ctx, f.Batch, f.allOrigins(), records)
	}
	if err := g.all.add(ctx, f.Batch, f.allOrigins(), records); err != nil {
		return nil, nil, err
	}
	return g.together(ctx, f.Batch.NewSlice(0, 0), nil, nil)
}

// finish hands on a row for each group that is left of an object, and where it came of.
func (g *grouper) finish(ctx context.Context, emit func(arrow.RecordBatch, []origin) error) error {
	if g.all != nil {
		err := g.all.each(ctx, func(batch arrow.RecordBatch, origins []origin) error {
			made, of, err := g.follow(ctx, batch, origins, 0)
			if err != nil || made.NumRows() == 0 {
				return err
			}
			return emit(made, of)
		})
		if err != nil {
			return err
		}
	}
	if g.batch == nil {
		return nil
	}
	batch, origins := g.batch, g.origins
	g.batch, g.origins = nil, nil
	made, of, err := g.together(ctx, batch, origins, []int{int(batch.NumRows())})
	if err != nil {
		return err
	}
	return emit(made, of)
}

// follow takes rows that follow those before, of so many records.
func (g *grouper) follow(ctx context.Context, batch arrow.RecordBatch, origins []origin, records int64) (arrow.RecordBatch, []origin,
	error) {
	if g.batch != nil {
		columns := make([]arrow.Array, batch.NumCols())
		for i := range columns {
			var err error
			if columns[i], err = array.Concatenate([]arrow.Array{g.batch.Column(i), batch.Column(i)},
				memory.DefaultAllocator); err != nil {
				return nil, nil, err
			}
		}
		batch = array.NewRecordBatch(batch.Schema(), columns, g.batch.NumRows()+batch.NumRows())
		origins = append(g.origins, origins...)
	}
	ends := g.plan.Ends(batch)
	cut := 0
	if len(ends) > 1 {
		cut = ends[len(ends)-2]
	}
	g.batch, g.origins = nil, nil
	if len(ends) > 0 {
		g.batch = batch.NewSlice(int64(cut), batch.NumRows())
		for _, o := range origins[cut:] {
			// From the block to come on, records are counted from 0 again.
			o.rank, o.start = o.rank-records, 0
			g.origins = append(g.origins, o)
		}
		ends = ends[:len(ends)-1]
	}
	return g.together(ctx, batch.NewSlice(0, int64(cut)), origins, ends)
}

// together makes a row of each group, which comes of the record of its first row; what did not fit of any is told with it.
func (g *grouper) together(ctx context.Context, batch arrow.RecordBatch, origins []origin, ends []int) (arrow.RecordBatch, []origin,
	error) {
	out, start := make([]origin, len(ends)), 0
	for i, end := range ends {
		out[i] = origins[start]
		for _, o := range origins[start+1 : end] {
			out[i].misfits = append(out[i].misfits[:len(out[i].misfits):len(out[i].misfits)], o.misfits...)
		}
		start = end
	}
	made, err := g.plan.Group(ctx, batch, ends)
	return made, out, err
}

// close gives up what waits.
func (g *grouper) close() {
	if g.all != nil {
		g.all.rows.Close()
	}
}

// readGroups reads rows of which some are brought together.
func (s *Shaped) readGroups(ctx context.Context, r Request, take func(*Rows) error) error {
	r.columns(s)
	g, f, each := newGrouper(s.Form, s.Sort.Within(r.Budget.Memory)), newRefitter(s, r, false), r.each(ctx)
	defer g.close()
	below := s.request(r)
	below.Coded = false
	below.Each = func() func(*Rows) error {
		return func(rows *Rows) error {
			// What does not fit the columns is only known when rows are brought together.
			rows.keep = true
			return s.shape(ctx, rows)
		}
	}
	done := false
	hand := func(rows *Rows, batch arrow.RecordBatch, origins []origin) error {
		if err := f.fit(ctx, rows, batch, func(row int) origin { return origins[row] }); err != nil {
			return err
		}
		if err := each(rows); err != nil {
			return err
		}
		err := take(rows)
		done = done || errors.Is(err, io.EOF)
		return err
	}
	var last *Rows
	finish := func() error {
		return g.finish(ctx, func(batch arrow.RecordBatch, origins []origin) error {
			block := last.Block
			block.Data = nil
			return hand(&Rows{Block: block, Numbered: last.Numbered, Before: last.Before}, batch, origins)
		})
	}
	err := s.Base.Read(ctx, below, func(rows *Rows) error {
		if last != nil && rows.Block.Object != last.Block.Object {
			if err := finish(); err != nil {
				return err
			}
		}
		last = &Rows{Block: rows.Block, Numbered: rows.Numbered, Before: rows.Before}
		if rows.Widens() || rows.Batch == nil {
			return take(rows)
		}
		batch, origins, err := g.add(ctx, rows)
		if err != nil {
			return err
		}
		return hand(rows, batch, origins)
	})
	if err != nil || last == nil || done {
		return err
	}
	return ended(finish())
}
