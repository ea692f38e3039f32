// Package columnar writes record batches as columnar files and reads them back.
//
// What comes in are Arrow record batches of one schema; what goes out is a file and a Summary of it: sizes, counts and bounds
// by field id, as a table's manifests want them.
package columnar

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/columnar/encode"
)

// leaf is one column chunk's worth of a batch: the values that are there, and the levels that say where. The levels are those
// of the Parquet specification, "Nested Encoding" (after Dremel): def counts how many of the optional and repeated
// ancestors, and the leaf itself if it is optional, are present; rep says at which list a value continues rather than
// begins anew.
type leaf struct {
	values arrow.Array
	// present are the positions in values of those that are there, in a column with parts; nil when all are, in order.
	present []int32
	// valid has a bit for each value that is there, from bit offset on, in a column without parts; nil when all are. It then is
	// in the place of def.
	valid  []byte
	offset int
	// entries is how many levels there are, which counts values and what is absent.
	entries int
	def     []uint16 // nil when every value is there
	rep     []uint16 // nil outside lists
}

// slots is where a walk down one column stands: for each value to come its levels so far and its position in the current
// array, or -1 where an ancestor is null or empty.
type slots struct {
	def, rep []uint16
	at       []int32
	// raised is to be added to the definition level of each slot with a position: of parts that are all there nothing else need be noted.
	raised uint16
	// absent says that some slots have no position.
	absent bool
}

// level returns the definition level of a slot.
func (s *slots) level(i int) uint16 {
	if s.at[i] < 0 {
		return s.def[i]
	}
	return s.def[i] + s.raised
}

// all goes through the positions in values of those that are there.
func (l leaf) all(yield func(int) bool) {
	switch {
	case l.present != nil:
		for _, at := range l.present {
			if !yield(int(at)) {
				return
			}
		}
	default:
		for i := range l.values.Len() {
			if (l.valid == nil || l.valid[(l.offset+i)>>3]>>((l.offset+i)&7)&1 != 0) && !yield(i) {
				return
			}
		}
	}
}

// take returns those of a list, one for each position in values, that are there: the list itself where all are, or in scratch.
func take[T any](l leaf, list []T, scratch *[]T) []T {
	switch {
	case l.valid != nil:
		*scratch = encode.Take((*scratch)[:0], list, l.valid, l.offset, len(list))
	case l.present != nil:
		*scratch = (*scratch)[:0]
		for _, at := range l.present {
			*scratch = append(*scratch, list[at])
		}
	default:
		return list
	}
	return *scratch
}

// shred splits a column of a batch into its leaves, in the order of a Parquet schema.
func shred(field arrow.Field, a arrow.Array) []leaf {
	if !nested(a) {
		l := leaf{values: a, entries: a.Len()}
		if field.Nullable && a.NullN() > 0 {
			l.valid, l.offset = a.NullBitmapBytes(), a.Data().Offset()
		}
		return []leaf{l}
	}
	n := a.Len()
	s := slots{def: make([]uint16, n), at: make([]int32, n)}
	for i := range s.at {
		s.at[i] = int32(i)
	}
	return s.descend(nil, field, a, 0)
}

func nested(a arrow.Array) bool {
	_, ok := a.DataType().(arrow.NestedType)
	return ok
}

// descend goes on with one part and appends its leaves to out. level is the number of lists around it.
func (s slots) descend(out []leaf, field arrow.Field, a arrow.Array, level uint16) []leaf {
	if field.Nullable {
		s = s.optional(a)
	}
	switch a := a.(type) {
	case *array.Struct:
		fields := a.DataType().(*arrow.StructType).Fields()
		for i, f := range fields {
			out = s.descend(out, f, a.Field(i), level)
		}
		return out
	case *array.Map:
		inside := s.repeated(a.Offsets(), a.Data().Offset(), level+1)
		t := a.DataType().(*arrow.MapType)
		out = inside.descend(out, t.KeyField(), a.Keys(), level+1)
		return inside.descend(out, t.ItemField(), a.Items(), level+1)
	case *array.List:
		inside := s.repeated(a.Offsets(), a.Data().Offset(), level+1)
		return inside.descend(out, a.DataType().(*arrow.ListType).ElemField(), a.ListValues(), level+1)
	}
	return append(out, s.leaf(a))
}

// leaf ends a walk at the values.
func (s slots) leaf(a arrow.Array) leaf {
	l := leaf{values: a, entries: len(s.def), rep: s.rep}
	if !s.absent && s.rep == nil {
		return l // the values are in order, for there is no list
	}
	l.def = make([]uint16, len(s.def))
	if !s.absent && a.Len() == len(s.def) {
		for i, d := range s.def {
			l.def[i] = d + s.raised
		}
		return l
	}
	l.present = make([]int32, 0, len(s.at))
	for i, at := range s.at {
		l.def[i] = s.level(i)
		if at >= 0 {
			l.present = append(l.present, at)
		}
	}
	return l
}

// optional raises the definition level where the value is there.
func (s slots) optional(a arrow.Array) slots {
	if a.NullN() == 0 {
		s.raised++
		return s
	}
	next := slots{def: make([]uint16, len(s.def)), rep: s.rep, at: make([]int32, len(s.at)), raised: 1, absent: true}
	valid, offset := a.NullBitmapBytes(), a.Data().Offset()
	for i, at := range s.at {
		next.def[i] = s.level(i)
		if at >= 0 {
			bit := valid[(offset+int(at))>>3] >> ((offset + int(at)) & 7) & 1
			at |= int32(bit) - 1 // -1 where there is no value
		}
		next.at[i] = at
	}
	return next
}

// repeated replaces each list by its elements; empty and absent lists keep one slot. offsets are the list array's, whose own
// offset is base.
func (s slots) repeated(offsets []int32, base int, level uint16) slots {
	entries := 0
	for _, at := range s.at {
		n := 0
		if at >= 0 {
			n = int(offsets[base+int(at)+1] - offsets[base+int(at)])
		}
		entries += max(1, n)
	}
	next := slots{def: make([]uint16, entries), rep: make([]uint16, entries), at: make([]int32, entries), raised: 1}
	to := 0
	for i, at := range s.at {
		rep := uint16(0)
		if s.rep != nil {
			rep = s.rep[i]
		}
		def, start, end := s.level(i), int32(0), int32(0)
		if at >= 0 {
			start, end = offsets[base+int(at)], offsets[base+int(at)+1]
		}
		if start == end {
			next.def[to], next.rep[to], next.at[to], next.absent = def, rep, -1, true
			to++
			continue
		}
		for element := start; element < end; element++ {
			next.def[to], next.rep[to], next.at[to] = def, rep, element
			rep = level
			to++
		}
	}
	return next
}
