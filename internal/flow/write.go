package flow

import (
	"context"
	"errors"
	"slices"
	"time"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/parse"
	"trevak/internal/quarantine"
	"trevak/internal/schema"
	"trevak/internal/sniff"
)

// output is where the files of a run go.
type output struct {
	schema  schema.Schema
	spec    layout.Spec
	options layout.Options
	create  layout.Create
	// fixed says that the schema is a table's, so that what it does not take stops the run.
	fixed bool
	// extras are the columns that the run adds, and started is when it began.
	extras  []extra
	started time.Time
}

// errWider says that the inferred schema is too narrow for the rest of the source.
var errWider = errors.New("a value is beyond the inferred types")

// write reads the source once more and writes its rows; bad is told of the records that become none. It returns errWider when a
// wider schema would be needed, and a Refusal when there are too many bad records.
func (s *Source) write(ctx context.Context, b Budget, out output, bad *tally, report *Report) ([]layout.DataFile, int, error) {
	fields, surplus := columnFields(s, out.schema)
	if s.Format() == sniff.Delimited && len(surplus) > 0 {
		if !out.fixed {
			return nil, 0, errWider
		}
		return nil, 0, surplusError(s, surplus)
	}
	fill, err := newFiller(out.extras, out.schema, out.started)
	if err != nil {
		return nil, 0, err
	}
	out.options.Columnar.Workers = b.Workers
	router := layout.NewRouter(out.schema, out.spec, out.options, out.create)
	defer router.Abandon()
	var records int64
	p := s.pass("writing", b)
	p.hashes = make([]string, len(s.Inputs))
	err = process(ctx, p, func() func(*parse.Block) (fitted, error) {
		return newFitter(s, out.schema, fields, !out.fixed).work
	}, func(block parse.Block, f fitted) error {
		if f.widens() {
			return errWider
		}
		rows := f.batch.NumRows()
		records += rows + int64(len(f.problems)+f.skipped)
		counts := &report.Objects[block.Object].Counts
		if f.misfits != nil && !fill.has(misfitColumn) {
			if !out.fixed {
				return errWider
			}
			return fault.New(fault.Schema, "has records with more fields than columns, and the table has no column %q for the surplus", misfitColumn).
				In(s.Inputs[block.Object].Location).Try("load without --ragged pad, so that they are bad records")
		}
		batch, err := fill.fill(f.batch, block.Object, counts.RecordsRead-counts.RecordsSkipped, f)
		if err != nil {
			return err
		}
		counts.RecordsRead += rows + int64(len(f.problems)+f.skipped)
		counts.RecordsSkipped += int64(f.skipped)
		counts.RecordsQuarantined += int64(len(f.problems))
		counts.RowsWritten += rows
		report.BytesUnpacked += int64(len(block.Data))
		block.Data = f.raw
		if err := bad.add(s.Inputs[block.Object], &block, f.problems); err != nil {
			return err
		}
		if bad.over = bad.over || bad.limit.exceeded(bad.bad, records, false); !bad.over {
			return router.Write(ctx, batch)
		}
		if bad.bad >= mostRefused {
			return bad.refusal(records, false)
		}
		return nil
	})
	if err != nil {
		return nil, 0, storageError(err)
	}
	if bad.over || bad.limit.exceeded(bad.bad, records, true) {
		return nil, 0, bad.refusal(records, true)
	}
	for i, hash := range p.hashes {
		report.Objects[i].Hash = hash
	}
	report.Reasons, report.Quarantine = append(report.Reasons, bad.groups...), bad.file.Path()
	files, err := router.Close(ctx)
	return files, router.Partitions(), storageError(err)
}

// storageError gives a kind to what went wrong while writing.
func storageError(err error) error {
	var refusal *Refusal
	if err == nil || errors.Is(err, errWider) || errors.Is(err, context.Canceled) || errors.As(err, &refusal) {
		return err
	}
	return fault.Wrap(fault.Storage, err, "writing failed")
}

func surplusError(s *Source, surplus []string) error {
	for _, in := range s.Inputs {
		for _, name := range in.Rules.Names {
			if name == surplus[0] {
				e := fault.New(fault.Schema, "is not a column of the table").In(in.Location).
					Try("load the file into a table of its own; tables do not grow new columns yet")
				e.Line, e.Column = 1, name
				return e
			}
		}
	}
	return nil
}

// writeFirst writes rows under an inferred schema that may turn out too narrow: then it is inferred from the whole source,
// and what was written is written anew. prepare makes a fresh output for a schema; undo removes what an output wrote.
func (s *Source) writeFirst(ctx context.Context, r Reading, b Budget, started time.Time, target string,
	prepare func(schema.Schema) (output, func(), error)) (output, []layout.DataFile, *Report, error) {
	added, err := s.extras(r)
	if err != nil {
		return output{}, nil, nil, err
	}
	for whole := false; ; whole = true {
		inferred, err := s.infer(ctx, r, b, whole)
		if err != nil {
			return output{}, nil, nil, err
		}
		added := added
		if inferred.Observed.Surplus > 0 {
			added = append(slices.Clone(added), misfitExtra)
		}
		if err := addExtras(&inferred.Schema, added); err != nil {
			return output{}, nil, nil, err
		}
		out, undo, err := prepare(inferred.Schema)
		if err != nil && !inferred.Whole {
			// A column may be missing, or of another type, only because the sample did not show it.
			continue
		}
		if err != nil {
			return output{}, nil, nil, err
		}
		if inferred.Whole {
			settleUnseen(&out.schema)
		}
		out.extras = added
		files, report, err := s.attempt(ctx, r, b, out, started, target)
		if err == nil {
			report.Rewritten = whole
			return out, files, report, nil
		}
		undo()
		if !errors.Is(err, errWider) || inferred.Whole {
			return output{}, nil, nil, err
		}
	}
}

// attempt writes the source's rows once, and closes the account of it.
func (s *Source) attempt(ctx context.Context, r Reading, b Budget, out output, started time.Time, target string) ([]layout.DataFile, *Report, error) {
	out.started = started
	report := newReport(s, out.schema, string(out.options.Columnar.Codec))
	path := r.Quarantine
	if path == "" {
		path = quarantineName(target, started)
	}
	bad := &tally{limit: r.MaxBad, file: quarantine.New(path)}
	files, partitions, err := s.write(ctx, b, out, bad, report)
	if errors.Is(err, errWider) {
		bad.file.Discard()
	}
	if closed := bad.file.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = report.close(files, partitions, started)
	}
	return files, report, err
}

// settleUnseen makes plain strings of the columns in which the whole source has no value.
func settleUnseen(s *schema.Schema) {
	s.Walk(func(_ string, f *schema.Field) { f.Unseen = false })
}
