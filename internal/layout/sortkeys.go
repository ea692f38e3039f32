package layout

import (
	"cmp"
	"encoding/binary"
	"math"
	"math/bits"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/expr"
	"trevak/internal/schema"
)

// sortKeys puts the rows of waiting columns in order by numbers: those of all sort fields stand in one word, the first in the
// highest bits, as far as there is room.
type sortKeys struct {
	fields  Sort
	columns [][]held // of each field, from the outermost on
	words   []uint64 // by row
	// exact says that rows with the same word are the same in the order.
	exact bool
}

func (k *sortKeys) null(field int, row uint32) bool {
	for _, c := range k.columns[field] {
		if c.null(row) {
			return true
		}
	}
	return false
}

// newSortKeys computes the words of n rows.
func newSortKeys(n int, fields Sort, columns [][]held) *sortKeys {
	k := &sortKeys{fields: fields, columns: columns, words: make([]uint64, n), exact: true}
	numbers, room := make([]uint64, n), 64
	for f := range fields {
		if room == 0 {
			k.exact = false
			break
		}
		path := columns[f]
		exact := path[len(path)-1].keys(numbers)
		used, all := k.pack(f, numbers, room)
		room -= used
		if !exact || !all {
			// What comes after it counts only where this is the same, which the word does not tell.
			k.exact = false
			break
		}
	}
	return k
}

// pack puts the numbers of a field into the words, in the highest of so many bits that are left, and returns how many it took
// and whether the numbers fit in whole. Nulls are numbers before or after all others.
func (k *sortKeys) pack(f int, numbers []uint64, room int) (used int, whole bool) {
	field := k.fields[f]
	low, high, some, nulls := uint64(math.MaxUint64), uint64(0), false, 0
	for row, v := range numbers {
		if k.null(f, uint32(row)) {
			nulls++
			continue
		}
		low, high, some = min(low, v), max(high, v), true
	}
	if !some {
		low, high = 0, 0
	}
	span := high - low
	if span > math.MaxUint64-2 {
		// There is no room for a number beside them: the last bit goes.
		span >>= 1
	}
	shifted := span != high-low
	least, absent := uint64(0), span+1
	if nulls > 0 && !field.NullsLast {
		least, absent = 1, 0
	}
	most := span + least
	if nulls > 0 {
		most = max(most, absent)
	}
	used = bits.Len64(most)
	drop := max(0, used-room)
	used -= drop
	for row, v := range numbers {
		number := absent
		if nulls == 0 || !k.null(f, uint32(row)) {
			number = v - low
			if shifted {
				number >>= 1
			}
			if field.Descending {
				number = span - number
			}
			number += least
		}
		k.words[row] |= number >> drop << (room - used)
	}
	return used, drop == 0 && !shifted
}

// compare orders two rows by all fields, and by their numbers where they are the same.
func (k *sortKeys) compare(a, b uint32) int {
	for f, field := range k.fields {
		an, bn := k.null(f, a), k.null(f, b)
		if an || bn {
			if an == bn {
				continue
			}
			if an == field.NullsLast {
				return 1
			}
			return -1
		}
		path := k.columns[f]
		if c := path[len(path)-1].compare(a, b); c != 0 {
			if field.Descending {
				return -c
			}
			return c
		}
	}
	return cmp.Compare(a, b)
}

// keyed is a row with its word.
type keyed struct {
	word uint64
	row  uint32
}

// sort puts rows in order, in place; those that are alike stay in the order of their numbers, which they have to be in.
func (k *sortKeys) sort(rows []uint32) {
	list := make([]keyed, len(rows))
	for i, row := range rows {
		list[i] = keyed{k.words[row], row}
	}
	list = radixSorted(list)
	if !k.exact {
		for start := 0; start < len(list); {
			end := start + 1
			for end < len(list) && list[end].word == list[start].word {
				end++
			}
			if end-start > 1 {
				slices.SortFunc(list[start:end], func(a, b keyed) int { return k.compare(a.row, b.row) })
			}
			start = end
		}
	}
	for i := range list {
		rows[i] = list[i].row
	}
}

// fewKeyed is how many rows are sorted by comparing them: less than it takes to count digits.
const fewKeyed = 256

// radixSorted sorts by the words, and keeps the order of those that are the same: by one byte after the other, the lowest first,
// but for bytes that all have in common.
func radixSorted(list []keyed) []keyed {
	if len(list) < fewKeyed {
		slices.SortStableFunc(list, func(a, b keyed) int { return cmp.Compare(a.word, b.word) })
		return list
	}
	var counts [8][256]uint32
	for i := range list {
		w := list[i].word
		for b := range counts {
			counts[b][byte(w>>(8*b))]++
		}
	}
	to := make([]keyed, len(list))
	for b := range counts {
		count := &counts[b]
		if count[byte(list[0].word>>(8*b))] == uint32(len(list)) {
			continue
		}
		at := uint32(0)
		for v, n := range count {
			count[v] = at
			at += n
		}
		for _, e := range list {
			v := byte(e.word >> (8 * b))
			to[count[v]] = e
			count[v]++
		}
		list, to = to, list
	}
	return list
}

// prefixOf returns what makes prefixes of a column's values: the highest bit tells nulls from values, the others are the
// highest of a number that is ordered as the values are.
func prefixOf(l leaf, f SortField) func(row int) uint64 {
	of := l.bits()
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
