// Package weigh measures on a sample which codec, encoding, order of rows and partitioning pay.
//
// What comes in is a source or a table; what goes out are the trials and what they speak for.
package weigh

import (
	"context"
	"io"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/locate"
	"trevak/internal/profile"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
)

// Weighing is what trials on a sample showed.
type Weighing struct {
	Source string
	// Table is the name of the table that was weighed, empty for files; Objects are those that rows could come from.
	Table   string
	Objects []locate.Object
	Favor   Favor
	// Rows are those of the sample, RawBytes their size as text, 0 where they were columns already; PlainBytes their size in
	// plain encoding without compression.
	Rows       int64
	RawBytes   int64
	PlainBytes int64
	Columns    []WeighedColumn
	// Whole are trials of all columns, in the writer's own encodings, by codec.
	Whole []columnar.Trial
	// Steady says that the times came out alike when they were taken again.
	Steady bool
	// Layouts are the sort orders and partitionings that were to be tried, the rows as they came first.
	Layouts []WeighedLayout
	// Readings compare the costs of reading the raw text and the columns.
	Readings []ReadingCost
	// Codec is the recommended codec as --codec takes it, Bytes what the sample takes with it, Reason what it
	// gains over the usual one.
	Codec  string
	Bytes  int64
	Reason string

	// Profile is how the values of each leaf column are distributed in the sample, where that was asked for.
	Profile []profile.Column

	// times is how often a trial that takes little time is done.
	times int
}

// WeighedColumn is the trials of one column, or of one part of a nested column.
type WeighedColumn struct {
	Path       string
	Type       string
	PlainBytes int64
	Trials     []columnar.Trial
	// Best is the trial that is favored, in the writer's own encoding.
	Best columnar.Trial
}

// WeighedLayout is what a layout leads to.
type WeighedLayout struct {
	Flag       string
	Files      int
	Partitions int
	Bytes      int64
	// Filter is a filter for one value that occurs, ScannedBytes what the row groups take that a reader cannot leave out by
	// their statistics and partitions, UnlaidBytes the same for the rows as they come.
	Filter       string
	ScannedBytes int64
	UnlaidBytes  int64
}

// ReadingCost is what reading some columns costs.
type ReadingCost struct {
	Columns         string
	RawBytes        int64
	RawSeconds      float64
	ColumnarBytes   int64
	ColumnarSeconds float64
}

// Request is what a weighing is asked to do.
type Request struct {
	infer.Reading
	Favor Favor
	// Profile asks for the distribution of each column's values in the sample.
	Profile bool
	// Sorts and Partitions are layouts to try.
	Sorts, Partitions []string
}

// sampleRows is what trials are made on.
type sampleRows struct {
	schema  schema.Schema
	batches []arrow.RecordBatch
	rows    int64
	raw     int64
}

// mostSample bounds a sample in memory, in bytes.
const mostSample = 64 << 20

// Run runs the trials.
func (w Request) Run(ctx context.Context, b run.Budget) (*Weighing, error) {
	out, err := w.run(ctx, b)
	if out != nil {
		out.Profile = profile.Masked(w.Mask, out.Profile)
	}
	return out, w.Mask.Error(err)
}

func (w Request) run(ctx context.Context, b run.Budget) (*Weighing, error) {
	from, of, err := w.subject(ctx, b)
	if err != nil {
		return nil, err
	}
	rows, err := sample(ctx, from, of, b)
	if err != nil {
		return nil, err
	}
	if rows.rows == 0 {
		return nil, fault.New(fault.Input, "there is no row to weigh").Try("name a source with records")
	}
	out := &Weighing{Favor: w.Favor, times: timesFor(rows.schema), Rows: rows.rows, RawBytes: rows.raw, Layouts: []WeighedLayout{},
		Readings: []ReadingCost{}}
	if w.Profile {
		p := profile.New(rows.schema)
		for _, batch := range rows.batches {
			p.Add(batch)
		}
		out.Profile = p.Columns()
	}
	if w.Table != nil {
		out.Table = w.Table.Name.String()
	}
	for _, in := range from.Objects() {
		out.Objects = append(out.Objects, in.Object)
	}
	if err := out.whole(ctx, rows, columnar.Parquet, weighPatience); err != nil {
		return nil, err
	}
	if err := out.columns(ctx, rows); err != nil {
		return nil, err
	}
	out.recommend()
	if err := out.layouts(ctx, rows, w.Sorts, w.Partitions); err != nil {
		return nil, err
	}
	return out, out.readings(ctx, rows, from)
}

