package layout

import (
	"bufio"
	"container/heap"
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/storage"
)

// spill is a temporary file that holds rows which wait on the disk.
type spill struct {
	file *storage.Scratch
	size int64
}

func newSpill(dir string) (*spill, error) {
	file, err := storage.NewScratch(dir)
	if err != nil {
		return nil, fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
	}
	return &spill{file: file}, nil
}

func (s *spill) close() {
	if s != nil {
		s.file.Close()
	}
}

// spilled is rows in the spill file, in the order of their partitions and of the sort order, in Arrow's IPC format.
type spilled struct {
	reader *ipc.FileReader
	// step is how many rows are in each record batch but the last.
	step int
	// runs are where the rows of each partition lie, in the order of the partitions' numbers.
	runs []run
	next int // of runs, that was not merged yet

	loaded arrow.RecordBatch
	number int // of the loaded batch; -1 for none
}

// disk is rows that wait on the disk, in runs of sorted ones.
type disk struct {
	dir   string // where the file is made, empty for the system's own place
	spill *spill // nil until there is a run
	runs  []*spilled
}

// take puts the rows that wait in memory on the disk, in the order of their partitions, of which there are so many, and of the
// sort order.
func (d *disk) take(ctx context.Context, w *waiting, partitions int, s sorter) error {
	rows, err := w.sorted(ctx, partitions, s)
	if err != nil {
		return fmt.Errorf("putting rows in order: %w", err)
	}
	*w = waiting{}
	if d.spill == nil {
		if d.spill, err = newSpill(d.dir); err != nil {
			return err
		}
	}
	run, err := d.spill.add(rows)
	d.runs = append(d.runs, run)
	return err
}

// close gives up all rows.
func (d *disk) close() {
	d.spill.close()
	d.spill, d.runs = nil, nil
}

// spillBytes is about how much of a spilled run is read at a time.
const spillBytes = 256 << 10

// add writes sorted rows.
func (s *spill) add(rows sorted) (*spilled, error) {
	total := int(rows.batch.NumRows())
	out := &spilled{runs: rows.runs, number: -1, step: max(16, min(8192, int(spillBytes*int64(total)/(1+batchBytes(rows.batch)))))}
	counted := &counting{w: bufio.NewWriterSize(s.file, 1<<20)}
	w, err := ipc.NewFileWriter(counted, ipc.WithSchema(rows.batch.Schema()))
	if err != nil {
		return nil, err
	}
	for start := 0; start < total && err == nil; start += out.step {
		err = w.Write(rows.batch.NewSlice(int64(start), int64(min(total, start+out.step))))
	}
	if err == nil {
		err = w.Close()
	}
	if err == nil {
		err = counted.w.Flush()
	}
	if err != nil {
		return nil, fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
	}
	section := io.NewSectionReader(s.file, s.size, counted.n)
	s.size += counted.n
	out.reader, err = ipc.NewFileReader(section)
	return out, err
}

