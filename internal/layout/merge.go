package layout

import (
	"container/heap"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/schema"
)

// cursor is where the merge stands in the rows of one partition within one run.
type cursor struct {
	run      *spilled
	row, end int
	batch    arrow.RecordBatch
	keys     keys
	prefixes func(row int) uint64
	prefix   uint64 // of the current row
	at       int    // of row in batch
	from     int    // of batch, first row that was not handed on
}

// load makes the batch of the current row the cursor's.
func (c *cursor) load(s sorter) error {
	b, at, err := c.run.at(c.row)
	if err != nil {
		return err
	}
	c.batch, c.at, c.from, c.keys = b, at, at, s.keys(b)
	if len(s.fields) > 0 {
		c.prefixes = prefixOf(c.keys[0], s.fields[0])
		c.prefix = c.prefixes(at)
	}
	return nil
}

// merge hands on the rows of one partition, of which each cursor has some in order, in the sort order; rows that are alike keep
// the order of the runs.
func merge(rows schema.Schema, s sorter, cursors []*cursor, emit func(arrow.RecordBatch) error) error {
	if len(s.fields) == 0 || len(cursors) == 1 {
		return follow(s, cursors, emit)
	}
	heads, of := heads{sorter: s, cursors: cursors}, 0
	for i, c := range cursors {
		of += c.end - c.row
		if err := c.load(s); err != nil {
			return err
		}
		heads.list = append(heads.list, i)
	}
	heap.Init(&heads)
	var order []uint32 // which cursor each row to come is taken from
	flush := func() error {
		if len(order) == 0 {
			return nil
		}
		b := gather(rows, cursors, order, of)
		order = order[:0]
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
		} else {
			c.prefix = c.prefixes(c.at)
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
	if a.prefix != b.prefix {
		return a.prefix < b.prefix
	}
	if c := h.sorter.compare(a.keys, a.at, b.keys, b.at); c != 0 {
		return c < 0
	}
	return h.list[i] < h.list[j]
}

// gather makes a batch of the rows that were taken from the cursors, in their order; they are part of so many of one file.
func gather(s schema.Schema, cursors []*cursor, order []uint32, of int) arrow.RecordBatch {
	rows := newWaiting(s, nil)
	starts, total := make([]uint32, len(cursors)), 0
	for i, c := range cursors {
		starts[i] = uint32(total)
		if c.batch == nil || c.at == c.from {
			continue
		}
		part := c.batch.NewSlice(int64(c.from), int64(c.at))
		for k, column := range rows.columns {
			if p := c.run.palettes[k]; p != nil {
				column.(*leaves).addNumbered(p, part.Column(k).(*array.Dictionary))
			} else {
				column.add(part.Column(k))
			}
		}
		total += c.at - c.from
		c.from = c.at
	}
	indices := make([]uint32, len(order))
	for row, from := range order {
		indices[row] = starts[from]
		starts[from]++
	}
	columns := make([]arrow.Array, len(rows.columns))
	for i, c := range rows.columns {
		columns[i] = array.MakeFromData(c.take(indices, of))
	}
	return rows.batch(columns, len(indices))
}
