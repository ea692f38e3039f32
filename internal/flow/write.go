package flow

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/layout"
	"trevak/internal/parse"
	"trevak/internal/quarantine"
	"trevak/internal/schema"
)

// output is where the files of a run go, and what its records are fitted to.
type output struct {
	schema  schema.Schema
	spec    layout.Spec
	options layout.Options
	create  layout.Create
	// fixed says that the schema is a table's; names in the source may then differ from its columns in letter case.
	fixed bool
	// unknown says what becomes of columns that the schema does not have, style how names are made legal.
	unknown fit.Unknown
	style   schema.NameStyle
	// misfits is how many values of a stated column may be misfits.
	misfits Tolerance
	// stop refuses a run in which any value fits no column.
	stop bool
	// known are the differences that are known already.
	known []schema.Difference
	// claims are those of the sample that the schema came of.
	claims map[int][]int64
	// extras are the columns that the run adds, and started is when it began.
	extras  []extra
	started time.Time
	// straight says that batches go into Parquet files one by one.
	straight bool
	// hashes says that objects are told with their hashes.
	hashes bool
	// dry says that nothing is to be written, the quarantine included.
	dry bool
}

// goesStraight reports whether batches go into Parquet files one by one. Then columns may come as dictionaries, and the memory of a batch is free once
// it is written.
func (o output) goesStraight() bool {
	return len(o.spec) == 0 && len(o.options.Sort) == 0 && !o.dry && (o.options.Columnar.Format == columnar.Parquet || o.options.Columnar.Format == "")
}

// keepsRaw reports whether a column holds the records as they were read.
func (o output) keepsRaw() bool {
	return slices.ContainsFunc(o.extras, func(e extra) bool { return e.field.Name == rawRecord })
}

// errWider says that the schema is too narrow for the rest of the source, errMisfits that it has no column for misfits.
var (
	errWider   = errors.New("the schema that was inferred has no room for it")
	errMisfits = errors.New("a value fits no column, and there is none for such")
)

// wider is errWider with the value that asks for it, which is told where no wider schema helps.
func wider(in Input, block *parse.Block, f fitted) error {
	for _, p := range f.Problems {
		if p.Widens {
			e := problemFault(in.Location, block.LineAt(p.Start), p)
			e.Cause = errWider
			return e
		}
	}
	return errWider
}

// writing is one pass that writes a source's rows.
type writing struct {
	source  *Source
	out     output
	columns columnFields
	fill    *filler
	router  *layout.Router
	bad     *tally
	drift   findings
	report  *Report
	records int64
}

// write reads the source once more and writes its rows; bad is told of the records that become none. It returns errWider when a
// wider schema would be needed, errMisfits when there are misfits and no column for them, and a Refusal when there are too many bad records.
func (s *Source) write(ctx context.Context, b Budget, out output, bad *tally, report *Report) ([]layout.DataFile, int, error) {
	out.straight = out.goesStraight()
	w := &writing{source: s, out: out, bad: bad, report: report, drift: findings{source: s.Folded, longest: map[string]int{}, values: map[string]int64{}, examples: map[string][]string{}}}
	w.columns = newColumnFields(s, out.schema, out.style, !out.fixed)
	if s.named() && w.columns.unknown() && out.unknown == fit.UnknownWidens {
		return nil, 0, errWider
	}
	var err error
	if w.fill, err = newFiller(out.extras, out.schema, out.started); err != nil {
		return nil, 0, err
	}
	for _, in := range s.Inputs {
		w.fill.locations = append(w.fill.locations, in.Location)
	}
	out.options.Columnar.Workers = b.Workers
	s.describeGeometry(&out.options.Columnar, out.schema)
	w.router = layout.NewRouter(out.schema, out.spec, out.options, out.create)
	defer w.router.Abandon()
	p := s.pass("writing", b)
	if out.hashes {
		p.hashes = make([]string, len(s.Inputs))
	}
	if s.reshaped != nil {
		err = w.formedBlocks(ctx, p)
	} else if s.columnar() {
		err = w.columnFiles(ctx, p)
	} else {
		err = process(ctx, p, func() func(*parse.Block) (fitted, error) {
			return newFitter(s, out, w.columns).work
		}, func(block parse.Block, f fitted) error { return w.take(ctx, block, f) })
	}
	if err == nil {
		err = w.settle()
	}
	if err != nil {
		return nil, 0, storageError(err)
	}
	for i, hash := range p.hashes {
		report.Objects[i].Hash = hash
	}
	report.Reasons, report.Quarantine = append(report.Reasons, bad.groups...), bad.file.URI()
	files, err := w.router.Close(ctx)
	return files, w.router.Partitions(), storageError(err)
}

