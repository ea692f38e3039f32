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

// unnest makes a row of each element of lists, which go side by side where there are several; the other columns are repeated.
type unnest struct {
	lists                   []string
	index, count, dropEmpty bool
	separator               string
	flag                    string  // that names the lists
	paths                   [][]int // of the lists, positions from the outermost column on
}

func (u *unnest) settle(fields []schema.Field) ([]schema.Field, error) {
	for _, name := range u.lists {
		path, err := u.path(fields, name)
		if err != nil {
			return nil, err
		}
		u.paths = append(u.paths, path)
	}
	for _, path := range u.paths {
		replace(fields, path, func(f *schema.Field) {
			element := *f.Type.Element
			f.Type, f.Required = element.Type, false
		})
	}
	var added []schema.Field
	if u.index {
		added = append(added, schema.Field{Name: listColumn(u.lists[0], u.separator, "index"), Type: schema.Type{Kind: schema.Long}})
	}
	if u.count {
		for _, list := range u.lists {
			added = append(added, schema.Field{Name: listColumn(list, u.separator, "count"), Type: schema.Type{Kind: schema.Long}})
		}
	}
	for _, f := range added {
		if find(fields, f.Name) >= 0 {
			return nil, fault.New(fault.Usage, "the rows have a column %q already",
				f.Name).Try("leave --unnest-index or --unnest-count out, or rename the column")
		}
	}
	return slices.Insert(fields, u.paths[0][0], added...), nil
}

// listColumn is the name of a column that tells something of a list.
func listColumn(list, separator, what string) string {
	return strings.ReplaceAll(list, ".", separator) + separator + what
}

// path finds a list by its name, or its path through objects.
func (u *unnest) path(fields []schema.Field, name string) ([]int, error) {
	var path []int
	parts := strings.Split(name, ".")
	for i, part := range parts {
		at := find(fields, part)
		if at < 0 {
			return nil, unknown(u.flag, strings.Join(parts[:i+1], "."), fields)
		}
		path = append(path, at)
		t := fields[at].Type
		switch {
		case i == len(parts)-1 && t.Kind != schema.List:
			return nil, fault.New(fault.Usage, "%s %s: it is %s, not a list", u.flag, name,
				t.Kind).Try("name one of the lists, which are shown by").By(fault.SeeSchema)
		case i < len(parts)-1 && t.Kind == schema.List:
			return nil, fault.New(fault.Usage, "%s %s: %s is a list itself", u.flag, name, strings.Join(parts[:i+1], ".")).
				Try("make rows of it first: --unnest %s --unnest %s", strings.Join(parts[:i+1], "."), name)
		case i < len(parts)-1 && t.Kind != schema.Struct:
			return nil, fault.New(fault.Usage, "%s %s: %s is %s, which has no members", u.flag, name,
				strings.Join(parts[:i+1], "."), t.Kind).Try("its members are shown by").By(fault.SeeSchema)
		}
		fields = t.Fields
	}
	return path, nil
}

// replace changes a field within fields, whose parts are copied on the way.
func replace(fields []schema.Field, path []int, change func(*schema.Field)) {
	f := &fields[path[0]]
	if len(path) == 1 {
		change(f)
		return
	}
	f.Type.Fields = append([]schema.Field(nil), f.Type.Fields...)
	f.Required = false
	replace(f.Type.Fields, path[1:], change)
}

// expansion is how rows become more: for each new row the one it came of, its position among the elements, and for each list
// the element, absent where it has none.
type expansion struct {
	rows     []int32
	index    []int64
	elements [][]int32
	absent   [][]bool
	none     []bool // rows whose lists have no element
}

func (u *unnest) apply(ctx context.Context, f *frame) (err error) {
	lists := make([]*array.List, len(u.paths))
	for i, path := range u.paths {
		a := f.arrays[path[0]]
		for _, next := range path[1:] {
			a = member(a.(*array.Struct), next)
		}
		lists[i] = a.(*array.List)
	}
	e := u.expand(lists, f.rows)
	arrays := make([]arrow.Array, len(f.arrays))
	for i, a := range f.arrays {
		if !u.touches(i) {
			if arrays[i], err = takeArray(ctx, a, e.rows, nil); err != nil {
				return err
			}
		}
	}
	for i := range f.arrays {
		if u.touches(i) {
			if arrays[i], err = u.rebuild(ctx, f.arrays[i], lists, e, []int{i}); err != nil {
				return err
			}
		}
	}
	var added []arrow.Array
	if u.index {
		added = append(added, e.positions())
	}
	if u.count {
		for _, list := range lists {
			added = append(added, e.counts(list))
		}
	}
	arrays = slices.Insert(arrays, u.paths[0][0], added...)
	f.arrays = arrays
	f.moved(e.rows)
	return nil
}

