// Package write writes the rows of a source: it tries them under a schema, learns what they need besides, and tries again; and
// it keeps the account of all records.
//
// What comes in is data with the form of its rows, and what prepares an output for a schema; what goes out are rows in a sink,
// and a report that adds up.
package write

import (
	"context"
	"errors"
	"slices"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/profile"
	"trevak/internal/quarantine"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/weigh"
)

// Output is where the rows of a run go, and what its records are fitted to.
type Output struct {
	Schema schema.Schema
	// Spec, Options and Create say how rows are laid out in files, and where these are made.
	Spec    layout.Spec
	Options layout.Options
	Create  layout.Create
	// Sink makes where the rows of the output leave instead; nil for data files.
	Sink func(*Output) (Sink, error)
	// Fixed says that the schema is a table's; names in the source may then differ from its columns in letter case.
	Fixed bool
	// Unknown says what becomes of columns that the schema does not have, Style how names are made legal.
	Unknown fit.Unknown
	Style   schema.NameStyle
	// Stop refuses a run in which any value fits no column.
	Stop bool
	// Known are the differences that are known already.
	Known []schema.Difference
	// AssumedStarts are those of the sample that the schema came of.
	AssumedStarts map[int][]int64
	// Extras are the columns that the run adds.
	Extras []Extra
	// Hashes says that objects are told with their hashes.
	Hashes bool
	// Origins says that files get table.OriginField as their last column: Origin for rows of the first object, the next number for the
	// next. Without an Origin rows have it already.
	Origins bool
	Origin  int64
	// Dry says that nothing is to be written, the quarantine included.
	Dry bool
}

// Stored is the columns of the files that rows go to.
func (o *Output) Stored() schema.Schema {
	s := o.Schema
	if o.Origins {
		s = s.Clone()
		s.Fields = append(s.Fields, table.OriginField)
	}
	return s
}

// keepsRaw reports whether a column holds the records as they were read.
func (o *Output) keepsRaw() bool {
	return slices.ContainsFunc(o.Extras, func(e Extra) bool { return e.Field.Name == rawRecord })
}

// Prepared is what a run writes to under one schema; Undo removes what was written.
type Prepared struct {
	Output
	Undo func()
}

// Result is what an attempt that succeeded wrote.
type Result struct {
	Output
	Files  []layout.DataFile
	Report *Report
}

// First writes rows under an inferred schema that may turn out too narrow: then it is inferred from the whole source,
// and what was written is written anew. prepare makes a fresh output for a schema.
func First(ctx context.Context, d *infer.Data, t Task, b run.Budget, started time.Time, target string,
	prepare func(schema.Schema) (Prepared, error)) (Result, error) {
	added, err := Extras(d, t)
	if err != nil {
		return Result{}, err
	}
	inferred, err := d.First(ctx, t.Reading, b)
	if err != nil {
		return Result{}, err
	}
	var done Result
	rewritten, warned := false, false
	err = infer.Again(func() error {
		if inferred.Observed.Surplus > 0 && !HasMisfits(added) {
			added = append(slices.Clone(added), MisfitExtra)
		}
		out, err := Under(inferred, added, prepare)
		if err != nil {
			return err
		}
		if !warned {
			warned = true
			b.Warned(inferred.Foresee(out.Spec))
			inferred.Observed.Root.Forget()
		}
		out.Style = t.Corrections.Names
		files, report, err := Attempt(ctx, d, t, b, &out.Output, started, target)
		if err != nil {
			out.Undo()
			rewritten = rewritten || report.Wrote()
			return err
		}
		report.Rewritten = rewritten && !out.Dry
		done = Result{out.Output, files, report}
		return nil
	}, MisfitsNeedAColumn(&added), Relearn(ctx, d, t.Reading, b, &inferred))
	return done, err
}

// HasMisfits reports whether a column for misfits is among those that the run adds.
func HasMisfits(added []Extra) bool {
	return slices.ContainsFunc(added, func(e Extra) bool { return e.Field.Name == schema.MisfitColumn })
}

// MisfitsNeedAColumn is the lesson of a value that fits no column: one for such is added.
func MisfitsNeedAColumn(added *[]Extra) infer.Lesson {
	return func(err error) (bool, error) {
		if !errors.Is(err, ErrMisfits) || HasMisfits(*added) {
			return false, nil
		}
		*added = append(slices.Clone(*added), MisfitExtra)
		return true, nil
	}
}

