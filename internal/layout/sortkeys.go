package layout

import (
	"cmp"
	"encoding/binary"
	"math"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/expr"
	"trevak/internal/schema"
)

// rankedRow is a row with a prefix of what it is sorted by: the order of prefixes is that of the first sort column as far as they differ.
type rankedRow struct {
	prefix uint64
	row    int32
}

// sort puts the rows of a batch in order, in place; rows that are alike stay in the order of their numbers.
func (s sorter) sort(batch arrow.RecordBatch, rows []int32) {
	keys := s.keys(batch)
	prefix := prefixOf(keys[0], s.fields[0])
	ranked := make([]rankedRow, len(rows))
	for i, row := range rows {
		ranked[i] = rankedRow{prefix(int(row)), row}
	}
	slices.SortFunc(ranked, func(a, b rankedRow) int {
		if a.prefix != b.prefix {
			return cmp.Compare(a.prefix, b.prefix)
		}
		if c := s.compare(keys, int(a.row), keys, int(b.row)); c != 0 {
			return c
		}
		return cmp.Compare(a.row, b.row)
	})
	for i, r := range ranked {
		rows[i] = r.row
	}
}

const signBit = 1 << 63

// prefixOf returns what makes prefixes of a column's values: the highest bit tells nulls from values, the others are the
// highest of a number that is ordered as the values are.
func prefixOf(l leaf, f SortField) func(row int) uint64 {
	of := OrderedBits(l.values)
	null, value := uint64(0), uint64(signBit)
	if f.NullsLast {
		null, value = value, null
	}
	flip := uint64(0)
	if f.Descending {
		flip = math.MaxUint64
	}
	return func(row int) uint64 {
		if l.null(row) {
			return null
		}
		return value | (of(row)^flip)>>1
	}
}

// OrderedBits returns what makes numbers of the values of a column that are ordered as rows are sorted by them, but for
// values that are close to each other.
func OrderedBits(a arrow.Array) func(row int) uint64 {
	whole := func(v int64) uint64 { return uint64(v) ^ signBit }
	switch a := a.(type) {
	case *array.Int64:
		return func(row int) uint64 { return whole(a.Value(row)) }
	case *array.Int32:
		return func(row int) uint64 { return whole(int64(a.Value(row))) }
	case *array.Timestamp:
		return func(row int) uint64 { return whole(int64(a.Value(row))) }
	case *array.Date32:
		return func(row int) uint64 { return whole(int64(a.Value(row))) }
	case *array.Time64:
		return func(row int) uint64 { return whole(int64(a.Value(row))) }
	case *array.Float64:
		return func(row int) uint64 { return floatBits(a.Value(row)) }
	case *array.Float32:
		return func(row int) uint64 { return floatBits(float64(a.Value(row))) }
	case *array.Decimal128:
		return func(row int) uint64 { return whole(a.Value(row).HighBits()) }
	case *array.Boolean:
		return func(row int) uint64 {
			if a.Value(row) {
				return signBit
			}
			return 0
		}
	case *array.String:
		return func(row int) uint64 { return firstBytes([]byte(a.Value(row))) }
	case *array.Binary:
		return func(row int) uint64 { return firstBytes(a.Value(row)) }
	case *array.FixedSizeBinary:
		return func(row int) uint64 { return firstBytes(a.Value(row)) }
	}
	return func(int) uint64 { return 0 }
}

// floatBits orders numbers as compareFloats does: what is none comes last, and the two zeros are the same.
func floatBits(v float64) uint64 {
	switch {
	case v != v:
		return math.MaxUint64
	case v == 0:
		return signBit
	}
	bits := math.Float64bits(v)
	if bits&signBit != 0 {
		return ^bits
	}
	return bits | signBit
}

// firstBytes are the first eight bytes as a number, the highest first.
func firstBytes(b []byte) uint64 {
	if len(b) >= 8 {
		return binary.BigEndian.Uint64(b)
	}
	var whole [8]byte
	copy(whole[:], b)
	return binary.BigEndian.Uint64(whole[:])
}

// ValueBits is what OrderedBits makes of a value; ok is false for one of another form.
func ValueBits(v expr.Value) (bits uint64, ok bool) {
	switch v.Kind {
	case schema.Long, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return uint64(v.Long) ^ signBit, true
	case schema.Double:
		return floatBits(v.Double), true
	case schema.Decimal:
		return uint64(v.Decimal.HighBits()) ^ signBit, true
	case schema.Boolean:
		if v.Flag {
			return signBit, true
		}
		return 0, true
	case schema.String:
		return firstBytes([]byte(v.Text)), true
	}
	return 0, false
}
