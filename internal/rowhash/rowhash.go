// Package rowhash hashes the values of columns, so that equal ones are alike whatever form their column has.
//
// What comes in are columns and batches; what goes out are a hash of 64 bits for each value, and one of 128 for each key.
package rowhash

import (
	"encoding/binary"
	"math"
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/zeebo/xxh3"

	"trevak/internal/rowtext"
)

// Key tells keys apart. Of single whole numbers no two are alike; of others it is as likely as with any good hash of 128 bits.
type Key struct{ High, Low uint64 }

// Odd constants of no other meaning: the fraction of the golden ratio, and primes of xxHash.
const (
	golden = 0x9e3779b97f4a7c15
	prime1 = 0x9e3779b185ebca87
	prime2 = 0xc2b2ae3d27d4eb4f
)

// Absent is the hash of a value that is not there.
const Absent = 0x27d4eb2f165667c5

// Mix spreads the bits of a number over all, and is one to one.
func Mix(v uint64) uint64 {
	v ^= v >> 32
	v *= prime1
	v ^= v >> 29
	v *= prime2
	return v ^ v>>32
}

// Keys makes the keys of the rows of a batch of some of its columns.
func Keys(b arrow.RecordBatch, columns []int, into []Key) []Key {
	n := int(b.NumRows())
	into = append(into[:0], make([]Key, n)...)
	values := make([]uint64, n)
	for _, c := range columns {
		Column(b.Column(c), golden, values)
		for i, v := range values {
			k := &into[i]
			k.High = Mix(k.High+golden) ^ v
			k.Low = Mix(k.Low^v) + bits.RotateLeft64(v, 23)
		}
		if wide(b.Column(c).DataType()) {
			// A hash of 64 bits alone would be too little for many keys.
			Column(b.Column(c), prime2, values)
			for i, v := range values {
				into[i].Low ^= Mix(v)
			}
		}
	}
	return into
}

// wide reports whether values of a type do not fit into 64 bits.
func wide(t arrow.DataType) bool {
	if d, ok := t.(*arrow.DictionaryType); ok {
		t = d.ValueType
	}
	fixed, ok := t.(arrow.FixedWidthDataType)
	return !ok || fixed.BitWidth() > 64
}

// Column hashes the values of a column; equal ones of the same type are alike whatever form the column has. Both zeros are one, and
// so is all that is no number.
func Column(a arrow.Array, seed uint64, into []uint64) {
	if d, ok := a.(*array.Dictionary); ok {
		of := make([]uint64, d.Dictionary().Len())
		Column(d.Dictionary(), seed, of)
		if codes, ok := Codes(d); ok {
			for i, code := range codes {
				into[i] = of[code]
			}
			return
		}
		for i := range into {
			into[i] = Absent
			if !d.IsNull(i) {
				into[i] = of[d.GetValueIndex(i)]
			}
		}
		return
	}
	one := Of(a, seed)
	if a.NullN() == 0 {
		for i := range into {
			into[i] = one(i)
		}
		return
	}
	for i := range into {
		into[i] = Absent
		if a.IsValid(i) {
			into[i] = one(i)
		}
	}
}

// Codes are the places of a column's values in its dictionary; ok is false where some are not there, or where they are of another type
// than the usual one.
func Codes(d *array.Dictionary) (codes []int32, ok bool) {
	if d.NullN() > 0 {
		return nil, false
	}
	switch indices := d.Indices().(type) {
	case *array.Int32:
		return indices.Int32Values(), true
	case *array.Uint32:
		return arrow.Int32Traits.CastFromBytes(arrow.Uint32Traits.CastToBytes(indices.Uint32Values())), true
	}
	return nil, false
}

// Of returns what hashes a value that is there.
func Of(a arrow.Array, seed uint64) func(i int) uint64 {
	switch a := a.(type) {
	case *array.Int64:
		return numbers(a.Int64Values(), seed)
	case *array.Timestamp:
		return numbers(a.TimestampValues(), seed)
	case *array.Time64:
		return numbers(a.Time64Values(), seed)
	case *array.Int32:
		return numbers(a.Int32Values(), seed)
	case *array.Date32:
		return numbers(a.Date32Values(), seed)
	case *array.Float64:
		return func(i int) uint64 { return Mix(floatBits(a.Value(i)) ^ seed) }
	case *array.Float32:
		return func(i int) uint64 { return Mix(floatBits(float64(a.Value(i))) ^ seed) }
	case *array.Boolean:
		return func(i int) uint64 {
			if a.Value(i) {
				return Mix(seed + 1)
			}
			return Mix(seed)
		}
	case *array.String:
		return func(i int) uint64 { return xxh3.HashStringSeed(a.Value(i), seed) }
	case *array.Binary:
		return func(i int) uint64 { return xxh3.HashSeed(a.Value(i), seed) }
	case *array.FixedSizeBinary:
		return func(i int) uint64 { return xxh3.HashSeed(a.Value(i), seed) }
	case *array.Decimal128:
		return func(i int) uint64 {
			var b [16]byte
			v := a.Value(i)
			binary.LittleEndian.PutUint64(b[:], v.LowBits())
			binary.LittleEndian.PutUint64(b[8:], uint64(v.HighBits()))
			return xxh3.HashSeed(b[:], seed)
		}
	}
	var text []byte
	return func(i int) uint64 {
		text = rowtext.AppendJSON(text[:0], a, i)
		return xxh3.HashSeed(text, seed)
	}
}

func numbers[T ~int32 | ~int64](list []T, seed uint64) func(i int) uint64 {
	return func(i int) uint64 { return Mix(uint64(int64(list[i])) ^ seed) }
}

func floatBits(v float64) uint64 {
	switch {
	case v != v:
		return math.MaxUint64
	case v == 0:
		return 0
	}
	return math.Float64bits(v)
}

// Wide hashes the values of a column to 128 bits, in two halves; equal ones of the same type are alike whatever form the column has.
func Wide(a arrow.Array, seed uint64, high, low []uint64) {
	Column(a, seed, low)
	if wide(a.DataType()) {
		Column(a, seed^prime2, high)
		return
	}
	// No two values of 64 bits have the same hash, so the other half tells nothing more of a value, but of sums of hashes it does.
	for i, v := range low {
		high[i] = Mix(v + golden)
	}
}
