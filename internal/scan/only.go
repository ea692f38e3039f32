package scan

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

func nulls(t arrow.DataType, n int) arrow.Array {
	return array.MakeArrayOfNull(memory.DefaultAllocator, t, n)
}

// only leaves out all rows but some, which are in order, with what is told of them. What is told of records stays.
func (r *Rows) only(ctx context.Context, kept []int32) error {
	if len(kept) == int(r.Batch.NumRows()) {
		return nil
	}
	batch, err := Taken(ctx, r.Batch, kept)
	if err != nil {
		return err
	}
	ranks := make([]int64, len(kept))
	for i, row := range kept {
		ranks[i] = r.Rank(int(row))
	}
	r.Batch, r.Ranks = batch, ranks
	r.Misfit, r.Raws, r.starts = picked(r.Misfit, kept), picked(r.Raws, kept), picked(r.starts, kept)
	r.ends = picked(r.ends, kept)
	r.pickMisfits(kept)
	return nil
}

// pickMisfits keeps the misfits of rows that are kept.
func (r *Rows) pickMisfits(kept []int32) {
	if len(r.Misfits) == 0 {
		return
	}
	to := make(map[int]int, len(kept))
	for i, row := range kept {
		to[int(row)] = i
	}
	left := r.Misfits[:0:0]
	for _, m := range r.Misfits {
		if row, ok := to[m.Row]; ok {
			m.Row = row
			left = append(left, m)
		}
	}
	r.Misfits = left
}

func picked[T any](list []T, kept []int32) []T {
	if list == nil {
		return nil
	}
	out := make([]T, len(kept))
	for i, row := range kept {
		out[i] = list[row]
	}
	return out
}

// Taken is some rows of a batch, by their places in order.
func Taken(ctx context.Context, b arrow.RecordBatch, kept []int32) (arrow.RecordBatch, error) {
	if len(kept) == int(b.NumRows()) {
		return b, nil
	}
	indices := array.MakeFromData(array.NewData(arrow.PrimitiveTypes.Int32, len(kept),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(kept))}, nil, 0, 0))
	columns := make([]arrow.Array, b.NumCols())
	for i, c := range b.Columns() {
		from := c
		d, coded := c.(*array.Dictionary)
		if coded {
			from = d.Indices()
		}
		var err error
		if columns[i], err = compute.TakeArray(ctx, from, indices); err != nil {
			return nil, err
		}
		if coded {
			columns[i] = array.NewDictionaryArray(d.DataType(), columns[i], d.Dictionary())
		}
	}
	return array.NewRecordBatch(b.Schema(), columns, int64(len(kept))), nil
}
