package columnar

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// Files with very many columns are read some columns at a time, a row group after the other, where a row group is small enough
// to be held: the library has about 40 KiB for each column that it reads at once.
const (
	wideLeaves  = 2000
	leavesAtAll = 1000
	wideBytes   = 96 << 20
)

// wide reports whether a file is read some columns at a time.
func wide(r *file.Reader) bool {
	footer := r.MetaData()
	if footer.Schema.NumColumns() <= wideLeaves {
		return false
	}
	for g := range r.NumRowGroups() {
		group := footer.RowGroup(g)
		if group.TotalByteSize() > wideBytes || group.NumRows()*int64(footer.Schema.NumColumns())*8 > 2*wideBytes {
			return false
		}
	}
	return true
}

// wideBatches is Batches for such a file, with a batch for each row group.
func (f *File) wideBatches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	reader, err := pqarrow.NewFileReader(f.reader, pqarrow.ArrowReadProperties{}, memory.DefaultAllocator)
	if err != nil {
		return broken(f.location, err)
	}
	for g := range f.reader.NumRowGroups() {
		batch, err := wideGroup(ctx, reader, g)
		if err != nil {
			return broken(f.location, f.place(ctx, err))
		}
		err = emit(batch)
		batch.Release()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// wideGroup reads one row group.
func wideGroup(ctx context.Context, reader *pqarrow.FileReader, g int) (arrow.RecordBatch, error) {
	var fields []arrow.Field
	var columns []arrow.Array
	rows := int64(0)
	for _, leaves := range leafRuns(reader) {
		part, err := reader.ReadRowGroups(ctx, leaves, []int{g})
		if err != nil {
			return nil, err
		}
		rows = part.NumRows()
		for c := range int(part.NumCols()) {
			column, err := array.Concatenate(part.Column(c).Data().Chunks(), memory.DefaultAllocator)
			if err != nil {
				part.Release()
				return nil, fmt.Errorf("reading column %s: %w", part.Column(c).Name(), err)
			}
			fields, columns = append(fields, part.Schema().Field(c)), append(columns, column)
		}
		part.Release()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, rows), nil
}

// leafRuns lists the leaf columns of a file in runs of about leavesAtAll, each of whole top-level columns.
func leafRuns(reader *pqarrow.FileReader) [][]int {
	var runs [][]int
	var run []int
	tree := reader.ParquetReader().MetaData().Schema
	for leaf := range tree.NumColumns() {
		begins := leaf == 0 || tree.ColumnRoot(leaf) != tree.ColumnRoot(leaf-1)
		if begins && len(run) >= leavesAtAll {
			runs, run = append(runs, run), nil
		}
		run = append(run, leaf)
	}
	return append(runs, run)
}
