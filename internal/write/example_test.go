package write_test

import (
	"context"
	"fmt"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/write"
)

// counter is a sink that keeps nothing but the number of rows, less those that it loses.
type counter struct{ rows, lost int64 }

func (c *counter) Write(_ context.Context, batch arrow.RecordBatch) error {
	c.rows += batch.NumRows()
	return nil
}
func (c *counter) Close(context.Context) (write.Stored, error) {
	return write.Stored{Rows: c.rows - c.lost}, nil
}
func (c *counter) Abandon()            {}
func (c *counter) Coded() (bool, bool) { return false, false }

// into writes two records to a sink.
func into(sink write.Sink) (*write.Report, error) {
	ctx, s := context.Background(), storage.NewMemory()
	_ = storage.WriteAll(ctx, s, "mem://harbour/in.csv", []byte("id,area\n1,Cairn Bay\n2,The Narrows\n"), storage.Creation{})
	r := infer.Reading{Reading: source.Reading{Store: s, Sources: []string{"mem://harbour/in.csv"}}}
	b := run.DefaultBudget()
	data, err := infer.Survey(ctx, &r, b)
	if err != nil {
		return nil, err
	}
	done, err := write.First(ctx, data, write.Task{Reading: r}, b, time.Now(), "harbour",
		func(s schema.Schema) (write.Prepared, error) {
			return write.Prepared{Output: write.Output{Schema: s, Options: layout.DefaultOptions, Sink: func(*write.Output) (write.Sink, error) { return sink, nil }}, Undo: func() {}}, nil
		})
	return done.Report, err
}

func ExampleFirst() {
	report, err := into(&counter{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(report.RecordsRead, "records read,", report.RowsWritten, "rows written")
	_, err = into(&counter{lost: 1})
	fmt.Println(err)
	// Output:
	// 2 records read, 2 rows written
	// 2 rows were to be written, but 1 are there; this is a fault of the program; nothing was committed
}
