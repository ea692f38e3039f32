package layout

import (
	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/schema"
)

// numbering gives each combination of partition values a number, from 0 on in the order in which they come.
type numbering struct {
	spec    Spec
	sources [][]int // column of each transform, from the outermost on
	types   []arrow.DataType
	codes   []map[Value]uint32  // per transform: number of each value
	pairs   []map[uint64]uint32 // per transform after the first: number of each combination with those before it
}

func newNumbering(s schema.Schema, spec Spec) numbering {
	n := numbering{spec: spec}
	for i, t := range spec {
		path := reach(s, t.Column)
		fields := s.Fields
		for _, at := range path[:len(path)-1] {
			fields = fields[at].Type.Fields
		}
		n.sources = append(n.sources, path)
		n.types = append(n.types, fields[path[len(path)-1]].Type.Arrow())
		n.codes = append(n.codes, map[Value]uint32{})
		if i > 0 {
			n.pairs = append(n.pairs, map[uint64]uint32{})
		}
	}
	return n
}

// assign returns the number of each row's combination.
func (n *numbering) assign(batch arrow.RecordBatch) ([]uint32, error) {
	rows := int(batch.NumRows())
	numbers := make([]uint32, rows)
	for i, t := range n.spec {
		column := leafOf(batch, n.sources[i])
		for row := range rows {
			v, err := t.apply(column, row)
			if err != nil {
				return nil, err
			}
			code, ok := n.codes[i][v]
			if !ok {
				code = uint32(len(n.codes[i]))
				n.codes[i][v] = code
			}
			if i == 0 {
				numbers[row] = code
				continue
			}
			key := uint64(numbers[row])<<32 | uint64(code)
			number, ok := n.pairs[i-1][key]
			if !ok {
				number = uint32(len(n.pairs[i-1]))
				n.pairs[i-1][key] = number
			}
			numbers[row] = number
		}
	}
	return numbers, nil
}

// values computes the partition values of a row that was assigned a number.
func (n *numbering) values(batch arrow.RecordBatch, row int) []Value {
	out := make([]Value, len(n.spec))
	for i, t := range n.spec {
		out[i], _ = t.apply(leafOf(batch, n.sources[i]), row)
	}
	return out
}
