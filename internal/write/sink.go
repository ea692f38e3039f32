package write

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/scan"
)

// Sink is where the rows of a run leave. One of Close and Abandon ends it; Abandon after Close does nothing.
type Sink interface {
	// Write takes the rows of a batch.
	Write(ctx context.Context, batch arrow.RecordBatch) error
	// Close has all rows where they belong, and tells what they are, so that the account of the run can be held against it.
	Close(ctx context.Context) (Stored, error)
	// Abandon gives up what was taken.
	Abandon()
	// Coded reports whether columns may come as Arrow dictionaries, and whether the memory of a batch is free once it was taken.
	Coded() (columns, memory bool)
}

// PlacedSink is a sink that wants to know where rows came from: before is the number of records of the object that came before the first
// of the piece.
type PlacedSink interface {
	Sink
	WritePlaced(ctx context.Context, batch arrow.RecordBatch, from *scan.Rows, before int64) error
}

// Stored is what a sink has taken, once it is closed: rows, the bytes that they take, and for data files these and the number of
// their partitions.
type Stored struct {
	Rows, Bytes int64
	Files       []layout.DataFile
	Partitions  int
}

// fileSink is data files.
type fileSink struct {
	*layout.Router
	columns, memory bool
}

// Straight reports whether batches go straight into files, one by one, and nothing is held of them.
func Straight(o *Output) bool {
	return len(o.Spec) == 0 && len(o.Options.Sort) == 0 && !o.Dry && (o.isParquet() || o.Options.Columnar.Format.Text())
}

func (o *Output) isParquet() bool {
	return o.Options.Columnar.Format == columnar.Parquet || o.Options.Columnar.Format == ""
}

func newFileSink(o *Output) *fileSink {
	waits := len(o.Spec)+len(o.Options.Sort) > 0
	numbers := o.isParquet() && len(o.Options.Columnar.Bloom) == 0 || o.Options.Columnar.Format.Text()
	return &fileSink{Router: layout.NewRouter(o.Stored(), o.Spec, o.Options, o.Create), columns: numbers && (Straight(o) || waits),
		memory: Straight(o) || waits}
}

// sink is where the rows of an output leave.
func (o *Output) sink() (Sink, error) {
	if o.Sink != nil {
		return o.Sink(o)
	}
	return newFileSink(o), nil
}

func (s *fileSink) Coded() (columns, memory bool) { return s.columns, s.memory }

func (s *fileSink) Close(ctx context.Context) (Stored, error) {
	files, err := s.Router.Close(ctx)
	out := Stored{Files: files, Partitions: s.Partitions()}
	for _, f := range files {
		out.Rows += f.Summary.Rows
		out.Bytes += f.Summary.Bytes
	}
	return out, err
}
