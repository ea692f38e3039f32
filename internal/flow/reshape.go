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
	"trevak/internal/layout"
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
	if err != nil || r.Shape.Empty() && !r.Formed {
		return s, err
	}
	if s.columnar() && r.Shape.Empty() {
		return nil, fault.New(fault.Usage, "the rows of columnar files are shown as they are").Try("leave out what is said of columns, or convert the files first")
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

// newFormer prepares a worker. Where coded is set, its rows may have columns of Arrow dictionaries.
func (s *Source) newFormer(ctx context.Context, keepRaw, coded bool) *former {
	f := s.reshaped
	columns := newColumnFields(f.base, f.inference.Schema, schema.SafeNames, true)
	out := output{schema: f.inference.Schema, unknown: fit.UnknownWidens, straight: coded}
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
		return formed{}, evaluation(err, f.source.Inputs[block.Object].Location, func(row int) int64 { return block.LineAt(f.starts(old)[row]) })
	}
	old.records = old.Batch.NumRows()
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

// evaluation says of which record an expression has no value.
func evaluation(err error, location string, line func(row int) int64) error {
	var at *expr.Error
	if !errors.As(err, &at) {
		return fmt.Errorf("changing the form of the rows: %w", err)
	}
	e := fault.New(fault.Input, "%s", err).In(location)
	if at.Row >= 0 {
		e.Line = line(at.Row)
	}
	return e
}

// rowOrigin is the record that a row came of: its number in the block, which is below 0 for one of an earlier block, where it begins, what of it did
// not fit, and its text where that is kept.
type rowOrigin struct {
	rank    int64
	start   int
	misfits []fit.Misfit
	raw     string
}

// origins tells of each row of the new form where it came of.
func (f *formed) origins() func(row int) rowOrigin {
	byRow := map[int][]fit.Misfit{}
	for _, m := range f.Misfits {
		byRow[m.Row] = append(byRow[m.Row], m)
	}
	return func(row int) (o rowOrigin) {
		from := row
		if f.Origin != nil {
			from = int(f.Origin[row])
		}
		o.rank, o.start = int64(from), f.starts[from]
		if len(byRow) > 0 {
			o.misfits = byRow[from]
		}
		if f.ranks != nil {
			o.rank = f.ranks[from]
		}
		if f.raws != nil {
			o.raw = f.raws[from]
		}
		return o
	}
}

// allOrigins lists where each row of the new form came of.
func (f *formed) allOrigins() []rowOrigin {
	origin, out := f.origins(), make([]rowOrigin, f.Result.Batch.NumRows())
	for row := range out {
		out[row] = origin(row)
	}
	return out
}

// formed fits rows of the new form to the columns that are written, origins being where they came of; of is what became of the block that they are told
// with.
func (w *writing) formed(ctx context.Context, fitter *fit.Batches, block *parse.Block, of formed, batch arrow.RecordBatch, origins func(row int) rowOrigin) (fitted, error) {
	result, err := fitter.Fit(ctx, batch, w.columns.fields[block.Object], w.columns.kept[block.Object])
	if err != nil {
		return fitted{}, fault.New(fault.Schema, "%s", err).In(w.source.Inputs[block.Object].Location).Try("leave the column out of --required and --key")
	}
	out := of.fitted
	if len(result.Misfits) > 0 && out.raw == nil {
		out.raw = bytes.Clone(block.Data)
	}
	out.formed, out.filtered, out.elements = true, out.records-int64(of.Kept), of.Elements
	rows := int(batch.NumRows())
	out.ranks, out.raws = nil, nil
	told := rows // of which rows it is told where they came of
	switch {
	case w.out.keepsRaw():
		out.ranks, out.raws = make([]int64, rows), make([]string, rows)
	case len(w.fill.extras)+len(of.Misfits) > 0:
		out.ranks = make([]int64, rows)
	default:
		told = 0
	}
	misfits := slices.Clone(result.Misfits)
	for row := range told {
		o := origins(row)
		out.ranks[row] = o.rank
		if out.raws != nil {
			out.raws[row] = o.raw
		}
		for _, m := range o.misfits {
			m.Row = row
			misfits = append(misfits, m)
		}
	}
	out.misfits = nil
	if len(misfits) > 0 {
		slices.SortStableFunc(misfits, func(a, b fit.Misfit) int { return a.Row - b.Row })
		out.misfits = misfitTexts(misfits, rows)
	}
	for i := range result.Misfits {
		result.Misfits[i].Start = origins(result.Misfits[i].Row).start
	}
	result.Problems, result.Tokens, result.Folded = of.Problems, of.Tokens, of.Folded
	result.Misfits = append(slices.Clone(of.Misfits), result.Misfits...)
	out.Result = result
	return out, nil
}

// formedBlocks writes the rows of a source in their new form.
func (w *writing) formedBlocks(ctx context.Context, p pass) error {
	p.source = w.source.reshaped.base
	if w.source.reshaped.plan.Groups() {
		return w.groupedBlocks(ctx, p)
	}
	if p.source.columnar() {
		fitter := fit.NewBatches(w.out.schema, false)
		w.report.BytesUnpacked = p.source.Bytes
		return w.source.eachForm(ctx, p, false, func(block parse.Block, f formed) error {
			rows, err := w.formed(ctx, fitter, &block, f, f.Result.Batch, f.origins())
			if err != nil {
				return err
			}
			return w.take(ctx, block, rows)
		})
	}
	coded := w.out.straight && len(w.out.options.Columnar.Bloom) == 0 && w.source.reshaped.plan.KeepsDictionaries()
	return process(ctx, p, func() func(*parse.Block) (fitted, error) {
		former, fitter := w.source.newFormer(ctx, w.out.keepsRaw(), coded), fit.NewBatches(w.out.schema, coded)
		return func(block *parse.Block) (fitted, error) {
			f, err := former.work(block)
			if err != nil || f.fitted.Batch == nil {
				return f.fitted, err
			}
			rows, err := w.formed(ctx, fitter, block, f, f.Result.Batch, f.origins())
			rows.Follow(&f.fitted.Result)
			return rows, err
		}
	}, func(block parse.Block, f fitted) error { return w.take(ctx, block, f) })
}

// eachForm hands over what becomes of the blocks of a source, or of the batches of its columnar files, in order.
func (s *Source) eachForm(ctx context.Context, p pass, keepRaw bool, visit func(parse.Block, formed) error) error {
	f := s.reshaped
	if f.base.columnar() {
		return f.eachBatch(ctx, p, func(i int, old fitted) error {
			result, err := f.plan.Apply(ctx, f.inference.Schema.Fields, old.Batch)
			if err != nil {
				return evaluation(err, f.base.Inputs[i].Location, func(row int) int64 { return old.before + int64(row) + 1 })
			}
			return visit(parse.Block{Object: i}, formed{old, result, make([]int, old.records)})
		})
	}
	return process(ctx, p, func() func(*parse.Block) (formed, error) {
		former := s.newFormer(ctx, keepRaw, false)
		return func(block *parse.Block) (formed, error) {
			formed, err := former.work(block)
			if keepsBlock := f.plan.Groups(); keepsBlock && formed.raw == nil {
				// What does not fit the columns is only known when rows are brought together.
				formed.raw = bytes.Clone(block.Data)
			}
			return formed, err
		}
	}, visit)
}

// eachBatch hands over the rows of columnar files, under the schema that all of them have together.
func (f *reshaped) eachBatch(ctx context.Context, p pass, visit func(object int, old fitted) error) error {
	columns, fitter := newColumnFields(f.base, f.inference.Schema, schema.SafeNames, false), fit.NewBatches(f.inference.Schema, false)
	for i, in := range f.base.Inputs {
		file, err := in.openColumns(ctx)
		if err != nil {
			return err
		}
		row := int64(0)
		err = file.Batches(ctx, func(b arrow.RecordBatch) error {
			b.Retain()
			result, err := fitter.Fit(ctx, b, columns.fields[i], columns.kept[i])
			if err != nil {
				return fault.New(fault.Schema, "%s", err).In(in.Location)
			}
			old := fitted{Result: result, rows: true, before: row, records: b.NumRows()}
			row += b.NumRows()
			return visit(i, old)
		})
		file.Close()
		if err == nil {
			err = in.Unchanged(ctx)
		}
		if err == nil && p.hashes != nil {
			p.hashes[i], err = hashOf(ctx, in)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// eachFormed hands over the rows of a source in their new form, block by block and in order.
func (s *Source) eachFormed(ctx context.Context, b Budget, visit func(object int, batch arrow.RecordBatch) error) error {
	p := s.reshaped.base.pass("inferring", b)
	g := newRegrouper(s.reshaped.plan, layout.DefaultOptions)
	defer g.close()
	object := 0
	finish := func() error {
		return g.finish(ctx, func(batch arrow.RecordBatch, _ []rowOrigin) error { return visit(object, batch) })
	}
	err := s.eachForm(ctx, p, false, func(block parse.Block, f formed) error {
		if f.widens() || f.fitted.Batch == nil {
			return wider(s.reshaped.base.Inputs[block.Object], &block, f.fitted)
		}
		batch := f.Result.Batch
		if g.plan.Groups() {
			if block.Object != object {
				if err := finish(); err != nil {
					return err
				}
			}
			var err error
			if batch, _, err = g.add(ctx, f); err != nil {
				return err
			}
		}
		object = block.Object
		return visit(object, batch)
	})
	if err != nil {
		return err
	}
	return finish()
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
	err := s.eachFormed(ctx, Budget{Workers: 1}, func(_ int, batch arrow.RecordBatch) error {
		if n -= int(batch.NumRows()); n <= 0 {
			return errors.Join(visit(batch), errEnough)
		}
		return visit(batch)
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
	if f := s.reshaped; f.base.columnar() {
		return f.eachBatch(ctx, p, func(i int, old fitted) error {
			counts, err := f.plan.Count(ctx, f.inference.Schema.Fields, old.Batch)
			if err != nil {
				return evaluation(err, f.base.Inputs[i].Location, func(row int) int64 { return old.before + int64(row) + 1 })
			}
			visit(&parse.Block{Object: i, Line: old.before + 1}, counts, func(int) int { return 0 })
			return nil
		})
	}
	return process(ctx, p, func() func(*parse.Block) (counted, error) {
		f := s.newFormer(ctx, false, false)
		return func(block *parse.Block) (counted, error) {
			old, err := f.fitter.work(block)
			if err != nil || old.Batch == nil {
				return counted{fitted: old}, err
			}
			counts, err := f.form.plan.Count(ctx, f.form.inference.Schema.Fields, old.Batch)
			if err != nil {
				return counted{}, evaluation(err, f.source.Inputs[block.Object].Location, func(row int) int64 { return block.LineAt(f.starts(old)[row]) })
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
