package layout

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// structs is a column with parts.
type structs struct {
	fields []arrow.Field
	parts  []held
	validity
}

func (s *structs) add(a arrow.Array) {
	list := a.(*array.Struct)
	for i, part := range s.parts {
		part.add(list.Field(i))
	}
	s.validity.add(a)
}

func (s *structs) take(order []uint32, of int) *array.Data {
	valid, nulls := s.validity.take(order)
	fields, parts := slices.Clone(s.fields), make([]arrow.ArrayData, len(s.parts))
	for i, part := range s.parts {
		parts[i] = part.take(order, of)
		fields[i].Type = parts[i].DataType()
	}
	return array.NewData(arrow.StructOf(fields...), len(order), []*memory.Buffer{valid}, parts, nulls, 0)
}

// What has parts is not sorted by; its parts are.
func (s *structs) keys([]uint64) bool         { return true }
func (s *structs) compare(uint32, uint32) int { return 0 }

func (s *structs) bytes() int64 {
	n := int64(8 * len(s.words))
	for _, part := range s.parts {
		n += part.bytes()
	}
	return n
}

func (s *structs) empty() {
	s.validity = validity{}
	for _, part := range s.parts {
		part.empty()
	}
}

// lists is a column of lists or maps: their elements, or keys and values, are columns of their own.
type lists struct {
	dt     arrow.DataType
	spans  pieces[elements]
	parts  []held
	length uint32 // of each part
	validity
}

// elements is where those of one row are.
type elements struct{ start, length uint32 }

func (l *lists) add(a arrow.Array) {
	var offsets []int32
	var values []arrow.Array
	switch a := a.(type) {
	case *array.Map:
		offsets, values = a.Offsets(), []arrow.Array{a.Keys(), a.Items()}
	case *array.List:
		offsets, values = a.Offsets(), []arrow.Array{a.ListValues()}
	}
	if a.Len() == 0 {
		return
	}
	offsets = offsets[a.Data().Offset():][:a.Len()+1]
	first, last := offsets[0], offsets[a.Len()]
	spans := make([]elements, a.Len())
	for i := range spans {
		spans[i] = elements{l.length + uint32(offsets[i]-first), uint32(offsets[i+1] - offsets[i])}
	}
	l.spans.add(spans)
	for i, part := range l.parts {
		part.add(array.NewSlice(values[i], int64(first), int64(last)))
	}
	l.length += uint32(last - first)
	l.validity.add(a)
}

func (l *lists) take(order []uint32, of int) *array.Data {
	valid, nulls := l.validity.take(order)
	offsets, total := make([]int32, len(order)+1), uint32(0)
	for i, row := range order {
		total += l.spans.at(row).length
		offsets[i+1] = int32(total)
	}
	inside := make([]uint32, 0, total)
	for _, row := range order {
		s := l.spans.at(row)
		for at := s.start; at < s.start+s.length; at++ {
			inside = append(inside, at)
		}
	}
	parts := make([]arrow.ArrayData, len(l.parts))
	for i, part := range l.parts {
		parts[i] = part.take(inside, max(of, len(inside)))
	}
	buffers := []*memory.Buffer{valid, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets))}
	if t, ok := l.dt.(*arrow.MapType); ok {
		key, item := t.KeyField(), t.ItemField()
		key.Type, item.Type = parts[0].DataType(), parts[1].DataType()
		whole := arrow.MapOfFields(key, item)
		entries := array.NewData(whole.Elem(), len(inside), []*memory.Buffer{nil}, parts, 0, 0)
		return array.NewData(whole, len(order), buffers, []arrow.ArrayData{entries}, nulls, 0)
	}
	element := l.dt.(*arrow.ListType).ElemField()
	element.Type = parts[0].DataType()
	return array.NewData(arrow.ListOfField(element), len(order), buffers, parts, nulls, 0)
}

func (l *lists) keys([]uint64) bool         { return true }
func (l *lists) compare(uint32, uint32) int { return 0 }

func (l *lists) bytes() int64 {
	n := int64(8*l.spans.n + 8*len(l.words))
	for _, part := range l.parts {
		n += part.bytes()
	}
	return n
}

func (l *lists) empty() {
	l.spans, l.length, l.validity = pieces[elements]{}, 0, validity{}
	for _, part := range l.parts {
		part.empty()
	}
}