// subject is the rows that are weighed, and their columns.
func (w Request) subject(ctx context.Context, b run.Budget) (scan.Source, schema.Schema, error) {
	d, err := infer.Survey(ctx, &w.Reading, b)
	if err != nil {
		return nil, schema.Schema{}, err
	}
	inferred, err := d.First(ctx, w.Reading, b)
	if err == nil {
		err = inferred.Matched()
	}
	if err != nil {
		return nil, schema.Schema{}, err
	}
	return d.Rows, inferred.Schema, nil
}

// sample gathers rows, spread over what has them, under a schema.
func sample(ctx context.Context, from scan.Source, of schema.Schema, b run.Budget) (*sampleRows, error) {
	out := &sampleRows{schema: of.Clone()}
	out.schema.AssignIDs()
	infer.SettleUnseen(&out.schema)
	var size int64
	r := scan.Request{Target: scan.Target{Schema: out.schema, Unknown: fit.UnknownKept, Style: schema.SafeNames}, Budget: b,
		Stage: run.Measuring}
	if from.Bytes() > scan.SmallBytes {
		r.Sample = scan.NewSampleOf(scan.MeasuredSpot)
	}
	err := from.Read(ctx, r, func(rows *scan.Rows) error {
		if rows.Batch == nil {
			return nil
		}
		out.batches, out.rows, out.raw = append(out.batches, rows.Batch), out.rows+rows.Batch.NumRows(), out.raw+int64(rows.Bytes)
		if size += columnar.BatchBytes(rows.Batch); size > mostSample {
			return io.EOF
		}
		return nil
	})
	return out, err
}

// readings compares reading the raw text with reading the columns.
func (w *Weighing) readings(ctx context.Context, rows *sampleRows, from scan.Source) error {
	zstd := func(s schema.Schema, batches []arrow.RecordBatch) (columnar.Trial, error) {
		return columnar.Try(ctx, s, batches, columnar.Parquet, columnar.DefaultCodec, "", mostTimes)
	}
	all, err := zstd(rows.schema, rows.batches)
	if err != nil {
		return err
	}
	at := 0
	for i, f := range rows.schema.Fields {
		if f.Type.Kind == schema.Double || f.Type.Kind == schema.Long {
			at = i
		}
	}
	alone := wholeOf(rows.schema.Fields[at])
	single, err := zstd(alone.schema(), alone.of(rows.batches, at))
	if err != nil {
		return err
	}
	whole := ReadingCost{Columns: "all columns", RawBytes: rows.raw, ColumnarBytes: all.Bytes, ColumnarSeconds: all.ReadSeconds}
	part := ReadingCost{Columns: alone.path + " alone", RawBytes: rows.raw, ColumnarBytes: single.Bytes,
		ColumnarSeconds: single.ReadSeconds}
	if rows.raw > 0 {
		for _, c := range []struct {
			cost *ReadingCost
			s    schema.Schema
		}{{&whole, rows.schema}, {&part, schema.Schema{Fields: []schema.Field{alone.field}, Omission: schema.Omission{OmitRest: true}}}} {
			started := time.Now()
			if _, err := sample(ctx, from, c.s, run.Budget{Workers: 1}); err != nil {
				return err
			}
			c.cost.RawSeconds = time.Since(started).Seconds()
		}
	}
	w.Readings = append(w.Readings, whole, part)
	return nil
}