// Relearn is the lesson of a value that the schema has no room for, and of a column that is missing or of another type than is
// said of it, which it may be only because the sample did not show it: the schema is inferred from everything.
func Relearn(ctx context.Context, d *infer.Data, r infer.Reading, b run.Budget, inferred **infer.Inference) infer.Lesson {
	return func(cause error) (learned bool, err error) {
		wider := errors.Is(cause, scan.ErrWider)
		if wider {
			if learned, err = d.Learn(ctx, b); err != nil {
				return false, err
			}
		}
		sampled := *inferred != nil && !(*inferred).Whole
		if learned || sampled && (wider || fault.KindOf(cause) == fault.Usage) || wider && *inferred == nil {
			*inferred, err = d.All(ctx, r, b)
			return err == nil, err
		}
		return false, nil
	}
}

// Under prepares an output for an inferred schema.
func Under(inferred *infer.Inference, added []Extra, prepare func(schema.Schema) (Prepared, error)) (Prepared, error) {
	if err := inferred.Matched(); err != nil {
		return Prepared{}, err
	}
	fields := inferred.Schema.Clone()
	if err := addExtras(&fields, added); err != nil {
		return Prepared{}, err
	}
	out, err := prepare(fields)
	if err != nil {
		return Prepared{}, err
	}
	if inferred.Whole {
		infer.SettleUnseen(&out.Schema)
	}
	out.AssumedStarts, out.Extras = inferred.AssumedStarts(), added
	return out, nil
}

// Attempt writes the source's rows once, and closes the account of it.
func Attempt(ctx context.Context, d *infer.Data, t Task, b run.Budget, out *Output, started time.Time, target string) ([]layout.DataFile,
	*Report, error) {
	out.Options = out.Options.Within(b.Memory)
	o := &out.Options.Columnar
	if o.Codec == columnar.Auto {
		var err error
		if o.Codec, o.Codecs, err = weigh.Codecs(ctx, d.Rows, out.Schema, o.Format, t.Favor, b); err != nil {
			return nil, nil, err
		}
	}
	report := newReport(d, out.Schema, o.Compression())
	report.Table = target
	file, err := t.quarantine(ctx, target, started, out.Dry)
	if err != nil {
		return nil, report, err
	}
	o.Workers = b.Workers
	describeGeometry(d, o, out.Schema)
	sink, err := out.sink()
	if err != nil {
		return nil, report, err
	}
	defer sink.Abandon()
	w := &writing{data: d, out: out, sink: sink,
		grown: t.Grown, misfits: t.Misfits, bad: &tally{limit: t.Tolerate, file: file}, report: report,
		drift: findings{written: d.Folded, longest: map[string]int{}, values: map[string]int64{}, examples: map[string][]string{}}}
	if t.Profile {
		w.profile = profile.New(out.Schema)
	}
	if t.Spread {
		w.spread = newSpreads(out.Schema, t.Mask)
	}
	if w.checks, err = newChecks(ctx, t, out, d.Format().Columnar()); err != nil {
		return nil, report, err
	}
	err = storageError(w.pass(ctx, b, started))
	report.Reasons, report.Quarantine = append(report.Reasons, w.bad.groups...), file.URI()
	var stored Stored
	if err == nil {
		stored, err = sink.Close(ctx)
		err = storageError(err)
	}
	if errors.Is(err, scan.ErrWider) || errors.Is(err, ErrMisfits) || errors.Is(err, context.Canceled) {
		file.Discard(context.WithoutCancel(ctx))
	}
	if closed := file.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = report.close(stored, started)
	}
	if w.spread != nil {
		report.Spread = w.spread.list()
	}
	if w.profile != nil {
		report.Profile = withSizes(w.profile.Columns(), stored.Files)
	}
	return stored.Files, report, err
}

// withSizes notes what columns take in files.
func withSizes(columns []profile.Column, files []layout.DataFile) []profile.Column {
	for i := range columns {
		for _, f := range files {
			if m := f.Summary.Columns[columns[i].ID]; m != nil {
				columns[i].Bytes += m.Bytes
				columns[i].RawBytes += m.RawBytes
			}
		}
	}
	return columns
}

// quarantine is where the records of an attempt go that become no rows.
func (t Task) quarantine(ctx context.Context, target string, started time.Time, dry bool) (*quarantine.File, error) {
	if dry || t.BadElsewhere || t.QuarantineAs.None {
		return quarantine.Nowhere(), nil
	}
	uri := t.Quarantine
	if uri == "" {
		uri = quarantineName(target, started)
		if t.QuarantineFolder != "" {
			uri = storage.Join(t.QuarantineFolder, uri)
		}
	}
	file := quarantine.New(t.Store, uri, t.QuarantineAs)
	return file, file.Free(ctx)
}
