package write

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/profile"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// ErrMisfits says that a value fits no column, and that there is none for such.
var ErrMisfits = errors.New("a value fits no column, and there is none for such")

// writing is one pass that writes a source's rows.
type writing struct {
	data    *infer.Data
	out     *Output
	columns *scan.Columns
	fill    *filler
	sink    Sink
	grown   map[string]Growth
	misfits Tolerance
	bad     *tally
	drift   findings
	report  *Report
	records int64
	profile *profile.Rows // nil where nobody asks for it
	spread  *spreads      // likewise
	checks  *checks       // nil without any
}

// pass reads the source once and writes its rows; bad is told of the records that become none. It returns scan.ErrWider when a
// wider schema would be needed, ErrMisfits when there are misfits and no column for them, and a Refusal when there are too many
// bad records.
func (w *writing) pass(ctx context.Context, b run.Budget, started time.Time) error {
	target := scan.Target{Schema: w.out.Schema, Fixed: w.out.Fixed, Unknown: w.out.Unknown, Style: w.out.Style,
		AssumedStarts: w.out.AssumedStarts}
	w.columns = scan.Find(w.data.Rows, target)
	if w.data.Rows.Named() && w.columns.Unknown() && w.out.Unknown == fit.UnknownWidens {
		return scan.ErrWider
	}
	var err error
	if w.fill, err = newFiller(w.out.Extras, w.out.Schema, started); err != nil {
		return err
	}
	for _, in := range w.data.Inputs {
		w.fill.locations = append(w.fill.locations, in.Location)
	}
	coded, _ := w.sink.Coded()
	_, placed := w.sink.(PlacedSink)
	r := scan.Request{Target: target, Columns: w.columns, Raw: w.out.keepsRaw(), Ranks: len(w.out.Extras) > 0 || placed,
		Coded: coded, Budget: b, Stage: run.Writing}
	if w.checks != nil {
		r.Coded, r.Spans, r.Ranks, r.Each = false, true, true, w.checks.each()
	}
	if len(w.grown) > 0 {
		r.Splits = w.splits()
	} else if w.out.Hashes {
		r.Hashes = make([]string, len(w.data.Inputs))
	}
	if err = w.data.Rows.Read(ctx, r, func(rows *scan.Rows) error { return w.take(ctx, rows) }); err == nil {
		err = w.settle()
	}
	for i, hash := range r.Hashes {
		w.report.Objects[i].Hash = hash
	}
	for i, in := range w.data.Inputs {
		// What was read in part has no hash from that.
		o := &w.report.Objects[i]
		if o.Hash = first(o.Hash, w.grown[in.Location].Hash); o.Hash == "" && w.out.Hashes && err == nil {
			o.Hash, err = in.Hash(ctx)
		}
	}
	return err
}

func first(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

// splits are the parts of the objects that are read, and notes what came before them.
func (w *writing) splits() (out []scan.Split) {
	for i, in := range w.data.Inputs {
		s := scan.Split{Object: i}
		if g, ok := w.grown[in.Location]; ok {
			s.From, s.To, s.Line = g.From, in.Size, g.Line
			w.report.Objects[i].RecordsBefore = g.Records
		}
		out = append(out, s)
	}
	return out
}

// take accounts for rows and sends them on.
func (w *writing) take(ctx context.Context, rows *scan.Rows) error {
	if rows.Widens() {
		return rows.Wider(w.data.Inputs)
	}
	if rows.Misfit != nil && !w.fill.has(schema.MisfitColumn) && !w.out.Stop {
		return ErrMisfits
	}
	object := rows.Block.Object
	counts := &w.report.Objects[object].Counts
	before := w.report.Objects[object].RecordsBefore + counts.RecordsRead - counts.RecordsSkipped
	in := w.data.Inputs[object]
	if err := w.checks.take(ctx, in, rows, before); err != nil {
		return err
	}
	batch, err := w.fill.fill(rows.Batch, object, before, rows)
	if err == nil {
		err = w.checks.filled(in, batch, rows, before)
	}
	if err != nil {
		return err
	}
	w.count(rows, counts)
	w.drift.add(in, rows, w.out.Schema)
	if err := w.bad.add(ctx, in, &rows.Block, rows.Problems); err != nil {
		return err
	}
	if w.bad.over = w.bad.over || w.bad.limit.exceeded(w.bad.bad, w.records, false); w.bad.over {
		if w.bad.bad >= mostRefused {
			return w.bad.refusal(w.records, false)
		}
		return nil
	}
	if w.out.Stop && len(w.drift.unfit) > 0 {
		return nil
	}
	if w.profile != nil {
		w.profile.Add(batch)
	}
	if w.spread != nil {
		w.spread.add(batch)
	}
	if w.out.Origin != 0 {
		batch = withOrigin(batch, w.out.Origin+int64(object))
	}
	if placed, ok := w.sink.(PlacedSink); ok {
		err = placed.WritePlaced(ctx, batch, rows, before)
	} else {
		err = w.sink.Write(ctx, batch)
	}
	if _, free := w.sink.Coded(); free {
		rows.Done()
	}
	return err
}

// withOrigin puts the column behind the others that tells which object rows came of.
func withOrigin(b arrow.RecordBatch, origin int64) arrow.RecordBatch {
	fields := append(slices.Clone(b.Schema().Fields()), arrow.Field{Name: table.OriginField.Name, Type: arrow.PrimitiveTypes.Int64,
		Nullable: true})
	columns := append(slices.Clone(b.Columns()), longs(arrow.PrimitiveTypes.Int64, int(b.NumRows()), func(int) int64 { return origin }))
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows())
}

// count adds rows, and the records that they came of, to the account.
func (w *writing) count(rows *scan.Rows, counts *Counts) {
	read := rows.Records + int64(len(rows.Problems)+rows.Skipped)
	w.records += read
	counts.RecordsRead += read
	counts.RecordsKept += rows.Records - rows.Filtered
	counts.RecordsFiltered += rows.Filtered
	w.report.addElements(rows.Elements)
	counts.RecordsSkipped += int64(rows.Skipped)
	counts.RecordsFilled += int64(rows.Filled)
	counts.RecordsQuarantined += int64(len(rows.Problems))
	counts.RowsWritten += rows.Batch.NumRows()
	w.report.BytesUnpacked += int64(rows.Bytes)
}

// settle judges the pass when all is read.
func (w *writing) settle() error {
	w.report.Drift = append(w.report.Drift, w.drift.list(w.out.Known, w.columns, w.out.Schema, w.out.Fixed)...)
	w.report.NullTokens = w.drift.nullTokens()
	maps.Copy(w.drift.longest, w.fill.longest)
	w.drift.setLongest(&w.out.Schema)
	if w.bad.over || w.bad.limit.exceeded(w.bad.bad, w.records, true) {
		return w.bad.refusal(w.records, true)
	}
	if err := w.drift.beyond(w.misfits); err != nil {
		return err
	}
	if err := w.checks.settle(w.report); err != nil {
		return err
	}
	if w.out.Stop && len(w.report.Drift) > 0 {
		return &DriftError{Table: w.report.Table, Differences: w.report.Drift}
	}
	return nil
}

// storageError gives a kind to what went wrong while writing.
func storageError(err error) error {
	var refusal *Refusal
	var drift *DriftError
	if err == nil || errors.Is(err, scan.ErrWider) || errors.Is(err, ErrMisfits) || errors.Is(err, context.Canceled) ||
		errors.As(err, &refusal) || errors.As(err, &drift) {
		return err
	}
	return fault.Wrap(fault.Storage, err, "writing failed")
}
