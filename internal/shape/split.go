package shape

import (
	"context"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// PositionColumn holds, in the rows of a list that were split off, the position of each element, from 0.
const PositionColumn = "_position"

// Child makes the rows of a list on its own: a row for each element, with the keys of the record, its position, and the members
// of the element, or the element itself by the list's name.
type Child struct {
	List string
	Keys []string
}

// child is the step of a Child.
type child struct {
	Child
	list *unnest
	keys []int
	// element is where the elements are once there is a row for each, members whether they are objects.
	element []int
	members bool
}

func (s *child) settle(fields []schema.Field) ([]schema.Field, error) {
	var out []schema.Field
	for _, name := range s.Keys {
		at := find(fields, name)
		if at < 0 {
			return nil, unknown("--key", name, fields)
		}
		s.keys = append(s.keys, at)
		out = append(out, fields[at])
	}
	s.list = &unnest{lists: []string{s.List}, dropEmpty: true, flag: "--split"}
	after, err := s.list.settle(schema.Schema{Fields: fields}.Clone().Fields)
	if err != nil {
		return nil, err
	}
	s.element = s.list.paths[0]
	f := after[s.element[0]]
	for _, at := range s.element[1:] {
		f = f.Type.Fields[at]
	}
	out = append(out, schema.Field{Name: PositionColumn, Type: schema.Type{Kind: schema.Long}})
	if s.members = f.Type.Kind == schema.Struct; s.members {
		for _, part := range f.Type.Fields {
			part.Required = false
			out = append(out, part)
		}
	} else {
		f.Required = false
		out = append(out, f)
	}
	seen := map[string]bool{}
	for _, f := range out {
		if seen[strings.ToLower(f.Name)] {
			return nil, fault.New(fault.Usage, "--split %s: its elements have a member %q, as the key of its records", s.List, f.Name).
				Try("leave --key out, so that records are told apart by a column %s", ParentColumn)
		}
		seen[strings.ToLower(f.Name)] = true
	}
	return out, nil
}

// ParentColumn tells records apart whose lists were split off, where no key is stated.
const ParentColumn = "_parent_id"

func (s *child) apply(ctx context.Context, f *frame) error {
	keys := make([]arrow.Array, len(s.keys))
	part := &frame{arrays: []arrow.Array{f.arrays[s.element[0]]}, rows: f.rows, origin: f.origin}
	for _, at := range s.keys {
		part.arrays = append(part.arrays, f.arrays[at])
	}
	only := &unnest{paths: [][]int{append([]int{0}, s.element[1:]...)}, index: true, dropEmpty: true}
	if err := only.apply(ctx, part); err != nil {
		return err
	}
	// The positions come first, then the column with the list, then the keys.
	copy(keys, part.arrays[2:])
	elements := part.arrays[1]
	for _, at := range s.element[1:] {
		elements = member(elements.(*array.Struct), at)
	}
	f.arrays = append(keys, part.arrays[0])
	if parent, ok := elements.(*array.Struct); ok && s.members {
		for i := range parent.NumField() {
			f.arrays = append(f.arrays, member(parent, i))
		}
	} else {
		f.arrays = append(f.arrays, elements)
	}
	f.origin, f.rows = part.origin, part.rows
	return nil
}

// without takes a list away, and counts its elements. Objects that have no other member go with it.
type without struct {
	name string
	path []int
	gone []int // the path of what goes
}

func (s *without) settle(fields []schema.Field) (_ []schema.Field, err error) {
	if s.path, err = (&unnest{flag: "--split"}).path(fields, s.name); err != nil {
		return nil, err
	}
	s.gone = s.path[:1]
	of := fields[s.path[0]].Type
	for depth, at := range s.path[1:] {
		if len(of.Fields) > 1 {
			s.gone = s.path[:depth+2]
		}
		of = of.Fields[at].Type
	}
	if len(s.gone) == 1 {
		return slices.Delete(fields, s.gone[0], s.gone[0]+1), nil
	}
	replace(fields, s.gone[:len(s.gone)-1], func(f *schema.Field) {
		f.Type.Fields = append([]schema.Field(nil), f.Type.Fields...)
		at := s.gone[len(s.gone)-1]
		f.Type.Fields = slices.Delete(f.Type.Fields, at, at+1)
	})
	return fields, nil
}

func (s *without) apply(_ context.Context, f *frame) error {
	a := f.arrays[s.path[0]]
	for _, next := range s.path[1:] {
		a = member(a.(*array.Struct), next)
	}
	list, elements := a.(*array.List), int64(0)
	for row := range list.Len() {
		if !list.IsNull(row) {
			start, end := list.ValueOffsets(row)
			elements += end - start
		}
	}
	f.elements = append(f.elements, elements)
	arrays := slices.Clone(f.arrays)
	if len(s.gone) == 1 {
		f.arrays = slices.Delete(arrays, s.gone[0], s.gone[0]+1)
		return nil
	}
	arrays[s.gone[0]] = s.rebuild(arrays[s.gone[0]].(*array.Struct), s.gone[1:])
	f.arrays = arrays
	return nil
}

// rebuild returns objects without the member at the end of a path.
func (s *without) rebuild(parent *array.Struct, path []int) arrow.Array {
	var fields []arrow.Field
	var children []arrow.ArrayData
	for i, f := range parent.DataType().(*arrow.StructType).Fields() {
		part := parent.Field(i)
		if i == path[0] {
			if len(path) == 1 {
				continue
			}
			part = s.rebuild(part.(*array.Struct), path[1:])
		}
		f.Type = part.DataType()
		fields, children = append(fields, f), append(children, part.Data())
	}
	bits, nulls := newBits(parent.Len()), 0
	for i := range parent.Len() {
		if parent.IsNull(i) {
			bitutil.ClearBit(bits, i)
			nulls++
		}
	}
	return array.MakeFromData(array.NewData(arrow.StructOf(fields...), parent.Len(), []*memory.Buffer{memory.NewBufferBytes(bits)},
		children, nulls, 0))
}
