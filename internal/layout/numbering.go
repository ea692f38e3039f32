package layout

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/columnar/encode"
	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// numbering gives each combination of partition values a number, from 0 on in the order in which they come.
type numbering struct {
	spec    Spec
	sources [][]int // column of each transform, from the outermost on
	types   []arrow.DataType
	values  []valueNumbers        // per transform
	pairs   []encode.Fixed[int64] // per transform after the first: each combination with those before it
	codes   []uint32              // scratch
}

func newNumbering(s schema.Schema, spec Spec) numbering {
	n := numbering{spec: spec, values: make([]valueNumbers, len(spec)), pairs: make([]encode.Fixed[int64], len(spec))}
	for _, t := range spec {
		path := reach(s, t.Column)
		fields := s.Fields
		for _, at := range path[:len(path)-1] {
			fields = fields[at].Type.Fields
		}
		n.sources = append(n.sources, path)
		n.types = append(n.types, fields[path[len(path)-1]].Type.Arrow())
	}
	return n
}

// assign returns the number of each row's combination.
func (n *numbering) assign(batch arrow.RecordBatch) ([]uint32, error) {
	numbers := make([]uint32, batch.NumRows())
	if cap(n.codes) < len(numbers) {
		n.codes = make([]uint32, len(numbers))
	}
	for i, t := range n.spec {
		codes := n.codes[:len(numbers)]
		if err := n.values[i].assign(t, leafOf(batch, n.sources[i]), codes); err != nil {
			return nil, err
		}
		// The first occurrence of a pair gives it its number, so those of single values do not matter.
		pairs, last, known := &n.pairs[i], int64(-1), uint32(0)
		for row, code := range codes {
			if pair := int64(numbers[row])<<32 | int64(code); pair != last {
				last, known = pair, pairs.Number(pair)
			}
			numbers[row] = known
		}
	}
	return numbers, nil
}

// valueNumbers numbers the values of one transform. That of null is 0.
type valueNumbers struct {
	whole encode.Fixed[int64]
	texts encode.Text
	other map[Value]uint32 // for values of other forms
	// known has for dictionaries, by where their values lie in memory, the number of what becomes of each value; 0 while it is not known.
	known map[*byte][]uint32
}

// assign sets codes to the numbers of a column's values.
func (v *valueNumbers) assign(t Transform, l leaf, codes []uint32) error {
	number := v.numberer(t, l.values)
	var err error
	if l.coded != nil && l.values.Len() > 0 {
		table := v.table(l.values)
		for row := range codes {
			if codes[row] = 0; l.null(row) {
				continue
			}
			at := l.codes[row]
			if table[at] == 0 {
				if table[at], err = number(int(at)); err != nil {
					return err
				}
			}
			codes[row] = table[at]
		}
		return nil
	}
	absent := l.values.NullN() > 0 || len(l.parents) > 0 || l.coded != nil
	for row := range codes {
		if codes[row] = 0; absent && l.null(row) {
			continue
		}
		if codes[row], err = number(row); err != nil {
			return err
		}
	}
	return nil
}

// table returns what is known of a dictionary.
func (v *valueNumbers) table(values arrow.Array) []uint32 {
	if v.known == nil || len(v.known) >= paletteKnown {
		v.known = map[*byte][]uint32{}
	}
	at := &values.Data().Buffers()[1].Bytes()[0]
	table := v.known[at]
	if missing := values.Len() - len(table); missing > 0 {
		table = append(table, make([]uint32, missing)...)
		v.known[at] = table
	}
	return table
}

// numberer returns what numbers what the transform makes of a value that is there.
func (v *valueNumbers) numberer(t Transform, a arrow.Array) func(at int) (uint32, error) {
	if of := t.wholes(a); of != nil {
		last, known := int64(0), uint32(0)
		return func(at int) (uint32, error) {
			if n := of(at); known == 0 || n != last {
				last, known = n, v.whole.Number(n)+1
			}
			return known, nil
		}
	}
	l := leaf{values: a}
	return func(at int) (uint32, error) {
		value, err := t.apply(l, at)
		if err != nil {
			return 0, err
		}
		switch value := value.(type) {
		case int32:
			return v.whole.Number(int64(value)) + 1, nil
		case int64:
			return v.whole.Number(value) + 1, nil
		case string:
			return v.texts.ID([]byte(value)) + 1, nil
		}
		number, ok := v.other[value]
		if !ok {
			if v.other == nil {
				v.other = map[Value]uint32{}
			}
			number = uint32(len(v.other) + 1)
			v.other[value] = number
		}
		return number, nil
	}
}

// wholes returns what makes a whole number of a value without a Value for each, nil for columns and transforms where it is rare.
func (t Transform) wholes(a arrow.Array) func(at int) int64 {
	if list, ok := a.(*array.Int64); ok && t.Name == "bucket" {
		return func(at int) int64 { return int64(t.bucketOf(list.Value(at))) }
	}
	list, ok := a.(*array.Timestamp)
	if !ok {
		return nil
	}
	per := map[string]int64{"day": lexical.MicrosPerDay, "hour": lexical.MicrosPerDay / 24}[t.Name]
	if per == 0 {
		return nil
	}
	return func(at int) int64 { return floorDivide(int64(list.Value(at)), per) }
}

// valuesOf computes the partition values of a row that was assigned a number.
func (n *numbering) valuesOf(batch arrow.RecordBatch, row int) []Value {
	out := make([]Value, len(n.spec))
	for i, t := range n.spec {
		out[i], _ = t.apply(leafOf(batch, n.sources[i]), row)
	}
	return out
}
