package write

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/layout"
)

// Sink is where the rows of a run leave. One of Close and Abandon ends it; Abandon after Close does nothing.
type Sink interface {
	// Write takes the rows of a batch.
	Write(ctx context.Context, batch arrow.RecordBatch) error
	// Close has all rows where they belong.
	Close(ctx context.Context) error
	// Abandon gives up what was taken.
	Abandon()
	// Coded reports whether columns may come as Arrow dictionaries, and whether the memory of a batch is free once it was taken.
	Coded() (columns, memory bool)
}

// fileSink is data files.
type fileSink struct {
	*layout.Router
	columns, memory bool
	files           []layout.DataFile
}

func newFileSink(o *Output) *fileSink {
	parquet := o.Options.Columnar.Format == columnar.Parquet || o.Options.Columnar.Format == ""
	// Where batches go straight into Parquet files, one by one, nothing is held of them.
	straight := len(o.Spec) == 0 && len(o.Options.Sort) == 0 && !o.Dry && parquet
	return &fileSink{Router: layout.NewRouter(o.Schema, o.Spec, o.Options, o.Create), columns: straight &&
		len(o.Options.Columnar.Bloom) == 0, memory: straight}
}

func (s *fileSink) Coded() (columns, memory bool) { return s.columns, s.memory }

func (s *fileSink) Close(ctx context.Context) (err error) {
	s.files, err = s.Router.Close(ctx)
	return err
}
