package flow

import (
	"context"
	"io"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/table"
)

// Weighing is what trials on a sample showed.
type Weighing struct {
	Source string `json:"source"`
	Favor  Favor  `json:"favor"`
	// Rows are those of the sample, RawBytes their size as text, 0 where they were columns already; PlainBytes their size in plain encoding without
	// compression.
	Rows       int64           `json:"rows"`
	RawBytes   int64           `json:"raw_bytes"`
	PlainBytes int64           `json:"plain_bytes"`
	Columns    []WeighedColumn `json:"columns"`
	// Whole are trials of all columns, in the writer's own encodings, by codec.
	Whole []columnar.Trial `json:"whole"`
	// Steady says that the times came out alike when they were taken again.
	Steady bool `json:"times_steady"`
	// Layouts are the sort orders and partitionings that were to be tried, the rows as they came first.
	Layouts []WeighedLayout `json:"layouts"`
	// Readings compare the costs of reading the raw text and the columns.
	Readings []ReadingCost `json:"readings"`
	// Codec is the recommended codec as --codec takes it, Bytes what the sample takes with it, Reason what it
	// gains over the usual one.
	Codec  string `json:"codec"`
	Bytes  int64  `json:"bytes"`
	Reason string `json:"reason"`

	// times is how often a trial that takes little time is done.
	times int
}

// WeighedColumn is the trials of one column, or of one part of a nested column.
type WeighedColumn struct {
	Path       string           `json:"path"`
	Type       string           `json:"type"`
	PlainBytes int64            `json:"plain_bytes"`
	Trials     []columnar.Trial `json:"trials"`
	// Best is the trial that is favored, in the writer's own encoding.
	Best columnar.Trial `json:"best"`
}

// WeighedLayout is what a layout leads to.
type WeighedLayout struct {
	Flag       string `json:"flag"`
	Files      int    `json:"files"`
	Partitions int    `json:"partitions"`
	Bytes      int64  `json:"bytes"`
	// Filter is a filter for one value that occurs, ScannedBytes what the row groups take that a reader cannot leave out by their statistics and
	// partitions, UnlaidBytes the same for the rows as they come.
	Filter       string `json:"filter,omitempty"`
	ScannedBytes int64  `json:"scanned_bytes"`
	UnlaidBytes  int64  `json:"scanned_bytes_as_it_comes"`
}

// ReadingCost is what reading some columns costs.
type ReadingCost struct {
	Columns         string  `json:"columns"`
	RawBytes        int64   `json:"raw_bytes"`
	RawSeconds      float64 `json:"raw_seconds"`
	ColumnarBytes   int64   `json:"columnar_bytes"`
	ColumnarSeconds float64 `json:"columnar_seconds"`
}

