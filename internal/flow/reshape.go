package flow

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/schema"
	"trevak/internal/shape"
)

// reshaped is how the rows of a source get another form. To what comes after, the source then is one of columns with a schema of its own, as columnar
// files are.
type reshaped struct {
	base      *Source
	reading   Reading // of the records as they are
	inference *Inference
	plan      *shape.Plan
}

// survey finds the objects of a source, and settles the form that its rows get.
func survey(ctx context.Context, r *Reading, b Budget) (*Source, error) {
	s, err := Survey(ctx, *r)
	if err != nil || r.Shape.Empty() {
		return s, err
	}
	if s.columnar() {
		return nil, fault.New(fault.Usage, "the rows of columnar files cannot be given another form yet").Try("leave --nested, --unnest, --nest, --where and --derive out")
	}
	base := *s
	base.Inputs = slices.Clone(s.Inputs)
	c := r.Corrections
	// What is said of columns in the source holds before the rows change, names and keys after.
	first, after := c, schema.Corrections{Renames: c.Renames, Required: c.Required, Key: c.Key, Names: c.Names}
	first.Renames, first.Required, first.Key = nil, nil, nil
	s.reshaped = &reshaped{base: &base, reading: *r}
	s.reshaped.reading.Corrections = first
	r.Corrections = after
	return s, s.reshape(ctx, *r, b, false)
}

// reshape settles the form of the rows, after a look at some records or, where that does not do, at all.
func (s *Source) reshape(ctx context.Context, r Reading, b Budget, whole bool) (err error) {
	f := s.reshaped
	if whole {
		f.inference, err = f.base.infer(ctx, f.reading, b, true, false)
	} else {
		f.inference, err = f.base.inferFirst(ctx, f.reading, b)
	}
	if err != nil {
		return err
	}
	if err = f.inference.allMatched(); err == nil {
		if f.inference.Whole {
			settleUnseen(&f.inference.Schema)
		}
		f.plan, err = shape.New(f.inference.Schema, r.Shape)
	}
	if err != nil && !f.inference.Whole {
		// What is missing may be so only in the records that were looked at.
		return s.reshape(ctx, r, b, true)
	}
	if err != nil {
		return err
	}
	names := make([]string, len(f.plan.Schema.Fields))
	for i, field := range f.plan.Schema.Fields {
		names[i] = field.Name
	}
	for i := range s.Inputs {
		s.Inputs[i].Own, s.Inputs[i].Rules.Names = f.plan.Schema.Clone(), names
	}
	return nil
}

// OfRecords returns the inference of the records that rows of another form come of; without one, the inference itself.
func (i *Inference) OfRecords() *Inference {
	if f := i.Source.reshaped; f != nil {
		return f.inference
	}
	return i
}

// mayWiden reports whether another look at the source, at all of it, may show what the first did not.
func (s *Source) mayWiden() bool { return s.reshaped != nil && !s.reshaped.inference.Whole }

// asRead returns an object as its records are read, whatever form its rows get.
func (s *Source) asRead(object int) Input {
	if s.reshaped != nil {
		return s.reshaped.base.Inputs[object]
	}
	return s.Inputs[object]
}

// former is one worker that gives rows their form.
type former struct {
	*fitter
	ctx  context.Context
	form *reshaped
}

func (s *Source) newFormer(ctx context.Context, keepRaw bool) *former {
	f := s.reshaped
	columns := newColumnFields(f.base, f.inference.Schema, schema.SafeNames, true)
	out := output{schema: f.inference.Schema, unknown: fit.UnknownWidens}
	if !f.inference.Whole {
		out.claims = f.inference.sample.claims
	} else {
		out.unknown = fit.UnknownKept
	}
	former := &former{newFitter(f.base, out, columns), ctx, f}
	former.keepRaw = keepRaw
	return former
}

// formed is what became of a block in the new form.
type formed struct {
	fitted
	shape.Result
	// starts are the offsets of the records in the block that the rows of the old form are.
	starts []int
}