// take accounts for a block and sends its rows on.
func (w *writing) take(ctx context.Context, block parse.Block, f fitted) error {
	if f.widens() {
		return wider(w.source.Inputs[block.Object], &block, f)
	}
	if f.misfits != nil && !w.fill.has(schema.MisfitColumn) && !w.out.stop {
		return errMisfits
	}
	rows := f.Batch.NumRows()
	records := rows
	if f.formed {
		records = f.records
	}
	w.records += records + int64(len(f.Problems)+f.skipped)
	counts := &w.report.Objects[block.Object].Counts
	batch, err := w.fill.fill(f.Batch, block.Object, counts.RecordsRead-counts.RecordsSkipped, f)
	if err != nil {
		return err
	}
	counts.RecordsRead += records + int64(len(f.Problems)+f.skipped)
	counts.RecordsKept += records - f.filtered
	counts.RecordsFiltered += f.filtered
	w.report.addElements(f.elements)
	counts.RecordsSkipped += int64(f.skipped)
	counts.RecordsFilled += int64(f.filled)
	counts.RecordsQuarantined += int64(len(f.Problems))
	counts.RowsWritten += rows
	w.report.BytesUnpacked += int64(len(block.Data))
	block.Data = f.raw
	in := w.source.asRead(block.Object)
	w.drift.add(in, &block, f, w.out.schema)
	if err := w.bad.add(ctx, in, &block, f.Problems); err != nil {
		return err
	}
	if w.bad.over = w.bad.over || w.bad.limit.exceeded(w.bad.bad, w.records, false); w.bad.over {
		if w.bad.bad >= mostRefused {
			return w.bad.refusal(w.records, false)
		}
		return nil
	}
	if w.out.stop && len(w.drift.unfit) > 0 {
		return nil
	}
	err = w.router.Write(ctx, batch)
	if w.out.straight {
		f.Done()
	}
	return err
}

// settle judges the pass when all is read.
func (w *writing) settle() error {
	w.report.Drift = append(w.report.Drift, w.drift.list(w.out.known, w.columns, w.out.schema, w.out.fixed)...)
	w.report.NullTokens = w.drift.nullTokens()
	maps.Copy(w.drift.longest, w.fill.longest)
	w.drift.setLongest(&w.out.schema)
	if w.bad.over || w.bad.limit.exceeded(w.bad.bad, w.records, true) {
		return w.bad.refusal(w.records, true)
	}
	if err := w.drift.beyond(w.out.misfits); err != nil {
		return err
	}
	if w.out.stop && len(w.report.Drift) > 0 {
		return &DriftError{Table: w.report.Table, Differences: w.report.Drift}
	}
	return nil
}

// storageError gives a kind to what went wrong while writing.
func storageError(err error) error {
	var refusal *Refusal
	var drift *DriftError
	if err == nil || errors.Is(err, errWider) || errors.Is(err, errMisfits) || errors.Is(err, context.Canceled) || errors.As(err, &refusal) || errors.As(err, &drift) {
		return err
	}
	return fault.Wrap(fault.Storage, err, "writing failed")
}

// prepared is what a run writes to under one schema; undo removes what was written.
type prepared struct {
	output
	undo func()
}

