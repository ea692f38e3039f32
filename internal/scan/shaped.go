package scan

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/shape"
	"trevak/internal/source"
)

// Shaped is rows in another form than records have. To what comes after they are like those of files that declare the columns
// of the new form.
type Shaped struct {
	// Base has the rows in the form of the records, under Records; Form is what they become.
	Base    Source
	Records schema.Schema
	Form    *shape.Plan
	// Whole says that Records rests on all records; without that, AssumedStarts are those of the sample that it rests on.
	Whole         bool
	AssumedStarts map[int][]int64
	// Sort bounds what rows take that are brought together from all of an object.
	Sort layout.Options

	inputs []source.Input
}

// NewShaped gives rows another form.
func NewShaped(base Source, records schema.Schema, plan *shape.Plan) *Shaped {
	s := &Shaped{Base: base, Records: records, Form: plan, Sort: layout.DefaultOptions, inputs: slices.Clone(base.Objects())}
	names := make([]string, len(plan.Schema.Fields))
	for i, field := range plan.Schema.Fields {
		names[i] = field.Name
	}
	for i := range s.inputs {
		s.inputs[i].Own, s.inputs[i].Rules.Names = plan.Schema.Clone(), names
	}
	return s
}

func (s *Shaped) Declared() ([]schema.Field, bool) { return Declared(s.inputs), true }

func (s *Shaped) Named() bool { return true }

func (s *Shaped) Objects() []source.Input { return s.inputs }

func (s *Shaped) Bytes() int64 { return s.Base.Bytes() }

// Plan divides the records; where rows of an object are brought together it is not divided.
func (s *Shaped) Plan(ctx context.Context, bytes int64) ([]Split, error) {
	if !s.Form.Groups() {
		return s.Base.Plan(ctx, bytes)
	}
	return wholeObjects(s.inputs), nil
}

// request makes of what is asked for what is asked of the base.
func (s *Shaped) request(r Request) Request {
	_, declared := s.Base.Declared()
	target := Target{Schema: s.Records, Unknown: fit.UnknownWidens, AssumedStarts: s.AssumedStarts, Style: schema.SafeNames,
		Fixed: declared}
	if s.Whole {
		target.AssumedStarts, target.Unknown = nil, fit.UnknownKept
	}
	var bounds []expr.Bound
	if r.Uncounted {
		bounds = s.Form.Bounds()
	}
	return Request{Target: target, Bounds: bounds, Sample: r.Sample, Splits: r.Splits, Hashes: r.Hashes, Raw: r.Raw, Coded: r.coded() &&
		s.Form.KeepsDictionaries(), Budget: r.Budget, Stage: r.Stage, starts: true}
}

func (s *Shaped) Read(ctx context.Context, r Request, take func(*Rows) error) error {
	take = r.limited(ctx, take)
	if s.Form.Groups() {
		return s.readGroups(ctx, r, take)
	}
	r.columns(s)
	below := s.request(r)
	below.Each = func() func(*Rows) error {
		f, each := newRefitter(s, r, below.Coded), r.each(ctx)
		return func(rows *Rows) error {
			if err := s.shape(ctx, rows); err != nil {
				return err
			}
			was := rows.shaped.rows
			if err := f.fit(ctx, rows, rows.shaped.Batch, rows.shaped.origins()); err != nil {
				return err
			}
			rows.Follow(&was.Result)
			return each(rows)
		}
	}
	return s.Base.Read(ctx, below, take)
}

// shaped is what rows are in the new form.
type shaped struct {
	shape.Result
	rows *Rows // as they were
}

// shape changes the form of rows.
func (s *Shaped) shape(ctx context.Context, rows *Rows) error {
	result, err := s.Form.Apply(ctx, s.Records.Fields, rows.Batch)
	if err != nil {
		return s.evaluation(err, rows)
	}
	was := *rows
	rows.shaped = &shaped{result, &was}
	return nil
}

// evaluation says of which record an expression has no value.
func (s *Shaped) evaluation(err error, rows *Rows) error {
	var at *expr.Error
	if !errors.As(err, &at) {
		return fmt.Errorf("changing the form of the rows: %w", err)
	}
	e := fault.New(fault.Input, "%s", err).In(s.inputs[rows.Block.Object].Location)
	if at.Row >= 0 {
		e.Line, _ = rows.LineOf(fit.Misfit{Row: at.Row, Start: rows.starts[at.Row]})
	}
	return e
}

// origin is the record that a row came of: its number in the block, which is below 0 for one of an earlier block, where it
// begins, what of it did not fit, and its text where that is kept.
type origin struct {
	rank    int64
	start   int
	end     int
	misfits []fit.Misfit
	raw     string
}

// origins tells of each row of the new form where it came of.
func (s *shaped) origins() func(row int) origin {
	byRow := map[int][]fit.Misfit{}
	for _, m := range s.rows.Misfits {
		byRow[m.Row] = append(byRow[m.Row], m)
	}
	return func(row int) (o origin) {
		from := row
		if s.Origin != nil {
			from = int(s.Origin[row])
		}
		o.rank, o.start = s.rows.Rank(from), s.rows.starts[from]
		if s.rows.ends != nil {
			o.end = s.rows.ends[from]
		}
		if len(byRow) > 0 {
			o.misfits = byRow[from]
		}
		if s.rows.Raws != nil {
			o.raw = s.rows.Raws[from]
		}
		return o
	}
}