// Weigh is what a weighing is asked to do.
type Weigh struct {
	Reading
	// Table is the table to weigh, nil for a source.
	Table *table.Table
	Favor Favor
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

// Weigh runs the trials.
func (w Weigh) Run(ctx context.Context, b Budget) (*Weighing, error) {
	rows, source, err := w.sample(ctx, b)
	if err != nil {
		return nil, err
	}
	if rows.rows == 0 {
		return nil, fault.New(fault.Input, "there is no row to weigh").Try("name a source with records")
	}
	out := &Weighing{Favor: w.Favor, times: timesFor(rows.schema), Rows: rows.rows, RawBytes: rows.raw, Layouts: []WeighedLayout{}, Readings: []ReadingCost{}}
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
	return out, out.readings(ctx, rows, source, w.Reading)
}

// sample gathers rows spread over the source.
func (w Weigh) sample(ctx context.Context, b Budget) (*sampleRows, *Source, error) {
	if w.Table != nil {
		rows, err := sampleTable(ctx, w.Table)
		return rows, nil, err
	}
	source, err := Survey(ctx, w.Reading)
	if err != nil {
		return nil, nil, err
	}
	inferred, err := source.inferFirst(ctx, w.Reading, b)
	if err != nil {
		return nil, nil, err
	}
	if err := inferred.allMatched(); err != nil {
		return nil, nil, err
	}
	rows, err := source.sampleRows(ctx, inferred.Schema, b)
	return rows, source, err
}

// sampleRows gathers rows of a source under a schema.
func (s *Source) sampleRows(ctx context.Context, of schema.Schema, b Budget) (*sampleRows, error) {
	out := &sampleRows{schema: of.Clone()}
	out.schema.AssignIDs()
	settleUnseen(&out.schema)
	var size int64
	add := func(batch arrow.RecordBatch, raw int64) error {
		out.batches, out.rows, out.raw = append(out.batches, batch), out.rows+batch.NumRows(), out.raw+raw
		if size += columnar.BatchBytes(batch); size > mostSample {
			return io.EOF
		}
		return nil
	}
	columns := newColumnFields(s, out.schema, schema.SafeNames, true)
	var err error
	if s.reshaped != nil {
		err = s.eachFormed(ctx, b, func(_ int, batch arrow.RecordBatch) error { return add(batch, 0) })
	} else if s.columnar() {
		err = s.sampleFiles(ctx, out.schema, columns, add)
	} else {
		p := s.pass("measuring", b)
		if s.Bytes > sampleBytes {
			p.sample = newSampleOf(measuredSpot)
		}
		err = process(ctx, p, func() func(*parse.Block) (fitted, error) {
			return newFitter(s, output{schema: out.schema, unknown: fit.UnknownKept}, columns).work
		}, func(block parse.Block, f fitted) error {
			if f.Batch == nil {
				return nil
			}
			return add(f.Batch, int64(len(block.Data)))
		})
	}
	if err == io.EOF {
		err = nil
	}
	return out, err
}

func (s *Source) sampleFiles(ctx context.Context, of schema.Schema, columns columnFields, add func(arrow.RecordBatch, int64) error) error {
	for _, i := range choose(len(s.Inputs), sampleSpots) {
		f, err := s.Inputs[i].openColumns(ctx)
		if err != nil {
			return err
		}
		fitter := fit.NewBatches(of, false)
		full := false
		taken := int64(0)
		err = f.Batches(ctx, func(b arrow.RecordBatch) error {
			b.Retain()
			result, err := fitter.Fit(ctx, b, columns.fields[i], nil)
			if err != nil {
				return err
			}
			taken += b.NumRows()
			if err := add(result.Batch, 0); err != nil {
				full = true
				return io.EOF
			}
			if taken > 200_000 {
				return io.EOF
			}
			return nil
		})
		f.Close()
		if err != nil || full {
			return err
		}
	}
	return nil
}

// sampleTable gathers rows of a table's files.
func sampleTable(ctx context.Context, t *table.Table) (*sampleRows, error) {
	files, err := t.Files(ctx)
	if err != nil {
		return nil, err
	}
	source := &Source{}
	for _, f := range files {
		object, err := locate.Stat(ctx, t.Store(), f.URI)
		if err != nil {
			return nil, err
		}
		in := Input{Object: object, Rules: sniff.Rules{Format: sniff.Parquet}}
		if err := in.lookInto(ctx); err != nil {
			return nil, err
		}
		source.Inputs = append(source.Inputs, in)
	}
	if len(files) == 0 {
		return &sampleRows{}, nil
	}
	s := t.Schema.Clone()
	for i := range s.Fields {
		s.Fields[i].Required = false
	}
	return source.sampleRows(ctx, s, DefaultBudget())
}

// readings compares reading the raw text with reading the columns.
func (w *Weighing) readings(ctx context.Context, rows *sampleRows, source *Source, r Reading) error {
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
	part := ReadingCost{Columns: alone.path + " alone", RawBytes: rows.raw, ColumnarBytes: single.Bytes, ColumnarSeconds: single.ReadSeconds}
	if source != nil && !source.columnar() {
		for _, c := range []struct {
			cost *ReadingCost
			s    schema.Schema
		}{{&whole, rows.schema}, {&part, schema.Schema{Fields: []schema.Field{alone.field}, OmitRest: true}}} {
			started := time.Now()
			if _, err := source.sampleRows(ctx, c.s, Budget{Workers: 1}); err != nil {
				return err
			}
			c.cost.RawSeconds = time.Since(started).Seconds()
		}
	}
	w.Readings = append(w.Readings, whole, part)
	return nil
}
