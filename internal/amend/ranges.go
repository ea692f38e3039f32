package amend

import (
	"cmp"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/expr"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// interval is numbers from one to another, both included.
type interval struct{ low, high uint64 }

// ranges is where the values of a column lie, as numbers that are in the same order: each by itself while they are few, and otherwise
// neighbours together.
type ranges struct {
	most   int // that are kept by themselves, 0 for mostSingle
	single []uint64
	joined []interval
	// few are the values themselves while there are few, which filters of files can be asked for; many says that there are not.
	few  []expr.Value
	many bool
}

// mostFew is how many values filters are asked for: of more, some are nearly always taken to be there.
const mostFew = 200

// keepFew keeps the values themselves, while there are few.
func (r *ranges) keepFew(a arrow.Array) {
	if r.many = r.many || len(r.few)+a.Len() > mostFew; r.many {
		r.few = nil
		return
	}
	for i := range a.Len() {
		v, ok := exactValue(a, i)
		if !ok {
			r.few, r.many = nil, true
			return
		}
		r.few = append(r.few, v)
	}
}

// exactValue is a value as filters are asked for it; ok is false for one of a type that they do not know.
func exactValue(a arrow.Array, i int) (v expr.Value, ok bool) {
	switch a := a.(type) {
	case *array.Int64:
		return expr.Value{Kind: schema.Long, Long: a.Value(i)}, true
	case *array.Int32:
		return expr.Value{Kind: schema.Long, Long: int64(a.Value(i))}, true
	case *array.Date32:
		return expr.Value{Kind: schema.Date, Long: int64(a.Value(i))}, true
	case *array.String:
		return expr.Value{Kind: schema.String, Text: a.Value(i)}, true
	}
	return v, false
}

// bounds are what keys say of their column.
func (r *ranges) bounds(column string) []expr.Bound {
	out := []expr.Bound{{Column: column, Op: expr.Among, Between: r.between()}}
	if len(r.few) > 0 {
		out = append(out, expr.Bound{Column: column, Op: expr.Equal, Values: r.few})
	}
	return out
}

// mostSingle is how many values are kept by themselves; of more, joinedValues neighbours are taken together.
const (
	mostSingle   = 1 << 21
	joinedValues = 64
)

// add takes the values of a column. All values of a dictionary are taken for ones that occur.
func (r *ranges) add(a arrow.Array) {
	if d, ok := a.(*array.Dictionary); ok {
		a = d.Dictionary()
	}
	r.keepFew(a)
	bits := layout.OrderedBits(a)
	for i := range a.Len() {
		r.single = append(r.single, bits(i))
	}
	most := r.most
	if most == 0 {
		most = mostSingle
	}
	if len(r.single) < 2*most {
		return
	}
	if r.single = unique(r.single); len(r.single) > most {
		for part := range slices.Chunk(r.single, joinedValues) {
			r.joined = append(r.joined, interval{part[0], part[len(part)-1]})
		}
		r.single = r.single[:0]
	}
}

func unique(list []uint64) []uint64 {
	slices.Sort(list)
	return slices.Compact(list)
}

// between returns what tells whether a value may lie between two others.
func (r *ranges) between() func(low, high expr.Value) bool {
	all := r.joined
	for _, v := range unique(r.single) {
		all = append(all, interval{v, v})
	}
	slices.SortFunc(all, func(a, b interval) int { return cmp.Compare(a.low, b.low) })
	merged := all[:0]
	for _, i := range all {
		if n := len(merged); n > 0 && i.low <= merged[n-1].high {
			merged[n-1].high = max(merged[n-1].high, i.high)
		} else {
			merged = append(merged, i)
		}
	}
	return func(low, high expr.Value) bool {
		from, ok := layout.ValueBits(low)
		to, ok2 := layout.ValueBits(high)
		if !ok || !ok2 {
			return true
		}
		at, _ := slices.BinarySearchFunc(merged, from, func(i interval, v uint64) int { return cmp.Compare(i.high, v) })
		return at < len(merged) && merged[at].low <= to
	}
}
