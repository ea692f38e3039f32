package flow

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/fit"
	"trevak/internal/layout"
	"trevak/internal/parse"
	"trevak/internal/shape"
)

// regrouper brings rows together, from block to block of one object: consecutive ones, of which it keeps the group that may go on, or, where there is an
// order, those that are next to each other in that.
type regrouper struct {
	plan    *shape.Plan
	batch   arrow.RecordBatch // nil without any
	origins []rowOrigin
	apart   *apart // nil where rows are taken as they stand
}

func newRegrouper(p *shape.Plan, o layout.Options) *regrouper {
	g := &regrouper{plan: p}
	if rows, order := p.Arranges(); len(order) > 0 {
		g.apart = newApart(rows, order, o)
	}
	return g
}

// add takes the rows of a block of so many records, and returns a row for each group that is complete, and where it came of.
func (g *regrouper) add(ctx context.Context, f formed) (arrow.RecordBatch, []rowOrigin, error) {
	records := f.records + int64(len(f.Problems))
	if g.apart == nil {
		return g.follow(ctx, f.Result.Batch, f.allOrigins(), records)
	}
	if err := g.apart.add(ctx, f.Result.Batch, f.allOrigins(), records); err != nil {
		return nil, nil, err
	}
	return g.together(ctx, f.Result.Batch.NewSlice(0, 0), nil, nil)
}

// finish hands on a row for each group that is left of an object, and where it came of.
func (g *regrouper) finish(ctx context.Context, emit func(arrow.RecordBatch, []rowOrigin) error) error {
	if g.apart != nil {
		err := g.apart.each(ctx, func(batch arrow.RecordBatch, origins []rowOrigin) error {
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
func (g *regrouper) follow(ctx context.Context, batch arrow.RecordBatch, origins []rowOrigin, records int64) (arrow.RecordBatch, []rowOrigin, error) {
	if g.batch != nil {
		columns := make([]arrow.Array, batch.NumCols())
		for i := range columns {
			var err error
			if columns[i], err = array.Concatenate([]arrow.Array{g.batch.Column(i), batch.Column(i)}, memory.DefaultAllocator); err != nil {
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
func (g *regrouper) together(ctx context.Context, batch arrow.RecordBatch, origins []rowOrigin, ends []int) (arrow.RecordBatch, []rowOrigin, error) {
	out, start := make([]rowOrigin, len(ends)), 0
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
func (g *regrouper) close() {
	if g.apart != nil {
		g.apart.rows.Close()
	}
}

// groupedBlocks writes the rows of a source where some are brought together.
func (w *writing) groupedBlocks(ctx context.Context, p pass) error {
	g, fitter := newRegrouper(w.source.reshaped.plan, w.out.options), fit.NewBatches(w.out.schema, false)
	defer g.close()
	var last parse.Block
	finish := func() error {
		return g.finish(ctx, func(batch arrow.RecordBatch, origins []rowOrigin) error {
			last.Data = nil
			f, err := w.formed(ctx, fitter, &last, formed{}, batch, func(row int) rowOrigin { return origins[row] })
			if err != nil {
				return err
			}
			return w.take(ctx, last, f)
		})
	}
	err := w.source.eachForm(ctx, p, w.out.keepsRaw(), func(block parse.Block, f formed) error {
		if block.Object != last.Object {
			if err := finish(); err != nil {
				return err
			}
		}
		last = block
		if f.widens() || f.fitted.Batch == nil {
			return w.take(ctx, block, f.fitted)
		}
		batch, origins, err := g.add(ctx, f)
		if err != nil {
			return err
		}
		block.Data = f.raw
		rows, err := w.formed(ctx, fitter, &block, f, batch, func(row int) rowOrigin { return origins[row] })
		if err != nil {
			return err
		}
		return w.take(ctx, block, rows)
	})
	if err != nil {
		return err
	}
	return finish()
}
