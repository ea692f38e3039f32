package columnar

import (
	"context"
	"fmt"
	"io"

	"trevak/internal/magic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// rowReader reads the rows of a file that is not Parquet.
type rowReader interface {
	schema() *arrow.Schema
	// format is the name of the format.
	format() string
	// rows returns how many there are, -1 where only reading tells.
	rows() int64
	// batches hands on all rows, from the first on, each time it is called.
	batches(ctx context.Context, emit func(arrow.RecordBatch) error) error
}

// partsReader is a rowReader whose file tells of its parts.
type partsReader interface {
	// parts adds how many parts there are, how they are packed, and the file's metadata.
	parts(ctx context.Context, out *Layout) (codec string, err error)
}

// openOther returns the reader for a file by its first bytes, nil for Parquet and everything unknown.
func openOther(from io.ReaderAt, size int64) (rowReader, error) {
	head := make([]byte, len(magic.Arrow))
	if _, err := from.ReadAt(head, 0); err != nil {
		return nil, nil // too short for any of the formats, which the Parquet reader tells
	}
	switch {
	case string(head) == magic.Arrow:
		return openArrow(from, size)
	case string(head[:len(magic.Avro)]) == magic.Avro:
		return openAvro(from, size)
	case string(head[:len(magic.ORC)]) == magic.ORC:
		return openORC(from, size)
	}
	return nil, nil
}

// bounded refuses to allocate more at a time than a file of its size could need: the library takes the sizes in a damaged file for true.
type bounded struct {
	memory.Allocator
	most int
}

func (b bounded) Allocate(size int) []byte {
	if size < 0 || size > b.most {
		panic(fmt.Sprintf("a buffer of %d bytes is not to be expected in the file", size))
	}
	return b.Allocator.Allocate(size)
}

func (b bounded) Reallocate(size int, old []byte) []byte {
	if size < 0 || size > b.most {
		panic(fmt.Sprintf("a buffer of %d bytes is not to be expected in the file", size))
	}
	return b.Allocator.Reallocate(size, old)
}

// arrowFile is a file in Arrow's IPC format.
type arrowFile struct{ reader *ipc.FileReader }

func openArrow(from io.ReaderAt, size int64) (rowReader, error) {
	if err := checkArrow(from, size); err != nil {
		return nil, err
	}
	r, err := ipc.NewFileReader(io.NewSectionReader(from, 0, size),
		ipc.WithAllocator(bounded{memory.DefaultAllocator, int(min(2<<30, 256<<20+64*size))}))
	if err != nil {
		return nil, err
	}
	return &arrowFile{r}, nil
}

func (a *arrowFile) schema() *arrow.Schema { return a.reader.Schema() }

func (a *arrowFile) format() string { return "Arrow IPC" }

func (a *arrowFile) rows() int64 { return -1 }

func (a *arrowFile) parts(ctx context.Context, out *Layout) (codec string, err error) {
	for key, value := range a.schema().Metadata().ToMap() {
		out.Keys[key] = len(value)
	}
	return "", a.batches(ctx, func(b arrow.RecordBatch) error {
		out.Groups = append(out.Groups, GroupLayout{Rows: b.NumRows(), RawBytes: BatchBytes(b)})
		return nil
	})
}

// BatchBytes is how much memory the columns of a batch take.
func BatchBytes(b arrow.RecordBatch) int64 {
	var n int64
	for _, c := range b.Columns() {
		n += int64(c.Data().SizeInBytes())
	}
	return n
}

func (a *arrowFile) batches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	for i := range a.reader.NumRecords() {
		if err := ctx.Err(); err != nil {
			return err
		}
		b, err := a.batch(i)
		if err != nil {
			return fmt.Errorf("record batch %d: %w", i+1, err)
		}
		if err := emit(b); err != nil {
			return err
		}
	}
	return nil
}

// batch reads a batch, and holds its offsets against what they point to, as the library takes them as they come.
func (a *arrowFile) batch(i int) (b arrow.RecordBatch, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	if b, err = a.reader.RecordBatchAt(i); err != nil {
		return nil, err
	}
	return b, array.ValidateRecordFull(b)
}
