package layout

import (
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// pieceShift is the binary logarithm of how many values are in a piece.
const (
	pieceShift = 14
	pieceRows  = 1 << pieceShift
)

// pieces is a growing list in pieces of pieceRows, so that what is there is never moved.
type pieces[T any] struct {
	list [][]T
	n    int
}

// add appends values.
func (p *pieces[T]) add(values []T) {
	for len(values) > 0 {
		last := len(p.list) - 1
		if last < 0 || len(p.list[last]) == pieceRows {
			var fresh []T
			if last >= 0 {
				fresh = make([]T, 0, pieceRows)
			}
			p.list = append(p.list, fresh)
			last++
		}
		n := min(len(values), pieceRows-len(p.list[last]))
		p.list[last] = append(p.list[last], values[:n]...)
		values = values[n:]
		p.n += n
	}
}

func (p *pieces[T]) at(row uint32) T { return p.list[row>>pieceShift][row&(pieceRows-1)] }

// take returns the values of some rows, in their order.
func (p *pieces[T]) take(order []uint32) []T {
	out, list := make([]T, len(order)), p.list
	for i, row := range order {
		out[i] = list[row>>pieceShift][row&(pieceRows-1)]
	}
	return out
}

// all goes through the values in the order in which they were added.
func (p *pieces[T]) all(yield func(int, T) bool) {
	for k, piece := range p.list {
		for i, v := range piece {
			if !yield(k<<pieceShift|i, v) {
				return
			}
		}
	}
}

// validity tells for each row of a column whether it has a value.
type validity struct {
	words []uint64 // nil while all have
	n     int
	nulls int
}

// add appends that of an array.
func (v *validity) add(a arrow.Array) {
	n := a.Len()
	if a.NullN() == 0 {
		if v.words != nil {
			v.ones(n)
		}
		v.n += n
		return
	}
	if v.words == nil {
		rows := v.n
		v.n = 0
		v.ones(rows)
		v.n = rows
	}
	bitmap, offset := a.NullBitmapBytes(), a.Data().Offset()
	for i := range n {
		at := v.n + i
		if at>>6 == len(v.words) {
			v.words = append(v.words, 0)
		}
		v.words[at>>6] |= uint64(bitmap[(offset+i)>>3]>>((offset+i)&7)&1) << (at & 63)
	}
	v.n += n
	v.nulls += a.NullN()
}

// ones appends n values that are there, without counting them.
func (v *validity) ones(n int) {
	for at, end := v.n, v.n+n; at < end; {
		if at>>6 == len(v.words) {
			v.words = append(v.words, 0)
		}
		step := min(64-at&63, end-at)
		v.words[at>>6] |= (^uint64(0) >> (64 - step)) << (at & 63)
		at += step
	}
}

func (v *validity) null(row uint32) bool { return v.words != nil && v.words[row>>6]>>(row&63)&1 == 0 }

// take returns the validity of some rows as an array has it, and how many of them have no value.
func (v *validity) take(order []uint32) (*memory.Buffer, int) {
	if v.nulls == 0 {
		return nil, 0
	}
	out, set := make([]byte, (len(order)+7)/8), 0
	for i, row := range order {
		out[i>>3] |= byte(v.words[row>>6]>>(row&63)&1) << (i & 7)
	}
	for _, b := range out {
		set += bits.OnesCount8(b)
	}
	if set == len(order) {
		return nil, 0
	}
	return memory.NewBufferBytes(out), len(order) - set
}
