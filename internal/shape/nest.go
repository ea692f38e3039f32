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

// nest makes an object of columns, in the place of the first. Where none of them has a value there is no object. Members lose
// the object's name at the beginning of theirs, where all have it.
type nest struct {
	Nest
	separator string
	at        []int
	dt        arrow.DataType
}

func (s *nest) settle(fields []schema.Field) ([]schema.Field, error) {
	out := schema.Field{Name: s.Name, Type: schema.Type{Kind: schema.Struct}}
	for _, name := range s.Columns {
		at := find(fields, name)
		switch {
		case at < 0:
			return nil, unknown("--nest", name, fields)
		case slices.Contains(s.at, at):
			return nil, fault.New(fault.Usage, "--nest %s names %q twice", s.Name, name).Try("name each column once")
		}
		s.at = append(s.at, at)
		part := fields[at]
		part.Required = false
		out.Type.Fields = append(out.Type.Fields, part)
	}
	shorten(out.Type.Fields, s.Name+s.separator)
	if at := find(fields, s.Name); at >= 0 && !slices.Contains(s.at, at) {
		return nil, fault.New(fault.Usage, "--nest %s: the rows have a column of that name already",
			s.Name).Try("give the object another name")
	}
	s.dt = out.Type.Arrow()
	var rest []schema.Field
	for i, f := range fields {
		switch {
		case i == s.at[0]:
			rest = append(rest, out)
		case !slices.Contains(s.at, i):
			rest = append(rest, f)
		}
	}
	return rest, nil
}

// shorten takes a prefix from the names of members, where all have it and something is left.
func shorten(members []schema.Field, prefix string) {
	if slices.ContainsFunc(members, func(f schema.Field) bool {
		return !strings.HasPrefix(f.Name, prefix) ||
			len(f.Name) == len(prefix)
	}) {
		return
	}
	for i := range members {
		members[i].Name = strings.TrimPrefix(members[i].Name, prefix)
	}
}

func (s *nest) apply(_ context.Context, f *frame) error {
	children := make([]arrow.ArrayData, len(s.at))
	bits, nulls := newBits(f.rows), 0
	for row := range f.rows {
		if !slices.ContainsFunc(s.at, func(at int) bool { return !f.arrays[at].IsNull(row) }) {
			bitutil.ClearBit(bits, row)
			nulls++
		}
	}
	for i, at := range s.at {
		children[i] = f.arrays[at].Data()
	}
	made := array.MakeFromData(array.NewData(s.dt, f.rows, []*memory.Buffer{memory.NewBufferBytes(bits)}, children, nulls, 0))
	var rest []arrow.Array
	for i, a := range f.arrays {
		switch {
		case i == s.at[0]:
			rest = append(rest, made)
		case !slices.Contains(s.at, i):
			rest = append(rest, a)
		}
	}
	f.arrays = rest
	return nil
}
