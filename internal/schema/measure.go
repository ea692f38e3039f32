package schema

import (
	"math"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/rowtext"
)

// Measure adds what the rows of a batch show of columns whose types are known: how many values are null, how many differ, which
// is the smallest and which the largest, how long texts and lists are. Parts of nested columns are counted where what they are
// a part of is there.
func (o *Observed) Measure(b arrow.RecordBatch) {
	o.Root.Counts[ClassObject.Index()] += b.NumRows()
	folded := o.Root.inLowerCase()
	for c, f := range b.Schema().Fields() {
		o.Root.folded(f.Name, folded).measure(b.Column(c), nil)
	}
}

// measure adds the values of a column, or of a part. there marks the rows that count, all of them where it is nil.
func (n *Node) measure(a arrow.Array, there []bool) {
	if e, ok := a.(array.ExtensionArray); ok {
		a = e.Storage()
	}
	values := Present(a, there)
	count := int64(0)
	for _, is := range values {
		if is {
			count++
		}
	}
	rows := int64(a.Len())
	if there != nil {
		rows = 0
		for _, is := range there {
			if is {
				rows++
			}
		}
	}
	n.Counts[ClassNull.Index()] += rows - count
	switch a := a.(type) {
	case *array.Struct:
		n.Counts[ClassObject.Index()] += count
		folded := n.inLowerCase()
		for i, f := range a.DataType().(*arrow.StructType).Fields() {
			n.folded(f.Name, folded).measure(a.Field(i), values)
		}
	case *array.Map:
		n.Counts[ClassObject.Index()] += count
		if n.Entries == nil {
			n.Entries = &Node{Name: ValueName}
		}
		n.Entries.measure(a.Items(), Elements(a, values, a.Items().Len()))
	case *array.List:
		n.Counts[ClassArray.Index()] += count
		if n.Element == nil {
			n.Element = &Node{Name: ElementName}
		}
		for row, is := range values {
			if is {
				start, end := a.ValueOffsets(row)
				n.lengths().add(int(end - start))
			}
		}
		n.Element.measure(a.ListValues(), Elements(a, values, a.ListValues().Len()))
	default:
		n.Counts[ClassText.Index()] += count
		n.measureValues(a, values)
	}
}

// Present marks the rows of an array that are not null, of those that are marked in there; of all where that is nil.
func Present(a arrow.Array, there []bool) []bool {
	values := make([]bool, a.Len())
	for row := range values {
		values[row] = (there == nil || there[row]) && a.IsValid(row)
	}
	return values
}

// Elements marks the elements, of n that there are, of the lists that are marked.
func Elements(a array.ListLike, lists []bool, n int) []bool {
	marks := make([]bool, n)
	for row, is := range lists {
		if !is {
			continue
		}
		for start, end := a.ValueOffsets(row); start < end; start++ {
			marks[start] = true
		}
	}
	return marks
}

// measureValues adds values that have no parts.
func (n *Node) measureValues(a arrow.Array, values []bool) {
	if texts, ok := a.(*array.String); ok {
		for row, is := range values {
			if is {
				n.measureText(texts.Value(row))
			}
		}
		return
	}
	var text []byte
	number := numberOf(a)
	for row, is := range values {
		if !is {
			continue
		}
		if number == nil {
			text = rowtext.AppendText(text[:0], a, row)
			n.Distinct.Add(text)
			n.stretch(text)
			continue
		}
		value, bits := number(row)
		n.Distinct.AddHash(mix(bits, spread))
		if value == value && (n.numbers.low == nil || value < n.numbers.lowValue || value > n.numbers.hiValue) {
			text = rowtext.AppendText(text[:0], a, row)
			n.numbers.add(text, value)
		}
	}
}

func (n *Node) measureText(text string) {
	bytes := []byte(text)
	n.Distinct.Add(bytes)
	n.stretch(bytes)
	if len(bytes) > n.Longest {
		n.Longest = max(n.Longest, utf8.RuneCount(bytes))
	}
}

// numberOf returns what tells the value of a row by which numbers and times are ordered, and bits that differ where values do;
// nil for other types.
func numberOf(a arrow.Array) func(row int) (value float64, bits uint64) {
	switch a := a.(type) {
	case *array.Int32:
		return func(row int) (float64, uint64) { return float64(a.Value(row)), uint64(a.Value(row)) }
	case *array.Int64:
		return func(row int) (float64, uint64) { return float64(a.Value(row)), uint64(a.Value(row)) }
	case *array.Float32:
		return func(row int) (float64, uint64) {
			v := float64(a.Value(row))
			return v, math.Float64bits(v)
		}
	case *array.Float64:
		return func(row int) (float64, uint64) { return a.Value(row), math.Float64bits(a.Value(row)) }
	case *array.Timestamp:
		return func(row int) (float64, uint64) { return float64(a.Value(row)), uint64(a.Value(row)) }
	case *array.Decimal128:
		scale := a.DataType().(*arrow.Decimal128Type).Scale
		return func(row int) (float64, uint64) {
			v := a.Value(row)
			return v.ToFloat64(scale), v.LowBits() ^ mix(uint64(v.HighBits()), spread)
		}
	}
	return nil
}

// SetLongest puts the lengths of texts that were measured into a schema.
func (o *Observed) SetLongest(s *Schema) {
	for i := range s.Fields {
		if n := o.Root.Member(s.Fields[i].Source()); n != nil {
			n.setLongest(&s.Fields[i])
		}
	}
}

func (n *Node) setLongest(f *Field) {
	switch f.Type.Kind {
	case String:
		f.Longest = n.Longest
	case Struct:
		for i := range f.Type.Fields {
			if part := n.Member(f.Type.Fields[i].Source()); part != nil {
				part.setLongest(&f.Type.Fields[i])
			}
		}
	case List:
		if n.Element != nil {
			n.Element.setLongest(f.Type.Element)
		}
	case Map:
		if n.Entries != nil {
			n.Entries.setLongest(f.Type.Element)
		}
	}
}