// touches reports whether a list is in a column.
func (u *unnest) touches(column int) bool {
	for _, path := range u.paths {
		if path[0] == column {
			return true
		}
	}
	return false
}

// expand counts out the new rows.
func (u *unnest) expand(lists []*array.List, n int) *expansion {
	e := &expansion{elements: make([][]int32, len(lists)), absent: make([][]bool, len(lists))}
	starts, lengths := make([]int32, len(lists)), make([]int32, len(lists))
	rows := n
	for i, list := range lists {
		rows = max(rows, n+list.ListValues().Len())
		e.elements[i], e.absent[i] = make([]int32, 0, rows), make([]bool, 0, rows)
	}
	e.rows, e.index, e.none = make([]int32, 0, rows), make([]int64, 0, rows), make([]bool, 0, rows)
	for row := range n {
		most := int32(0)
		for i, list := range lists {
			starts[i], lengths[i] = 0, 0
			if !list.IsNull(row) {
				start, end := list.ValueOffsets(row)
				starts[i], lengths[i] = int32(start), int32(end-start)
			}
			most = max(most, lengths[i])
		}
		if most == 0 && u.dropEmpty {
			continue
		}
		for position := range max(1, most) {
			e.rows = append(e.rows, int32(row))
			e.index = append(e.index, int64(position))
			e.none = append(e.none, most == 0)
			for i := range lists {
				absent := position >= lengths[i]
				element := starts[i] + position
				if absent {
					element = 0
				}
				e.elements[i], e.absent[i] = append(e.elements[i], element), append(e.absent[i], absent)
			}
		}
	}
	for i, absent := range e.absent {
		if !slices.Contains(absent, true) {
			e.absent[i] = nil
		}
	}
	return e
}

// positions is the column of positions.
func (e *expansion) positions() arrow.Array {
	bits, nulls := newBits(len(e.rows)), 0
	for i, none := range e.none {
		if none {
			bitutil.ClearBit(bits, i)
			nulls++
		}
	}
	return longs(e.index, bits, nulls)
}

// counts is the column of how many elements a list has.
func (e *expansion) counts(list *array.List) arrow.Array {
	values := make([]int64, len(e.rows))
	bits, nulls := newBits(len(e.rows)), 0
	for i, row := range e.rows {
		if list.IsNull(int(row)) {
			bitutil.ClearBit(bits, i)
			nulls++
			continue
		}
		start, end := list.ValueOffsets(int(row))
		values[i] = end - start
	}
	return longs(values, bits, nulls)
}

func longs(values []int64, bits []byte, nulls int) arrow.Array {
	buffers := []*memory.Buffer{memory.NewBufferBytes(bits), memory.NewBufferBytes(arrow.Int64Traits.CastToBytes(values))}
	return array.MakeFromData(array.NewData(arrow.PrimitiveTypes.Int64, len(values), buffers, nil, nulls, 0))
}

// rebuild returns a column with lists in it for the new rows: elements in the place of the lists, all else repeated.
func (u *unnest) rebuild(ctx context.Context, a arrow.Array, lists []*array.List, e *expansion, at []int) (arrow.Array, error) {
	within := false
	for i, path := range u.paths {
		if slices.Equal(path, at) {
			values := lists[i].ListValues()
			if values.Len() == 0 {
				return array.MakeArrayOfNull(memory.DefaultAllocator, values.DataType(), len(e.rows)), nil
			}
			return takeArray(ctx, values, e.elements[i], e.absent[i])
		}
		within = within || len(path) > len(at) && slices.Equal(path[:len(at)], at)
	}
	if !within {
		return takeArray(ctx, a, e.rows, nil)
	}
	parent := a.(*array.Struct)
	fields := parent.DataType().(*arrow.StructType).Fields()
	children := make([]arrow.ArrayData, len(fields))
	for i := range fields {
		child, err := u.rebuild(ctx, member(parent, i), lists, e, append(at[:len(at):len(at)], i))
		if err != nil {
			return nil, err
		}
		children[i], fields[i].Type = child.Data(), child.DataType()
	}
	bits, nulls := newBits(len(e.rows)), 0
	for i, row := range e.rows {
		if parent.IsNull(int(row)) {
			bitutil.ClearBit(bits, i)
			nulls++
		}
	}
	return array.MakeFromData(array.NewData(arrow.StructOf(fields...), len(e.rows), []*memory.Buffer{memory.NewBufferBytes(bits)},
		children, nulls, 0)), nil
}
