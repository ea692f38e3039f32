package shape

import (
	"context"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// flatten makes columns of the members of objects.
type flatten struct {
	separator string
	depth     int
	asJSON    bool
	leaves    []leaf
	twins     []Twin
}

// Twin is a column whose path gives the name of another, and that was told apart from it.
type Twin struct {
	// Path is the column's in the source, Name what it is called, Plain what the other is.
	Path, Name, Plain string
}

// leaf is where a column comes from: positions from the outermost column on.
type leaf struct {
	at   []int
	json bool
}

func (s *flatten) settle(fields []schema.Field) ([]schema.Field, error) {
	var out []schema.Field
	var paths []string
	var walk func(f schema.Field, name, path string, at []int)
	walk = func(f schema.Field, name, path string, at []int) {
		if f.Type.Kind == schema.Struct && len(f.Type.Fields) > 0 && (s.depth == 0 || len(at) <= s.depth) {
			for i, part := range f.Type.Fields {
				// A member of an optional object is optional.
				part.Required = part.Required && f.Required
				walk(part, name+s.separator+part.Name, path+"."+part.Source(), append(at[:len(at):len(at)], i))
			}
			return
		}
		if len(at) > 1 {
			f.Origin = ""
		}
		f.Name = name
		l := leaf{at: at, json: s.asJSON && f.Type.Nested()}
		if l.json {
			f.Type = schema.Type{Kind: schema.String}
		}
		out, paths, s.leaves = append(out, f), append(paths, path), append(s.leaves, l)
	}
	for i, f := range fields {
		walk(f, f.Name, f.Source(), []int{i})
	}
	s.tellApart(fields, out, paths)
	return out, nil
}

// tellApart gives columns of one name others, but for the one with the shortest path, of these the first: the parts of their
// paths then have more separators between them.
func (s *flatten) tellApart(fields, columns []schema.Field, paths []string) {
	order := make([]int, len(columns))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(i, j int) int { return len(s.leaves[i].at) - len(s.leaves[j].at) })
	taken := map[string]int{}
	var again []int
	for _, i := range order {
		if _, known := taken[strings.ToLower(columns[i].Name)]; known {
			again = append(again, i)
		} else {
			taken[strings.ToLower(columns[i].Name)] = i
		}
	}
	for _, i := range again {
		plain, separator := columns[i].Name, s.separator
		for known := true; known; {
			separator += s.separator
			columns[i].Name = nameOf(fields, s.leaves[i].at, separator)
			_, known = taken[strings.ToLower(columns[i].Name)]
		}
		taken[strings.ToLower(columns[i].Name)] = i
		s.twins = append(s.twins, Twin{paths[i], columns[i].Name, plain})
	}
}

// nameOf is the name of a part, with a separator between those of what it is a part of.
func nameOf(fields []schema.Field, at []int, separator string) string {
	f := fields[at[0]]
	name := f.Name
	for _, next := range at[1:] {
		f = f.Type.Fields[next]
		name += separator + f.Name
	}
	return name
}

// Twins lists the columns that were told apart from others of their name.
func (p *Plan) Twins() (all []Twin) {
	for _, s := range p.steps {
		if f, ok := s.(*flatten); ok {
			all = append(all, f.twins...)
		}
	}
	return all
}

func (s *flatten) apply(_ context.Context, f *frame) error {
	arrays := make([]arrow.Array, len(s.leaves))
	for i, l := range s.leaves {
		a := f.arrays[l.at[0]]
		for _, next := range l.at[1:] {
			a = member(a.(*array.Struct), next)
		}
		if l.json {
			a = jsonText(a)
		}
		arrays[i] = a
	}
	f.arrays = arrays
	return nil
}

// member returns a member of objects, null where there is no object.
func member(parent *array.Struct, at int) arrow.Array {
	a := parent.Field(at)
	if parent.NullN() == 0 {
		return a
	}
	bits, nulls := newBits(a.Len()), 0
	for i := range a.Len() {
		if a.IsNull(i) || parent.IsNull(i) {
			bitutil.ClearBit(bits, i)
			nulls++
		}
	}
	return withNulls(a, bits, nulls)
}

// withNulls returns the values of an array under another bitmap, whose first bit is that of the first value.
func withNulls(a arrow.Array, bits []byte, nulls int) arrow.Array {
	d := a.Data()
	if d.Offset() > 0 {
		shifted := newBits(d.Offset() + d.Len())
		for i := range d.Len() {
			if bits[i>>3]>>(i&7)&1 == 0 {
				bitutil.ClearBit(shifted, d.Offset()+i)
			}
		}
		bits = shifted
	}
	buffers := append([]*memory.Buffer{memory.NewBufferBytes(bits)}, d.Buffers()[1:]...)
	if dictionary, ok := d.Dictionary().(*array.Data); ok && dictionary != nil {
		return array.MakeFromData(array.NewDataWithDictionary(d.DataType(), d.Len(), buffers, nulls, d.Offset(), dictionary))
	}
	return array.MakeFromData(array.NewData(d.DataType(), d.Len(), buffers, d.Children(), nulls, d.Offset()))
}

// jsonText writes each value as JSON.
func jsonText(a arrow.Array) arrow.Array {
	b := array.NewStringBuilder(memory.DefaultAllocator)
	b.Reserve(a.Len())
	var text []byte
	for i := range a.Len() {
		if a.IsNull(i) {
			b.AppendNull()
			continue
		}
		text = rowtext.AppendJSON(text[:0], a, i)
		b.BinaryBuilder.Append(text)
	}
	return b.NewArray()
}
