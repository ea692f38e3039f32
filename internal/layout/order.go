package layout

import (
	"bytes"
	"cmp"
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// SortField is a column that rows are put in order by.
type SortField struct {
	// Column is the legal path of the column.
	Column     string
	Descending bool
	NullsLast  bool
}

// String writes the field as it is stated.
func (f SortField) String() string {
	text := f.Column
	if f.Descending {
		text += " desc"
	}
	if f.NullsLast != f.Descending {
		text += map[bool]string{true: " nulls last", false: " nulls first"}[f.NullsLast]
	}
	return text
}

// Sort is the fields of a sort order, the first the most weighty. An empty one leaves rows in the order they came.
type Sort []SortField

func (s Sort) String() string {
	parts := make([]string, len(s))
	for i, f := range s {
		parts[i] = f.String()
	}
	return strings.Join(parts, ", ")
}

// ParseSort reads fields separated by commas: sea_area, observed_at desc nulls last. Without a word about nulls they come first
// in ascending order and last in descending, as the Iceberg specification has it.
func ParseSort(text string, s schema.Schema) (Sort, error) {
	var out Sort
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	for _, part := range strings.Split(text, ",") {
		f, err := parseSortField(part, s)
		if err != nil {
			return nil, err
		}
		for _, other := range out {
			if other.Column == f.Column {
				return nil, fault.New(fault.Usage, "--sort names column %q twice", f.Column).Try("keep one of them")
			}
		}
		out = append(out, f)
	}
	return out, nil
}

func parseSortField(text string, s schema.Schema) (SortField, error) {
	text = strings.TrimSpace(text)
	f := SortField{Column: text}
	nulls := ""
	for _, suffix := range []string{" nulls first", " nulls last"} {
		if at := len(text) - len(suffix); at > 0 && strings.EqualFold(text[at:], suffix) {
			nulls, text = suffix, strings.TrimSpace(text[:at])
		}
	}
	for _, suffix := range []string{" asc", " desc"} {
		if at := len(text) - len(suffix); at > 0 && strings.EqualFold(text[at:], suffix) {
			f.Descending, text = suffix == " desc", strings.TrimSpace(text[:at])
		}
	}
	f.NullsLast = f.Descending
	if nulls != "" {
		f.NullsLast = nulls == " nulls last"
	}
	column, path, err := ColumnPath(s, text)
	if err != nil {
		return f, err
	}
	if column.Type.Nested() {
		return f, fault.New(fault.Usage, "rows cannot be sorted by %q, which is a %s", path,
			column.Type.Kind).Try("name one of its parts by its path")
	}
	f.Column = path
	return f, nil
}

// ColumnPath finds a column, or a part of nested ones by its path through structs, and returns it with its legal path.
func ColumnPath(s schema.Schema, name string) (*schema.Field, string, error) {
	if f, err := Column(s, name); err == nil {
		return f, f.Name, nil
	}
	parts := strings.Split(name, ".")
	fields := schema.Schema{Fields: s.Fields}
	var path []string
	for i, part := range parts {
		f, err := Column(fields, part)
		if err != nil {
			_, err := Column(s, name)
			return nil, "", err
		}
		path = append(path, f.Name)
		if i == len(parts)-1 {
			return f, strings.Join(path, "."), nil
		}
		if f.Type.Kind != schema.Struct {
			return nil, "", fault.New(fault.Usage, "%q has no part %q: it is a %s", strings.Join(path, "."), parts[i+1],
				f.Type.Kind).Try("only parts of structs can be named")
		}
		fields = schema.Schema{Fields: f.Type.Fields}
	}
	return nil, "", fault.New(fault.Usage, "there is no column %q", name)
}

// reach finds the columns of a path, from the outermost on.
func reach(s schema.Schema, path string) []int {
	if i := s.Index(path); i >= 0 {
		return []int{i}
	}
	var out []int
	fields := s.Fields
	for _, part := range strings.Split(path, ".") {
		at := schema.Schema{Fields: fields}.Index(part)
		if at < 0 {
			return nil
		}
		out = append(out, at)
		fields = fields[at].Type.Fields
	}
	return out
}

// leaf follows a path into a batch. Parents may be null where the leaf is not. Where values come with a dictionary, values are
// those of the dictionary.
type leaf struct {
	values  arrow.Array
	parents []arrow.Array
	coded   *array.Dictionary // nil where values are by row
	codes   []uint32
}

func leafOf(batch arrow.RecordBatch, path []int) leaf {
	l := leaf{values: batch.Column(path[0])}
	for _, at := range path[1:] {
		l.parents = append(l.parents, l.values)
		l.values = l.values.(*array.Struct).Field(at)
	}
	if d, ok := l.values.(*array.Dictionary); ok {
		l.values, l.coded, l.codes = d.Dictionary(), d, codesOf(d)
	}
	return l
}

func (l leaf) null(row int) bool {
	for _, p := range l.parents {
		if p.IsNull(row) {
			return true
		}
	}
	if l.coded != nil {
		return l.coded.IsNull(row)
	}
	return l.values.IsNull(row)
}

// at returns where the value of a row is among the values.
func (l leaf) at(row int) int {
	if l.coded != nil {
		return int(l.codes[row])
	}
	return row
}

// bits is OrderedBits of the values by row.
func (l leaf) bits() func(row int) uint64 {
	of := OrderedBits(l.values)
	if l.coded == nil {
		return of
	}
	return func(row int) uint64 { return of(int(l.codes[row])) }
}

// sorter puts rows of batches of one schema in order.
type sorter struct {
	fields Sort
	paths  [][]int
}

func newSorter(s schema.Schema, fields Sort) sorter {
	out := sorter{fields: fields}
	for _, f := range fields {
		out.paths = append(out.paths, reach(s, f.Column))
	}
	return out
}

// keys are the sort columns of one batch.
type keys []leaf

func (s sorter) keys(batch arrow.RecordBatch) keys {
	out := make(keys, len(s.paths))
	for i, path := range s.paths {
		out[i] = leafOf(batch, path)
	}
	return out
}

// compare orders row i of a batch against row j of another.
func (s sorter) compare(a keys, i int, b keys, j int) int {
	for k, f := range s.fields {
		an, bn := a[k].null(i), b[k].null(j)
		if an || bn {
			if an == bn {
				continue
			}
			if an == f.NullsLast {
				return 1
			}
			return -1
		}
		if c := compareValues(a[k].values, a[k].at(i), b[k].values, b[k].at(j)); c != 0 {
			if f.Descending {
				return -c
			}
			return c
		}
	}
	return 0
}

// compareValues orders two values of one type. What is not a number comes after all numbers (Iceberg specification, "Sort Orders").
func compareValues(a arrow.Array, i int, b arrow.Array, j int) int {
	switch a := a.(type) {
	case *array.Int64:
		return cmp.Compare(a.Value(i), b.(*array.Int64).Value(j))
	case *array.Int32:
		return cmp.Compare(a.Value(i), b.(*array.Int32).Value(j))
	case *array.Timestamp:
		return cmp.Compare(a.Value(i), b.(*array.Timestamp).Value(j))
	case *array.Date32:
		return cmp.Compare(a.Value(i), b.(*array.Date32).Value(j))
	case *array.Time64:
		return cmp.Compare(a.Value(i), b.(*array.Time64).Value(j))
	case *array.Float64:
		return compareFloats(a.Value(i), b.(*array.Float64).Value(j))
	case *array.Float32:
		return compareFloats(float64(a.Value(i)), float64(b.(*array.Float32).Value(j)))
	case *array.String:
		return cmp.Compare(a.Value(i), b.(*array.String).Value(j))
	case *array.Binary:
		return bytes.Compare(a.Value(i), b.(*array.Binary).Value(j))
	case *array.FixedSizeBinary:
		return bytes.Compare(a.Value(i), b.(*array.FixedSizeBinary).Value(j))
	case *array.Decimal128:
		return a.Value(i).Cmp(b.(*array.Decimal128).Value(j))
	case *array.Boolean:
		x, y := a.Value(i), b.(*array.Boolean).Value(j)
		switch {
		case x == y:
			return 0
		case y:
			return -1
		}
		return 1
	}
	// Columns of other types are refused when the order is stated.
	panic(fmt.Sprintf("values of %s have no order", a.DataType()))
}

func compareFloats(a, b float64) int {
	switch an, bn := a != a, b != b; {
	case an && bn:
		return 0
	case an:
		return 1
	case bn:
		return -1
	}
	return cmp.Compare(a, b)
}
