package rowhash

import (
	"math"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// TestFormsAreAlike hashes texts as they are and by a dictionary, and sliced, and tells what differs.
func TestFormsAreAlike(t *testing.T) {
	plain := array.NewStringBuilder(memory.DefaultAllocator)
	plain.AppendValues([]string{"x", "calm", "", "fog", "calm"}, []bool{true, true, true, true, false})
	texts := plain.NewArray()
	words := array.NewStringBuilder(memory.DefaultAllocator)
	words.AppendValues([]string{"fog", "", "calm", "x"}, nil)
	codes := array.NewUint32Builder(memory.DefaultAllocator)
	codes.AppendValues([]uint32{3, 2, 1, 0, 2}, []bool{true, true, true, true, false})
	coded := array.NewDictionaryArray(&arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: arrow.BinaryTypes.String},
		codes.NewArray(), words.NewArray())
	a, b, part := make([]uint64, 5), make([]uint64, 5), make([]uint64, 3)
	Column(texts, 7, a)
	Column(coded, 7, b)
	Column(array.NewSlice(texts, 1, 4), 7, part)
	for i := range a {
		if a[i] != b[i] || i > 0 && i < 4 && part[i-1] != a[i] {
			t.Errorf("value %d: %x, %x", i, a[i], b[i])
		}
	}
	if a[1] == a[4] || a[2] == a[4] || a[1] == a[3] {
		t.Error("values that differ are alike")
	}
}

// TestNumbersThatAreAlike takes both zeros for one number, and all that is none for one.
func TestNumbersThatAreAlike(t *testing.T) {
	b := array.NewFloat64Builder(memory.DefaultAllocator)
	b.AppendValues([]float64{0, math.Copysign(0, -1), math.NaN(), math.Float64frombits(0x7ff8000000000123), 1}, nil)
	h := make([]uint64, 5)
	Column(b.NewArray(), 1, h)
	if h[0] != h[1] || h[2] != h[3] || h[0] == h[4] || h[2] == h[4] {
		t.Errorf("%x", h)
	}
}

// TestKeysOfSeveralColumns has no two of many keys alike, whichever column differs.
func TestKeysOfSeveralColumns(t *testing.T) {
	x, y := array.NewInt64Builder(memory.DefaultAllocator), array.NewStringBuilder(memory.DefaultAllocator)
	const n = 200
	for i := range n {
		for j := range n {
			x.Append(int64(i))
			y.Append(string(rune('a'+j%26)) + string(rune('a'+j/26)))
		}
	}
	s := arrow.NewSchema([]arrow.Field{{Name: "x", Type: arrow.PrimitiveTypes.Int64}, {Name: "y", Type: arrow.BinaryTypes.String}}, nil)
	batch := array.NewRecordBatch(s, []arrow.Array{x.NewArray(), y.NewArray()}, n*n)
	seen := map[Key]bool{}
	for _, k := range Keys(batch, []int{0, 1}, nil) {
		seen[k] = true
	}
	if len(seen) != n*n {
		t.Errorf("%d keys of %d", len(seen), n*n)
	}
}
