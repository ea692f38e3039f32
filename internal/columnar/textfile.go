package columnar

import (
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"golang.org/x/sync/errgroup"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// textWriter writes rows as text, packed where pack is not nil.
type textWriter struct {
	sink    *countingWriter
	pack    io.WriteCloser
	format  Format
	rows    int64
	workers int
	buffers [][]byte // by piece of a batch
}

func newTextWriter(w io.Writer, s schema.Schema, o Options) (t *textWriter, err error) {
	t = &textWriter{sink: &countingWriter{w: w}, format: o.Format.base(), workers: max(1, o.Workers)}
	if begin := packers[o.Format[len(t.format):]]; begin != nil {
		if t.pack, err = begin(t.sink); err != nil {
			return nil, fmt.Errorf("the text cannot be packed: %w", err)
		}
	}
	if t.format == JSONLines {
		return t, nil
	}
	return t, t.put(rowtext.Header(nil, s.Arrow(), t.delimiter()))
}

// put writes text.
func (t *textWriter) put(text []byte) (err error) {
	if t.pack != nil {
		_, err = t.pack.Write(text)
	} else {
		_, err = t.sink.Write(text)
	}
	return err
}

func (t *textWriter) delimiter() byte {
	if t.format == TSV {
		return '\t'
	}
	return ','
}

// leastPiece is how many rows are worth a goroutine.
const leastPiece = 1 << 10

// Write writes the rows of a batch, of which pieces are made text side by side.
func (t *textWriter) Write(ctx context.Context, batch arrow.RecordBatch) error {
	rows := batch.NumRows()
	pieces := max(1, min(int64(t.workers), rows/leastPiece))
	for len(t.buffers) < int(pieces) {
		t.buffers = append(t.buffers, nil)
	}
	if pieces == 1 {
		t.buffers[0] = t.text(t.buffers[0][:0], batch)
	} else {
		group, ctx := errgroup.WithContext(ctx)
		for i := range pieces {
			group.Go(func() error {
				t.buffers[i] = t.text(t.buffers[i][:0], batch.NewSlice(rows*i/pieces, rows*(i+1)/pieces))
				return ctx.Err()
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	for _, text := range t.buffers[:pieces] {
		if err := t.put(text); err != nil {
			return err
		}
	}
	t.rows += rows
	return nil
}

// text makes rows text.
func (t *textWriter) text(dst []byte, batch arrow.RecordBatch) []byte {
	if t.format == JSONLines {
		return rowtext.JSON(dst, batch)
	}
	return rowtext.Delimited(dst, batch, t.delimiter())
}

func (t *textWriter) EndRowGroup() error { return nil }

func (t *textWriter) Pending() int64 { return 0 }

func (t *textWriter) Written() int64 { return t.sink.n }

func (t *textWriter) Close() (*Summary, error) {
	if t.pack != nil {
		if err := t.pack.Close(); err != nil {
			return nil, err
		}
	}
	return &Summary{Rows: t.rows, Bytes: t.sink.n, Columns: map[int]*Metrics{}}, nil
}