// work fits a block and changes the form of its rows.
func (f *former) work(block *parse.Block) (formed, error) {
	old, err := f.fitter.work(block)
	if err != nil || old.Batch == nil {
		return formed{fitted: old}, err
	}
	result, err := f.form.plan.Apply(f.ctx, f.form.inference.Schema.Fields, old.Batch)
	if err != nil {
		return formed{}, evaluation(err, f.source.Inputs[block.Object].Location)
	}
	return formed{old, result, f.starts(old)}, nil
}

// starts returns where in the block the records begin that rows are.
func (f *former) starts(old fitted) []int {
	starts := make([]int, old.Batch.NumRows())
	for row := range starts {
		record := row
		if old.ranks != nil {
			record = int(old.ranks[row])
		}
		starts[row] = f.recordStart(record)
	}
	return starts
}

// evaluation says in which object an expression has no value.
func evaluation(err error, location string) error {
	var at *expr.Error
	if errors.As(err, &at) {
		return fault.New(fault.Input, "%s", err).In(location)
	}
	return fmt.Errorf("changing the form of the rows: %w", err)
}

// origin returns the row of the old form that a row came of.
func (f *formed) origin(row int) int {
	if f.Origin == nil {
		return row
	}
	return int(f.Origin[row])
}

// formed fits rows of the new form to the columns that are written.
func (w *writing) formed(ctx context.Context, fitter *fit.Batches, block *parse.Block, f formed) (fitted, error) {
	if f.fitted.Batch == nil {
		return f.fitted, nil
	}
	batch, object := f.Result.Batch, block.Object
	result, err := fitter.Fit(ctx, batch, w.columns.fields[object], w.columns.kept[object])
	if err != nil {
		return fitted{}, fault.New(fault.Schema, "%s", err).In(w.source.Inputs[object].Location).Try("leave the column out of --required and --key")
	}
	out := f.fitted
	if len(result.Misfits) > 0 && out.raw == nil {
		out.raw = bytes.Clone(block.Data)
	}
	records := f.fitted.Batch.NumRows()
	out.formed, out.records, out.filtered = true, records, records-int64(f.Kept)
	rows := int(batch.NumRows())
	ranks := make([]int64, rows)
	for row := range ranks {
		ranks[row] = int64(f.origin(row))
		if f.ranks != nil {
			ranks[row] = f.ranks[f.origin(row)]
		}
	}
	if f.raws != nil {
		out.raws = make([]string, rows)
		for row := range out.raws {
			out.raws[row] = f.raws[f.origin(row)]
		}
	}
	for i := range result.Misfits {
		result.Misfits[i].Start = f.starts[f.origin(result.Misfits[i].Row)]
	}
	out.misfits = f.misfitsOf(result.Misfits, rows)
	result.Problems, result.Tokens, result.Folded = f.Problems, f.Tokens, f.Folded
	result.Misfits = append(slices.Clone(f.Misfits), result.Misfits...)
	out.Result, out.ranks = result, ranks
	return out, nil
}

// misfitsOf writes for each row of the new form what did not fit, in the old form and in the new one.
func (f *formed) misfitsOf(list []fit.Misfit, rows int) []string {
	if len(list) == 0 && f.misfits == nil {
		return nil
	}
	byOrigin := map[int][]fit.Misfit{}
	for _, m := range f.Misfits {
		byOrigin[m.Row] = append(byOrigin[m.Row], m)
	}
	all := slices.Clone(list)
	for row := range rows {
		for _, m := range byOrigin[f.origin(row)] {
			m.Row = row
			all = append(all, m)
		}
	}
	slices.SortStableFunc(all, func(a, b fit.Misfit) int { return a.Row - b.Row })
	return misfitTexts(all, rows)
}

// formedBlocks writes the rows of a source in their new form.
func (w *writing) formedBlocks(ctx context.Context, p pass) error {
	p.source = w.source.reshaped.base
	return process(ctx, p, func() func(*parse.Block) (fitted, error) {
		former, fitter := w.source.newFormer(ctx, w.out.keepsRaw()), fit.NewBatches(w.out.schema)
		return func(block *parse.Block) (fitted, error) {
			f, err := former.work(block)
			if err != nil {
				return fitted{}, err
			}
			return w.formed(ctx, fitter, block, f)
		}
	}, func(block parse.Block, f fitted) error { return w.take(ctx, block, f) })
}

