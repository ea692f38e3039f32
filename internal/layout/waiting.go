package layout

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"golang.org/x/sync/errgroup"

	"trevak/internal/schema"
)

// waiting is rows that are not encoded yet, by column, with the number of each row's partition. The values of columns that come
// with dictionaries keep the numbers that they have there over all rows that ever waited.
type waiting struct {
	fields  []arrow.Field
	columns []held
	numbers []uint32
	sort    Sort
	paths   [][]int // of the sort fields
}

func newWaiting(s schema.Schema, order Sort) waiting {
	w := waiting{fields: s.Arrow().Fields(), sort: order}
	for _, f := range w.fields {
		w.columns = append(w.columns, newHeld(f.Type))
	}
	for _, f := range order {
		w.paths = append(w.paths, reach(s, f.Column))
	}
	return w
}

func (w *waiting) rows() int { return len(w.numbers) }

// bytes is about how much memory the rows take.
func (w *waiting) bytes() int64 {
	n := int64(4 * len(w.numbers))
	for _, c := range w.columns {
		n += c.bytes()
	}
	return n
}

func (w *waiting) add(batch arrow.RecordBatch, numbers []uint32) {
	for i, c := range w.columns {
		c.add(batch.Column(i))
	}
	w.numbers = append(w.numbers, numbers...)
}

// empty forgets all rows.
func (w *waiting) empty() {
	for _, c := range w.columns {
		c.empty()
	}
	w.numbers = nil
}

// run is the rows of a partition, in the order that they are to have.
type run struct {
	partition int
	rows      []uint32
}

// runs are the rows of each of so many partitions that has some, in the order of the partitions' numbers; within a partition in
// the sort order, and where that says nothing as they came.
func (w *waiting) runs(partitions int) (out []run) {
	starts := make([]uint32, partitions+1)
	for _, number := range w.numbers {
		starts[number+1]++
	}
	for i := range partitions {
		starts[i+1] += starts[i]
	}
	order, next := make([]uint32, len(w.numbers)), append([]uint32(nil), starts...)
	for row, number := range w.numbers {
		order[next[number]] = uint32(row)
		next[number]++
	}
	for i := range partitions {
		if rows := order[starts[i]:starts[i+1]]; len(rows) > 0 {
			out = append(out, run{i, rows})
		}
	}
	if len(w.sort) > 0 {
		keys := newSortKeys(len(w.numbers), w.sort, w.sortColumns())
		for _, r := range out {
			keys.sort(r.rows)
		}
	}
	return out
}

// sortColumns are those of each sort field, from the outermost on.
func (w *waiting) sortColumns() [][]held {
	out := make([][]held, len(w.paths))
	for i, path := range w.paths {
		c := w.columns[path[0]]
		out[i] = append(out[i], c)
		for _, at := range path[1:] {
			c = c.(*structs).parts[at]
			out[i] = append(out[i], c)
		}
	}
	return out
}

// take makes a batch of some rows, which are part of so many of one file, by so many columns at a time.
func (w *waiting) take(ctx context.Context, rows []uint32, of, workers int) (arrow.RecordBatch, error) {
	columns := make([]arrow.Array, len(w.columns))
	one := func(i int) { columns[i] = array.MakeFromData(w.columns[i].take(rows, of)) }
	if workers <= 1 {
		for i := range columns {
			one(i)
		}
		return w.batch(columns, len(rows)), ctx.Err()
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(workers)
	for i := range columns {
		group.Go(func() error {
			one(i)
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return w.batch(columns, len(rows)), nil
}

// batch is columns as rows, whose types may be those of dictionaries.
func (w *waiting) batch(columns []arrow.Array, rows int) arrow.RecordBatch {
	fields := append([]arrow.Field(nil), w.fields...)
	for i, c := range columns {
		fields[i].Type = c.DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, int64(rows))
}