// allOrigins lists where each row of the new form came of.
func (s *shaped) allOrigins() []origin {
	of, out := s.origins(), make([]origin, s.Batch.NumRows())
	for row := range out {
		out[row] = of(row)
	}
	return out
}

// refitter fits rows of the new form to the columns that are asked for.
type refitter struct {
	of      *Shaped
	request Request
	fitter  *fit.Batches // nil where the columns are those of the new form
}

func newRefitter(s *Shaped, r Request, coded bool) *refitter {
	f := &refitter{of: s, request: r}
	if len(r.Target.Schema.Fields) > 0 {
		f.fitter = fit.NewBatches(r.Target.Schema, coded)
	}
	return f
}

// fit makes rows of a batch of the new form, which come of the records that of tells.
func (f *refitter) fit(ctx context.Context, rows *Rows, batch arrow.RecordBatch, of func(row int) origin) error {
	was := Rows{}
	elements, kept := []int64(nil), int64(0)
	if rows.shaped != nil {
		was, elements, kept = *rows.shaped.rows, rows.shaped.Elements, int64(rows.shaped.Kept)
	}
	result := fit.Result{Batch: batch}
	if f.fitter != nil {
		object := rows.Block.Object
		var err error
		if result, err = f.fitter.Fit(ctx, batch, f.request.Columns.Fields[object], f.request.Columns.Kept[object]); err != nil {
			return fault.New(fault.Schema, "%s", err).In(f.of.inputs[object].Location).Try("leave the column out of --required and --key")
		}
	}
	rows.keep = rows.keep || len(result.Misfits) > 0
	rows.Filtered, rows.Elements = was.Records-kept, elements
	rows.Ranks, rows.Raws = nil, nil
	n := int(batch.NumRows())
	told := n // of which rows it is told where they came of
	switch {
	case f.request.Raw:
		rows.Ranks, rows.Raws = make([]int64, n), make([]string, n)
	case f.request.Ranks || f.request.Spans || len(was.Misfits) > 0:
		rows.Ranks = make([]int64, n)
	default:
		told = 0
	}
	misfits := slices.Clone(result.Misfits)
	rows.starts, rows.ends = nil, nil
	if f.request.Spans {
		rows.starts, rows.ends = make([]int, n), make([]int, n)
	}
	for row := range told {
		o := of(row)
		if f.request.Spans {
			rows.starts[row], rows.ends[row] = o.start, o.end
		}
		rows.Ranks[row] = o.rank
		if rows.Raws != nil {
			rows.Raws[row] = o.raw
		}
		for _, m := range o.misfits {
			m.Row = row
			misfits = append(misfits, m)
		}
	}
	for i := range result.Misfits {
		result.Misfits[i].Start = of(result.Misfits[i].Row).start
	}
	result.Problems, result.Tokens, result.Folded = was.Problems, was.Tokens, was.Folded
	result.Misfits = append(slices.Clone(was.Misfits), result.Misfits...)
	rows.Result, rows.Misfit, rows.shaped = result, nil, nil
	rows.tellMisfits(misfits)
	return nil
}

// Texts hands over the first rows in their new form.
func (s *Shaped) Texts(ctx context.Context, n int, visit func(Record) error) error {
	names := make([]string, len(s.Form.Schema.Fields))
	for i, f := range s.Form.Schema.Fields {
		names[i] = f.Name
	}
	return s.Read(ctx, Request{Budget: run.Budget{Workers: 1}, Stage: run.Inferring, Uncounted: true}, func(rows *Rows) error {
		if rows.Widens() || rows.Batch == nil {
			return rows.Wider(s.inputs)
		}
		return eachRow(rows.Batch, names, func(r Record) error {
			if n--; n < 0 {
				return io.EOF
			}
			return visit(r)
		})
	})
}

// Counted is how many rows come of each record of a piece, below 0 for one that is kept out.
type Counted struct {
	Rows   *Rows
	Counts []int64
}

// Line returns the line of a record, or the number of its row.
func (c Counted) Line(record int) int64 {
	line, _ := c.Rows.LineOf(fit.Misfit{Row: record, Start: c.Rows.starts[record]})
	return line
}

// Count hands over how many rows come of each record, without making them.
func (s *Shaped) Count(ctx context.Context, b run.Budget, visit func(Counted)) error {
	r := s.request(Request{Budget: b, Stage: run.Counting})
	r.Each = func() func(*Rows) error {
		return func(rows *Rows) error {
			n, err := s.Form.Count(ctx, s.Records.Fields, rows.Batch)
			if err != nil {
				return s.evaluation(err, rows)
			}
			// The block's text is gone when the counts are looked at.
			rows.keep = true
			rows.counts = n
			return nil
		}
	}
	return s.Base.Read(ctx, r, func(rows *Rows) error {
		if rows.Widens() || rows.Batch == nil {
			return ErrWider
		}
		visit(Counted{rows, rows.counts})
		return nil
	})
}
