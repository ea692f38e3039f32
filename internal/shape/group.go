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

// group makes one row of consecutive rows that agree in all but some columns, which become a list: of values where it is one
// column, otherwise of objects. It undoes what unnest and flatten do.
type group struct {
	Nest
	members []int // columns that go into the list
	others  []int // columns that agree
	place   int   // of the list among the others
	alone   bool  // the elements are values
	element arrow.DataType
	// position and count are the columns of --unnest-index and --unnest-count, -1 without them.
	position, count int
	// columns that rows are put in the order of first, the key before the others; empty where they stay as they are
	order []string
}

// newGroup settles which columns become a list, and returns the fields that there are then.
func newGroup(n Nest, key []string, separator string, fields []schema.Field) (*group, []schema.Field, error) {
	g := &group{Nest: n}
	taken := make([]bool, len(fields))
	for _, name := range n.Columns {
		at := find(fields, name)
		if at < 0 {
			return nil, nil, unknown("--nest-rows", name, fields)
		}
		if taken[at] {
			return nil, nil, fault.New(fault.Usage, "--nest-rows %s names %q twice", n.Name, name).Try("name each column once")
		}
		taken[at] = true
		g.members = append(g.members, at)
	}
	// What an unnesting added has no place in a list, which has its own order and length.
	told := func(what string) int {
		at := find(fields, listColumn(n.Name, separator, what))
		if at < 0 || taken[at] || fields[at].Type.Kind != schema.Long {
			return -1
		}
		taken[at] = true
		return at
	}
	g.position, g.count = told("index"), told("count")
	out := g.listField(separator, fields)
	var rest []schema.Field
	for i, f := range fields {
		if i == g.members[0] {
			g.place = len(rest)
			rest = append(rest, out)
		}
		if taken[i] {
			continue
		}
		if strings.EqualFold(f.Name, n.Name) {
			return nil, nil, fault.New(fault.Usage, "--nest-rows %s: the rows have a column of that name already",
				n.Name).Try("give the list another name")
		}
		g.others, rest = append(g.others, i), append(rest, f)
	}
	if len(g.others) == 0 {
		return nil, nil, fault.New(fault.Usage, "--nest-rows %s leaves no column that would tell rows apart",
			n.Name).Try("leave one out of the list")
	}
	if len(key) > 0 {
		if err := g.arrange(key, fields); err != nil {
			return nil, nil, err
		}
		if g.position >= 0 {
			g.order = append(g.order, fields[g.position].Name)
		}
	}
	return g, rest, nil
}

// arrange settles the order that brings rows of one key together, and among them those that agree in the other columns.
func (g *group) arrange(key []string, fields []schema.Field) error {
	for _, name := range key {
		at := find(fields, name)
		switch {
		case at < 0:
			return unknown("--nest-key", name, fields)
		case !slices.Contains(g.others, at):
			return fault.New(fault.Usage, "--nest-key %s is not among the columns that stay beside the list %q", name,
				g.Name).Try("name columns that the rows of one list agree in")
		case fields[at].Type.Nested():
			return fault.New(fault.Usage, "--nest-key %s is a %s, which has no order", name,
				fields[at].Type).Try("name columns of single values")
		case slices.Contains(g.order, fields[at].Name):
			return fault.New(fault.Usage, "--nest-key names %q twice", name).Try("name each column once")
		}
		g.order = append(g.order, fields[at].Name)
	}
	for _, at := range g.others {
		if name := fields[at].Name; !fields[at].Type.Nested() && !slices.Contains(g.order, name) {
			g.order = append(g.order, name)
		}
	}
	return nil
}

// Arranges returns the schema of the rows that Apply gives and the columns in whose order they have to be brought before they
// are grouped; none where they stay as they are.
func (p *Plan) Arranges() (rows schema.Schema, order []string) {
	if p.group == nil {
		return rows, nil
	}
	return p.ungrouped, p.group.order
}

// listField is the column that the list becomes. Members lose the list's name at the beginning of theirs, where all have it.
func (g *group) listField(separator string, fields []schema.Field) schema.Field {
	element := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct}}
	for _, at := range g.members {
		part := fields[at]
		part.Required = false
		element.Type.Fields = append(element.Type.Fields, part)
	}
	shorten(element.Type.Fields, g.Name+separator)
	if g.alone = len(g.members) == 1 && strings.EqualFold(fields[g.members[0]].Name, g.Name); g.alone {
		element.Type = fields[g.members[0]].Type
	}
	g.element = element.Type.Arrow()
	return schema.Field{Name: g.Name, Type: schema.Type{Kind: schema.List, Element: &element}}
}

// Groups reports whether rows are brought together, so that what Apply gives goes through Group, in order.
func (p *Plan) Groups() bool { return p.group != nil }

// Ends returns where the groups of consecutive rows of a batch that Apply gave end: the last one may go on in the batch that follows.
func (p *Plan) Ends(batch arrow.RecordBatch) []int {
	n := int(batch.NumRows())
	differs := make([]bool, n)
	for _, at := range p.group.others {
		markChanges(differs, batch.Column(at))
	}
	if g := p.group; g.position >= 0 && len(g.order) == 0 {
		markStarts(differs, batch.Column(g.position).(*array.Int64))
	}
	var ends []int
	for i := 1; i < n; i++ {
		if differs[i] {
			ends = append(ends, i)
		}
	}
	if n > 0 {
		ends = append(ends, n)
	}
	return ends
}

