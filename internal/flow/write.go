package flow

import (
	"context"
	"errors"
	"time"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/parse"
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
}

// errWider says that the inferred schema is too narrow for the rest of the source.
var errWider = errors.New("a value is beyond the inferred types")

// write reads the source once more and writes its rows. It returns errWider when a wider schema would be needed, with the
// value that showed it in the fault.
func (s *Source) write(ctx context.Context, b Budget, out output, report *Report) ([]layout.DataFile, int, error) {
	fields, surplus := columnFields(s, out.schema)
	if s.Format() == sniff.Delimited && len(surplus) > 0 {
		if !out.fixed {
			return nil, 0, errWider
		}
		return nil, 0, surplusError(s, surplus)
	}
	out.options.Columnar.Workers = b.Workers
	router := layout.NewRouter(out.schema, out.spec, out.options, out.create)
	defer router.Abandon()
	err := process(ctx, s.pass("writing", b), func() func(*parse.Block) (fitted, error) {
		return newFitter(s, out.schema, fields, !out.fixed).work
	}, func(block parse.Block, f fitted) error {
		switch {
		case f.fault != nil && f.widens && !out.fixed:
			return errWider
		case f.fault != nil:
			return f.fault
		}
		counts := &report.Objects[block.Object].Counts
		counts.RecordsRead += f.batch.NumRows()
		counts.RowsWritten += f.batch.NumRows()
		report.BytesUnpacked += int64(len(block.Data))
		return router.Write(ctx, f.batch)
	})
	if err != nil {
		return nil, 0, storageError(err)
	}
	files, err := router.Close(ctx)
	return files, router.Partitions(), storageError(err)
}

// storageError gives a kind to what went wrong while writing.
func storageError(err error) error {
	if err == nil || errors.Is(err, errWider) || errors.Is(err, context.Canceled) {
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
func (s *Source) writeFirst(ctx context.Context, r Reading, b Budget, started time.Time,
	prepare func(schema.Schema) (output, func(), error)) (output, []layout.DataFile, *Report, error) {
	for whole := false; ; whole = true {
		inferred, err := s.infer(ctx, r, b, whole)
		if err != nil {
			return output{}, nil, nil, err
		}
		if problem := inferred.Problem(); problem != nil && inferred.Whole {
			return output{}, nil, nil, problem
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
		report := newReport(s, out.schema, string(out.options.Columnar.Codec))
		report.Rewritten = whole
		files, partitions, err := s.write(ctx, b, out, report)
		if err == nil {
			err = report.close(files, partitions, started)
		}
		if err == nil {
			return out, files, report, nil
		}
		undo()
		if !errors.Is(err, errWider) || inferred.Whole {
			return output{}, nil, nil, err
		}
	}
}

// settleUnseen makes plain strings of the columns in which the whole source has no value.
func settleUnseen(s *schema.Schema) {
	s.Walk(func(_ string, f *schema.Field) { f.Unseen = false })
}