// eachFormed hands over the rows of a source in their new form, block by block and in order.
func (s *Source) eachFormed(ctx context.Context, b Budget, visit func(object int, f formed) error) error {
	p := s.reshaped.base.pass("inferring", b)
	return process(ctx, p, func() func(*parse.Block) (formed, error) {
		return s.newFormer(ctx, false).work
	}, func(block parse.Block, f formed) error {
		if f.widens() || f.fitted.Batch == nil {
			return errWider
		}
		return visit(block.Object, f)
	})
}

// wholly does something with a source whose form may turn out to rest on too few records, and does it again after a look at all.
func (s *Source) wholly(ctx context.Context, r Reading, b Budget, do func() error) error {
	err := do()
	if errors.Is(err, errWider) && s.mayWiden() {
		if err = s.reshape(ctx, r, b, true); err == nil {
			err = do()
		}
	}
	return err
}

// formedRows hands over the first rows of a source in their new form.
func (s *Source) formedRows(ctx context.Context, n int, visit func(arrow.RecordBatch) error) error {
	err := s.eachFormed(ctx, Budget{Workers: 1}, func(_ int, f formed) error {
		if n -= int(f.Result.Batch.NumRows()); n <= 0 {
			return errors.Join(visit(f.Result.Batch), errEnough)
		}
		return visit(f.Result.Batch)
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// mostMultiplied is how many rows a record may become, on average, where several lists multiply and nothing was confirmed.
const mostMultiplied = 10

// foreseeRows tells how many rows lists that multiply make, before any is made, and refuses very many that were not confirmed.
func (s *Source) foreseeRows(ctx context.Context, r Reading, b Budget) error {
	if s.reshaped == nil || !s.reshaped.plan.Multiplies() {
		return nil
	}
	var before, after, most int64
	var where string
	err := s.wholly(ctx, r, b, func() error {
		before, after, most = 0, 0, -1
		return s.eachCounted(ctx, b, func(block *parse.Block, counts []int64, start func(row int) int) {
			for row, n := range counts {
				if n < 0 {
					continue
				}
				before++
				if after += n; n > most {
					most, where = n, fmt.Sprintf("%s:%d", s.Inputs[block.Object].Location, block.LineAt(start(row)))
				}
			}
		})
	})
	if err != nil || before == 0 {
		return err
	}
	text := fmt.Sprintf("lists that have nothing to do with each other make %s of %s, at most %s of one record (%s)", plural(after, true, "row", "rows"),
		plural(before, true, "record", "records"), plural(most, true, "row", "rows"), where)
	if after > mostMultiplied*before && !r.Confirmed {
		return fault.New(fault.Usage, "%s", text).Try("go through the lists side by side with --unnest a,b, or confirm it with --confirm-multiply")
	}
	if b.Warn != nil {
		b.Warn(text)
	}
	return nil
}

// counted is how many rows come of each of the old form, in a block.
type counted struct {
	fitted
	counts []int64
	starts []int
}

// eachCounted hands over how many rows come of each record.
func (s *Source) eachCounted(ctx context.Context, b Budget, visit func(block *parse.Block, counts []int64, start func(row int) int)) error {
	p := s.reshaped.base.pass("counting", b)
	return process(ctx, p, func() func(*parse.Block) (counted, error) {
		f := s.newFormer(ctx, false)
		return func(block *parse.Block) (counted, error) {
			old, err := f.fitter.work(block)
			if err != nil || old.Batch == nil {
				return counted{fitted: old}, err
			}
			counts, err := f.form.plan.Count(ctx, f.form.inference.Schema.Fields, old.Batch)
			if err != nil {
				return counted{}, evaluation(err, f.source.Inputs[block.Object].Location)
			}
			// The block's data is gone when the counts are looked at.
			old.raw = bytes.Clone(block.Data)
			return counted{old, counts, f.starts(old)}, nil
		}
	}, func(block parse.Block, c counted) error {
		if c.widens() || c.Batch == nil {
			return errWider
		}
		block.Data = c.raw
		visit(&block, c.counts, func(row int) int { return c.starts[row] })
		return nil
	})
}
