package columnar

import (
	"context"
	"fmt"
	"io"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	"golang.org/x/sync/errgroup"

	"trevak/internal/schema"
)

// Options says how a file is written.
type Options struct {
	Codec Codec
	// RowGroupRows and RowGroupBytes end a row group, whichever is reached first; the bytes are those of encoded pages.
	RowGroupRows, RowGroupBytes int64
	// Workers is how many columns are encoded at a time.
	Workers int
}

// DefaultOptions are zstd, and row groups of at most 1 Mi rows or 64 MiB.
var DefaultOptions = Options{Codec: DefaultCodec, RowGroupRows: 1 << 20, RowGroupBytes: 64 << 20, Workers: 1}

// createdBy is the name of the writing program in the footer.
const createdBy = "trevak"

// Writer writes one Parquet file. It keeps no more than a row group in memory. It is not safe for concurrent use.
type Writer struct {
	sink    *countingWriter
	schema  *arrow.Schema
	options Options
	file    *file.Writer
	group   file.BufferedRowGroupWriter
	rows    int64 // in the open row group
	nans    []int64
}

// countingWriter counts the bytes that pass through, and hides a Close method of w from the library, which would call it.
type countingWriter struct {
	w io.Writer
	n int64
}

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// NewWriter begins a file of a schema whose fields have ids. The caller closes w after Close.
func NewWriter(w io.Writer, s schema.Schema, o Options) (*Writer, error) {
	props := parquet.NewWriterProperties(parquet.WithCompression(o.Codec.parquet()), parquet.WithVersion(parquet.V2_LATEST),
		parquet.WithCreatedBy(createdBy), parquet.WithBatchSize(16<<10), parquet.WithMaxStatsSize(math.MaxInt32), parquet.WithPageIndexEnabled(true))
	out := &Writer{sink: &countingWriter{w: w}, schema: s.Arrow(), options: o}
	tree, err := pqarrow.ToParquet(out.schema, props, pqarrow.DefaultWriterProps())
	if err != nil {
		return nil, fmt.Errorf("the schema has no Parquet form: %w", err)
	}
	if out.file, err = file.NewParquetWriterWithError(out.sink, tree.Root(), file.WithWriterProps(props)); err != nil {
		return nil, err
	}
	out.nans = make([]int64, tree.NumColumns())
	return out, nil
}

// Write appends the rows of a batch, whose columns must be those of the schema.
func (w *Writer) Write(ctx context.Context, batch arrow.RecordBatch) error {
	for offset := int64(0); offset < batch.NumRows(); {
		n := min(batch.NumRows()-offset, w.options.RowGroupRows-w.rows)
		if n == batch.NumRows() {
			if err := w.append(ctx, batch); err != nil {
				return err
			}
		} else if err := w.append(ctx, batch.NewSlice(offset, offset+n)); err != nil {
			return err
		}
		offset += n
		w.rows += n
		if w.rows >= w.options.RowGroupRows || w.group.TotalBytesWritten()+w.group.TotalCompressedBytes() >= w.options.RowGroupBytes {
			if err := w.endGroup(); err != nil {
				return err
			}
		}
	}
	return nil
}

// append encodes the columns of a batch side by side; each has an encoder and pages of its own.
func (w *Writer) append(ctx context.Context, batch arrow.RecordBatch) error {
	if w.group == nil {
		var err error
		if w.group, err = w.file.AppendBufferedRowGroupChecked(); err != nil {
			return err
		}
	}
	workers, _ := errgroup.WithContext(ctx)
	workers.SetLimit(max(1, w.options.Workers))
	first := 0
	for c := range int(batch.NumCols()) {
		field, column, at := w.schema.Field(c), batch.Column(c), first
		first += leaves(field.Type)
		workers.Go(func() error {
			for i, l := range shred(field, column) {
				chunk, err := w.group.Column(at + i)
				if err != nil {
					return err
				}
				if err := w.encode(chunk, l, at+i); err != nil {
					return fmt.Errorf("column %q: %w", field.Name, err)
				}
			}
			return nil
		})
	}
	return workers.Wait()
}