// writeFirst writes rows under an inferred schema that may turn out too narrow: then it is inferred from the whole source,
// and what was written is written anew. prepare makes a fresh output for a schema.
func (s *Source) writeFirst(ctx context.Context, r Reading, b Budget, started time.Time, target string,
	prepare func(schema.Schema) (prepared, error)) (output, []layout.DataFile, *Report, error) {
	added, err := s.extras(r)
	if err != nil {
		return output{}, nil, nil, err
	}
	inferred, err := s.inferFirst(ctx, r, b)
	rewritten, misfits, warned := false, false, false
	for err == nil {
		if misfits = misfits || inferred.Observed.Surplus > 0; misfits && len(added) < 1 || misfits && added[len(added)-1].field.Name != schema.MisfitColumn {
			added = append(slices.Clone(added), misfitExtra)
		}
		var files []layout.DataFile
		var report *Report
		var out prepared
		if out, err = s.underInferred(inferred, added, prepare); err == nil {
			if !warned {
				warned = true
				b.warn(inferred.foresee(out.spec))
				inferred.Observed.Root.Forget()
			}
			out.style = r.Corrections.Names
			files, report, err = s.attempt(ctx, r, b, &out.output, started, target)
			if err == nil {
				report.Rewritten = rewritten && !out.dry
				return out.output, files, report, nil
			}
			out.undo()
			rewritten = rewritten || report.wrote()
		}
		switch {
		case errors.Is(err, errMisfits) && !misfits:
			misfits, err = true, nil
		case errors.Is(err, errWider) && s.mayWiden():
			if err = s.reshape(ctx, r, b, true); err == nil {
				inferred, err = s.infer(ctx, r, b, true, false)
			}
		case !inferred.Whole && (errors.Is(err, errWider) || fault.KindOf(err) == fault.Usage):
			// A column may be missing, or of another type, only because the sample did not show it.
			inferred, err = s.infer(ctx, r, b, true, false)
		}
	}
	return output{}, nil, nil, err
}

// underInferred prepares an output for an inferred schema.
func (s *Source) underInferred(inferred *Inference, added []extra, prepare func(schema.Schema) (prepared, error)) (prepared, error) {
	if err := inferred.allMatched(); err != nil {
		return prepared{}, err
	}
	fields := inferred.Schema.Clone()
	if err := addExtras(&fields, added); err != nil {
		return prepared{}, err
	}
	out, err := prepare(fields)
	if err != nil {
		return prepared{}, err
	}
	if inferred.Whole {
		settleUnseen(&out.schema)
	} else {
		out.claims = inferred.sample.claims
	}
	out.extras = added
	return out, nil
}

// attempt writes the source's rows once, and closes the account of it.
func (s *Source) attempt(ctx context.Context, r Reading, b Budget, out *output, started time.Time, target string) ([]layout.DataFile, *Report, error) {
	out.started, out.misfits = started, r.Misfits
	if out.options.Columnar.Codec == columnar.Auto {
		if err := s.chooseCodecs(ctx, b, out, r.Favor); err != nil {
			return nil, nil, err
		}
	}
	report := newReport(s, out.schema, out.options.Columnar.Compression())
	report.Table = target
	path := r.Quarantine
	if path == "" {
		path = quarantineName(target, started)
	}
	file := quarantine.New(r.Store, path)
	if out.dry || r.BadElsewhere {
		file = quarantine.Nowhere()
	} else if err := file.Free(ctx); err != nil {
		return nil, report, err
	}
	bad := &tally{limit: r.Tolerate, file: file}
	files, partitions, err := s.write(ctx, b, *out, bad, report)
	if errors.Is(err, errWider) || errors.Is(err, errMisfits) {
		bad.file.Discard(ctx)
	}
	if closed := bad.file.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = report.close(files, partitions, started)
	}
	return files, report, err
}

// settleUnseen makes plain strings of the columns in which the whole source has no value. Their type stays open, except that of the elements of lists
// and the keys and values of maps, which a table cannot change.
func settleUnseen(s *schema.Schema) {
	parts := make(map[*schema.Field]bool)
	s.Walk(func(_ string, f *schema.Field) {
		parts[f.Type.Key], parts[f.Type.Element] = true, true
		f.Untyped = f.Untyped || f.Unseen && !parts[f]
		f.Unseen = false
	})
}
