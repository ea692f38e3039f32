package shape

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// nest makes an object of columns, in the place of the first. Where none of them has a value there is no object.
type nest struct {
	Nest
	at []int
	dt arrow.DataType
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
	if at := find(fields, s.Name); at >= 0 && !slices.Contains(s.at, at) {
		return nil, fault.New(fault.Usage, "--nest %s: the rows have a column of that name already", s.Name).Try("give the object another name")
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