// leaves counts the leaf columns of a type.
func leaves(t arrow.DataType) int {
	n, ok := t.(arrow.NestedType)
	if !ok {
		return 1
	}
	if m, ok := t.(*arrow.MapType); ok {
		return leaves(m.KeyType()) + leaves(m.ItemType())
	}
	total := 0
	for _, f := range n.Fields() {
		total += leaves(f.Type)
	}
	return total
}

func (w *Writer) endGroup() error {
	if w.group == nil {
		return nil
	}
	group := w.group
	w.group, w.rows = nil, 0
	return group.Close()
}

// Pending returns an estimate of the bytes that are held in memory for the open row group.
func (w *Writer) Pending() int64 {
	if w.group == nil {
		return 0
	}
	return w.group.TotalBytesWritten() + w.group.TotalCompressedBytes()
}

// Written returns how large the file is so far, what is pending included.
func (w *Writer) Written() int64 { return w.sink.n + w.Pending() }

// Close ends the file and describes it.
func (w *Writer) Close() (*Summary, error) {
	if err := w.endGroup(); err != nil {
		return nil, err
	}
	if err := w.file.Close(); err != nil {
		return nil, err
	}
	footer, err := w.file.FileMetadata()
	if err != nil {
		return nil, err
	}
	return summarize(footer, w.sink.n, w.nans)
}

// encode hands the values of one leaf to its column chunk.
func (w *Writer) encode(chunk file.ColumnChunkWriter, l leaf, at int) (err error) {
	switch chunk := chunk.(type) {
	case *file.Int64ColumnChunkWriter:
		_, err = chunk.WriteBatch(dense(l, l64(l.values)), l.def, l.rep)
	case *file.Int32ColumnChunkWriter:
		_, err = chunk.WriteBatch(dense(l, l32(l.values)), l.def, l.rep)
	case *file.Float64ColumnChunkWriter:
		values := dense(l, l.values.(*array.Float64).Float64Values())
		w.nans[at] += countNaN(values)
		_, err = chunk.WriteBatch(values, l.def, l.rep)
	case *file.Float32ColumnChunkWriter:
		values := dense(l, l.values.(*array.Float32).Float32Values())
		w.nans[at] += countNaN(values)
		_, err = chunk.WriteBatch(values, l.def, l.rep)
	case *file.BooleanColumnChunkWriter:
		_, err = chunk.WriteBatch(collect(l, l.values.(*array.Boolean).Value), l.def, l.rep)
	case *file.ByteArrayColumnChunkWriter:
		text := l.values.(*array.String)
		data, offsets := text.ValueBytes(), text.ValueOffsets()
		first := offsets[0]
		_, err = chunk.WriteBatch(collect(l, func(i int) parquet.ByteArray { return data[offsets[i]-first : offsets[i+1]-first] }), l.def, l.rep)
	default:
		err = fmt.Errorf("%s is not written yet", l.values.DataType())
	}
	return err
}

// l64 and l32 give the values of an array in their stored form.
func l64(a arrow.Array) []int64 {
	data := a.Data()
	return arrow.Int64Traits.CastFromBytes(data.Buffers()[1].Bytes())[data.Offset() : data.Offset()+data.Len()]
}

func l32(a arrow.Array) []int32 {
	data := a.Data()
	return arrow.Int32Traits.CastFromBytes(data.Buffers()[1].Bytes())[data.Offset() : data.Offset()+data.Len()]
}

// dense returns the values that are there.
func dense[T any](l leaf, values []T) []T {
	if l.present == nil {
		return values
	}
	out := make([]T, len(l.present))
	for i, at := range l.present {
		out[i] = values[at]
	}
	return out
}

// collect is dense for arrays that are asked value by value.
func collect[T any](l leaf, value func(int) T) []T {
	if l.present == nil {
		out := make([]T, l.values.Len())
		for i := range out {
			out[i] = value(i)
		}
		return out
	}
	out := make([]T, len(l.present))
	for i, at := range l.present {
		out[i] = value(int(at))
	}
	return out
}

func countNaN[T float32 | float64](values []T) int64 {
	var n int64
	for _, v := range values {
		if v != v {
			n++
		}
	}
	return n
}