// counting counts the bytes that pass through.
type counting struct {
	w *bufio.Writer
	n int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// at returns the record batch that holds a row, and the row within it.
func (s *spilled) at(row int) (arrow.RecordBatch, int, error) {
	n := row / s.step
	if s.number != n {
		b, err := s.reader.RecordBatchAt(n)
		if err != nil {
			return nil, 0, fmt.Errorf("rows that wait cannot be read back: %w", err)
		}
		s.loaded, s.number = b, n
	}
	return s.loaded, row - n*s.step, nil
}

// cursor is where the merge stands in the rows of one partition within one run.
type cursor struct {
	run      *spilled
	row, end int
	batch    arrow.RecordBatch
	keys     keys
	at       int // of row in batch
	from     int // of batch, first row that was not handed on
}

// load makes the batch of the current row the cursor's.
func (c *cursor) load(s sorter) error {
	b, at, err := c.run.at(c.row)
	if err != nil {
		return err
	}
	c.batch, c.at, c.from, c.keys = b, at, at, s.keys(b)
	return nil
}

// merge hands on the rows of one partition, of which each cursor has some in order, in the sort order; rows that are alike keep
// the order of the runs.
func merge(ctx context.Context, s sorter, cursors []*cursor, emit func(arrow.RecordBatch) error) error {
	if len(s.fields) == 0 {
		return follow(s, cursors, emit)
	}
	heads := heads{sorter: s}
	for i, c := range cursors {
		if err := c.load(s); err != nil {
			return err
		}
		heads.list = append(heads.list, i)
	}
	heads.cursors = cursors
	heap.Init(&heads)
	var order []uint32 // which cursor each row to come is taken from
	flush := func() error {
		if len(order) == 0 {
			return nil
		}
		b, err := gather(ctx, cursors, order)
		order = order[:0]
		if err != nil {
			return err
		}
		return emit(b)
	}
	for len(heads.list) > 0 {
		least := heads.list[0]
		c := cursors[least]
		order = append(order, uint32(least))
		c.row++
		c.at++
		if c.row == c.end || c.at == int(c.batch.NumRows()) {
			// The rows of a batch are handed on before another takes its place.
			if err := flush(); err != nil {
				return err
			}
			if c.row == c.end {
				heap.Pop(&heads)
				continue
			}
			if err := c.load(s); err != nil {
				return err
			}
		}
		heap.Fix(&heads, 0)
	}
	return flush()
}

// follow hands on the rows of one cursor after the other.
func follow(s sorter, cursors []*cursor, emit func(arrow.RecordBatch) error) error {
	for _, c := range cursors {
		for c.row < c.end {
			if err := c.load(s); err != nil {
				return err
			}
			n := min(c.end-c.row, int(c.batch.NumRows())-c.at)
			if err := emit(c.batch.NewSlice(int64(c.at), int64(c.at+n))); err != nil {
				return err
			}
			c.row += n
		}
	}
	return nil
}

// heads is a heap of cursors by the rows they stand at.
type heads struct {
	sorter  sorter
	cursors []*cursor
	list    []int
}

func (h *heads) Len() int      { return len(h.list) }
func (h *heads) Swap(i, j int) { h.list[i], h.list[j] = h.list[j], h.list[i] }
func (h *heads) Push(x any)    { h.list = append(h.list, x.(int)) }

func (h *heads) Pop() any {
	last := h.list[len(h.list)-1]
	h.list = h.list[:len(h.list)-1]
	return last
}

func (h *heads) Less(i, j int) bool {
	a, b := h.cursors[h.list[i]], h.cursors[h.list[j]]
	if c := h.sorter.compare(a.keys, a.at, b.keys, b.at); c != 0 {
		return c < 0
	}
	return h.list[i] < h.list[j]
}

// gather makes a batch of the rows that were taken from the cursors, in their order.
func gather(ctx context.Context, cursors []*cursor, order []uint32) (arrow.RecordBatch, error) {
	var slices []arrow.RecordBatch
	starts := make([]int32, len(cursors))
	total := int32(0)
	for i, c := range cursors {
		starts[i] = total
		if c.batch != nil && c.at > c.from {
			slices = append(slices, c.batch.NewSlice(int64(c.from), int64(c.at)))
			total += int32(c.at - c.from)
			c.from = c.at
		}
	}
	if len(slices) == 1 {
		return slices[0], nil
	}
	indices := make([]int32, len(order))
	for row, from := range order {
		indices[row] = starts[from]
		starts[from]++
	}
	taking := array.NewInt32Data(array.NewData(arrow.PrimitiveTypes.Int32, len(indices),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(indices))}, nil, 0, 0))
	columns := make([]arrow.Array, slices[0].NumCols())
	for c := range columns {
		parts := make([]arrow.Array, len(slices))
		for i, s := range slices {
			parts[i] = s.Column(c)
		}
		joined, err := array.Concatenate(parts, memory.DefaultAllocator)
		if err != nil {
			return nil, err
		}
		if columns[c], err = compute.TakeArray(ctx, joined, taking); err != nil {
			return nil, err
		}
	}
	return array.NewRecordBatch(slices[0].Schema(), columns, int64(len(indices))), nil
}