// markStarts notes the rows whose position does not come after that of the row before: another list begins there, even where
// all else is the same.
func markStarts(differs []bool, positions *array.Int64) {
	for i := 1; i < positions.Len(); i++ {
		differs[i] = differs[i] || positions.IsNull(i) || positions.IsNull(i-1) || positions.Value(i) <= positions.Value(i-1)
	}
}

// markChanges notes the rows that differ from the one before.
func markChanges(differs []bool, a arrow.Array) {
	switch a := a.(type) {
	case *array.Int64:
		markValues(differs, a, a.Int64Values())
	case *array.Float64:
		markValues(differs, a, a.Float64Values())
	case *array.Timestamp:
		markValues(differs, a, a.TimestampValues())
	case *array.Date32:
		markValues(differs, a, a.Date32Values())
	case *array.String:
		for i := 1; i < a.Len(); i++ {
			differs[i] = differs[i] || a.IsNull(i) != a.IsNull(i-1) || a.IsValid(i) && a.Value(i) != a.Value(i-1)
		}
	default:
		for i := 1; i < a.Len(); i++ {
			differs[i] = differs[i] || !array.SliceEqual(a, int64(i-1), int64(i), a, int64(i), int64(i+1))
		}
	}
}

func markValues[T comparable](differs []bool, a arrow.Array, values []T) {
	for i := 1; i < len(values); i++ {
		differs[i] = differs[i] || a.IsNull(i) != a.IsNull(i-1) || a.IsValid(i) && values[i] != values[i-1]
	}
}

// Group makes one row of each group of rows of a batch, which end where Ends says.
func (p *Plan) Group(ctx context.Context, batch arrow.RecordBatch, ends []int) (arrow.RecordBatch, error) {
	g := p.group
	firsts, offsets, elements := make([]int32, len(ends)), make([]int32, 1, len(ends)+1), []int32(nil)
	bits, nulls, start := newBits(len(ends)), 0, 0
	for i, end := range ends {
		firsts[i] = int32(start)
		switch {
		case end > start+1 || g.holds(batch, start):
			for row := start; row < end; row++ {
				elements = append(elements, int32(row))
			}
		case g.count < 0 || batch.Column(g.count).IsNull(start):
			bitutil.ClearBit(bits, i)
			nulls++
		}
		offsets = append(offsets, int32(len(elements)))
		start = end
	}
	values, err := g.values(ctx, batch, elements)
	if err != nil {
		return nil, err
	}
	list := array.MakeFromData(
		array.NewData(arrow.ListOfField(arrow.Field{Name: schema.ElementName, Type: values.DataType(), Nullable: true}), len(ends),
			[]*memory.Buffer{memory.NewBufferBytes(bits), memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets))},
			[]arrow.ArrayData{values.Data()}, nulls, 0))
	var arrays []arrow.Array
	for i, at := range g.others {
		if i == g.place {
			arrays = append(arrays, list)
		}
		a, err := takeArray(ctx, batch.Column(at), firsts, nil)
		if err != nil {
			return nil, err
		}
		arrays = append(arrays, a)
	}
	if g.place == len(g.others) {
		arrays = append(arrays, list)
	}
	types := p.arrow.Fields()
	for i, a := range arrays {
		types[i].Type = a.DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(types, nil), arrays, int64(len(ends))), nil
}

// holds reports whether a single row is that of an element. One without is what a record with an empty list becomes, or with none.
func (g *group) holds(batch arrow.RecordBatch, row int) bool {
	if g.count >= 0 && batch.Column(g.count).IsValid(row) {
		return batch.Column(g.count).(*array.Int64).Value(row) > 0
	}
	if g.position >= 0 {
		return batch.Column(g.position).IsValid(row)
	}
	return !g.nothing(batch, row)
}

// nothing reports whether none of the columns of the list has a value in a row.
func (g *group) nothing(batch arrow.RecordBatch, row int) bool {
	for _, at := range g.members {
		if !batch.Column(at).IsNull(row) {
			return false
		}
	}
	return true
}

// values are the elements of the lists, in order.
func (g *group) values(ctx context.Context, batch arrow.RecordBatch, rows []int32) (arrow.Array, error) {
	children := make([]arrow.ArrayData, len(g.members))
	for i, at := range g.members {
		a, err := takeArray(ctx, batch.Column(at), rows, nil)
		if err != nil || g.alone {
			return a, err
		}
		children[i] = a.Data()
	}
	bits, nulls := newBits(len(rows)), 0
	for i, row := range rows {
		if g.nothing(batch, int(row)) {
			bitutil.ClearBit(bits, i)
			nulls++
		}
	}
	return array.MakeFromData(array.NewData(g.element, len(rows), []*memory.Buffer{memory.NewBufferBytes(bits)}, children, nulls, 0)), nil
}
