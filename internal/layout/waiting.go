package layout

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// waiting is rows that are not encoded yet, with the number of each row's partition.
type waiting struct {
	batches []arrow.RecordBatch
	numbers []uint32
	rows    int
	bytes   int64
}

func (w *waiting) add(batch arrow.RecordBatch, numbers []uint32) {
	w.batches = append(w.batches, batch)
	w.numbers = append(w.numbers, numbers...)
	w.rows += int(batch.NumRows())
	w.bytes += batchBytes(batch) + int64(4*len(numbers))
}

// sorted is rows in the order of their partitions.
type sorted struct {
	batch arrow.RecordBatch
	// runs are where the rows of each partition lie, in the order of the partitions' numbers.
	runs []run
}

type run struct{ partition, start, end int }

// sorted puts the rows in the order of their partitions, of which there are n; within a partition in the sort order, and where
// that says nothing they stay as they are.
func (w *waiting) sorted(ctx context.Context, n int, s sorter) (sorted, error) {
	var out sorted
	starts := make([]int, n+1)
	for _, number := range w.numbers {
		starts[number+1]++
	}
	for i := range n {
		starts[i+1] += starts[i]
		if starts[i+1] > starts[i] {
			out.runs = append(out.runs, run{i, starts[i], starts[i+1]})
		}
	}
	order := make([]int32, w.rows)
	for row, number := range w.numbers {
		order[starts[number]] = int32(row)
		starts[number]++
	}
	whole, err := w.joined()
	if err != nil {
		return out, err
	}
	if len(s.fields) > 0 {
		for _, r := range out.runs {
			s.sort(whole, order[r.start:r.end])
		}
	}
	indices := array.NewInt32Data(array.NewData(arrow.PrimitiveTypes.Int32, len(order),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(order))}, nil, 0, 0))
	columns := make([]arrow.Array, whole.NumCols())
	for c := range columns {
		if columns[c], err = compute.TakeArray(ctx, whole.Column(c), indices); err != nil {
			return out, err
		}
	}
	out.batch = array.NewRecordBatch(whole.Schema(), columns, int64(w.rows))
	return out, nil
}

// joined makes one batch of all.
func (w *waiting) joined() (arrow.RecordBatch, error) {
	columns := make([]arrow.Array, w.batches[0].NumCols())
	for c := range columns {
		var err error
		if columns[c], err = w.column(c); err != nil {
			return nil, err
		}
	}
	return array.NewRecordBatch(w.batches[0].Schema(), columns, int64(w.rows)), nil
}

// column joins one column of all batches.
func (w *waiting) column(c int) (arrow.Array, error) {
	if len(w.batches) == 1 {
		return w.batches[0].Column(c), nil
	}
	parts := make([]arrow.Array, len(w.batches))
	for i, b := range w.batches {
		parts[i] = b.Column(c)
	}
	return array.Concatenate(parts, memory.DefaultAllocator)
}

// keep takes back the rows of the runs that are left, copied, so that the others do not stay in memory with them.
func (w *waiting) keep(s sorted) error {
	if len(s.runs) == 0 {
		return nil
	}
	var numbers []uint32
	columns := make([]arrow.Array, s.batch.NumCols())
	for c := range columns {
		parts := make([]arrow.Array, len(s.runs))
		for i, run := range s.runs {
			parts[i] = array.NewSlice(s.batch.Column(c), int64(run.start), int64(run.end))
		}
		var err error
		if columns[c], err = array.Concatenate(parts, memory.DefaultAllocator); err != nil {
			return err
		}
	}
	for _, run := range s.runs {
		numbers = append(numbers, slices.Repeat([]uint32{uint32(run.partition)}, run.end-run.start)...)
	}
	w.add(array.NewRecordBatch(s.batch.Schema(), columns, int64(len(numbers))), numbers)
	return nil
}

// batchBytes is about how much memory a batch takes.
func batchBytes(batch arrow.RecordBatch) int64 {
	var n int64
	for _, column := range batch.Columns() {
		n += dataBytes(column.Data())
	}
	return n
}

func dataBytes(d arrow.ArrayData) int64 {
	var n int64
	for _, b := range d.Buffers() {
		if b != nil {
			n += int64(b.Len())
		}
	}
	for _, child := range d.Children() {
		n += dataBytes(child)
	}
	return n
}
