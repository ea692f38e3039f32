package shape

import (
	"context"
	"math/rand/v2"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// TestTakenValuesAreThoseOfTheLibrary takes rows of random columns, whole and cut out of larger ones, as the library does.
func TestTakenValuesAreThoseOfTheLibrary(t *testing.T) {
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 21))
		s := schema.Schema{Fields: []schema.Field{randomField(random, "c", 3), field("d", schema.Double), field("day", schema.Date),
			field("at", schema.TimestampTz)}}
		leaf := 0
		var docs []map[string]any
		for range 1 + random.IntN(20) {
			doc := map[string]any{"c": randomValue(random, s.Fields[0].Type, &leaf)}
			if random.IntN(3) > 0 {
				doc["d"], doc["day"], doc["at"] = random.Float64(), "2031-05-01", "2031-05-01T10:00:00Z"
			}
			docs = append(docs, doc)
		}
		batch := read(t, s, toJSON(t, docs))
		from := int64(random.IntN(len(docs)))
		for _, whole := range batch.Columns() {
			a := array.NewSlice(whole, from, int64(whole.Len()))
			rows, absent := make([]int32, random.IntN(40)), []bool(nil)
			if random.IntN(2) == 0 {
				absent = make([]bool, len(rows))
			}
			bits := newBits(len(rows))
			for i := range rows {
				rows[i] = int32(random.IntN(a.Len()))
				if absent != nil && random.IntN(4) == 0 {
					absent[i] = true
					bitutil.ClearBit(bits, i)
				}
			}
			indices := array.MakeFromData(array.NewData(arrow.PrimitiveTypes.Int32, len(rows),
				[]*memory.Buffer{memory.NewBufferBytes(bits), memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(rows))}, nil,
				array.UnknownNullCount, 0))
			want, err := compute.TakeArray(context.Background(), a, indices)
			if err != nil {
				t.Fatal(err)
			}
			got, err := takeArray(context.Background(), a, rows, absent)
			if err != nil {
				t.Fatal(err)
			}
			if !array.Equal(got, want) || got.NullN() != want.NullN() {
				t.Fatalf("seed %d: of %s rows %v are %s, taken by the library %s", seed, a, rows, got, want)
			}
		}
	}
}
