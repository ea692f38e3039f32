package layout

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// ranked gives a column of a type and the values to put into it, in the order that they are to come in.
type ranked struct {
	t      schema.Type
	append []func(b array.Builder)
}

func rankedOf[B array.Builder, T any](t schema.Type, add func(B, T), values ...T) ranked {
	r := ranked{t: t}
	for _, v := range values {
		r.append = append(r.append, func(b array.Builder) { add(b.(B), v) })
	}
	return r
}

func kind(k schema.Kind) schema.Type { return schema.Type{Kind: k} }

// everyOrder are values of every type that rows can be sorted by, the smallest first. What is no number comes last (Iceberg
// specification, "Sort Orders").
func everyOrder() map[string]ranked {
	num := func(high int64, low uint64) decimal128.Num { return decimal128.New(high, low) }
	return map[string]ranked{
		"boolean": rankedOf(kind(schema.Boolean), (*array.BooleanBuilder).Append, false, true),
		"int":     rankedOf(kind(schema.Int), (*array.Int32Builder).Append, math.MinInt32, -1, 0, 9, 10, math.MaxInt32),
		"long":    rankedOf(kind(schema.Long), (*array.Int64Builder).Append, math.MinInt64, -10, -9, 0, 9, 10, math.MaxInt64),
		"float": rankedOf(kind(schema.Float), (*array.Float32Builder).Append, float32(math.Inf(-1)), -1.5, 0, 1e-40, 9, 10,
			float32(math.Inf(1)), float32(math.NaN())),
		"double": rankedOf(kind(schema.Double), (*array.Float64Builder).Append, math.Inf(-1), -1e300, -0.5, 5e-324, 9, 10, math.Inf(1),
			math.NaN()),
		"date":      rankedOf(kind(schema.Date), (*array.Date32Builder).Append, arrow.Date32(-40000), -1, 0, 22000),
		"time":      rankedOf(kind(schema.Time), (*array.Time64Builder).Append, arrow.Time64(0), 1, 86_399_999_999),
		"timestamp": rankedOf(kind(schema.Timestamp), (*array.TimestampBuilder).Append, arrow.Timestamp(-1<<60), -1, 0, 1<<60),
		"instant":   rankedOf(kind(schema.TimestampTz), (*array.TimestampBuilder).Append, arrow.Timestamp(-1<<60), -1, 0, 1<<60),
		"string":    rankedOf(kind(schema.String), (*array.StringBuilder).Append, "", "A", "a", "a\x00", "aa", "b", "ä", "😀"),
		"binary": rankedOf(kind(schema.Binary), (*array.BinaryBuilder).Append, []byte{}, []byte{0}, []byte{0, 0}, []byte{1},
			[]byte{0xff}),
		"uuid": rankedOf(kind(schema.UUID), (*array.FixedSizeBinaryBuilder).Append, make([]byte, 16), append(make([]byte, 15), 1),
			bytes.Repeat([]byte{0x7f}, 16), bytes.Repeat([]byte{0xff}, 16)),
		"decimal": rankedOf(schema.Type{Kind: schema.Decimal, Precision: 38, Scale: 2}, (*array.Decimal128Builder).Append,
			num(math.MinInt64/2, 0), num(-1, 0), num(-1, math.MaxUint64), num(0, 0), num(0, 9), num(0, math.MaxUint64),
			num(1, 0), num(math.MaxInt64/4, 7)),
	}
}

// Values of every type come in their order, upwards and downwards, with nulls where they are wanted, in memory and from the disk.
func TestEveryTypeHasItsOrder(t *testing.T) {
	for name, r := range everyOrder() {
		s := schema.Schema{Fields: []schema.Field{{Name: "v", Type: r.t}, column("rank", schema.Long)}}
		s.AssignIDs()
		for variant := range 8 {
			by := SortField{Column: "v", Descending: variant&1 != 0, NullsLast: variant&2 != 0}
			random := rand.New(rand.NewPCG(uint64(variant), 3))
			o := DefaultOptions
			if o.TempDir = t.TempDir(); variant&4 != 0 {
				o.BudgetBytes = 2 << 10
			}
			a := NewArranger(s, Sort{by}, o)
			var want []int64
			for range 5 {
				b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
				for range 60 {
					rank := random.IntN(len(r.append)+1) - 1
					if rank < 0 {
						b.Field(0).AppendNull()
					} else {
						r.append[rank](b.Field(0))
					}
					b.Field(1).(*array.Int64Builder).Append(int64(rank))
					want = append(want, int64(rank))
				}
				if err := a.Add(context.Background(), b.NewRecordBatch()); err != nil {
					t.Fatal(err)
				}
			}
			slices.SortFunc(want, func(x, y int64) int {
				switch {
				case x == y:
					return 0
				case x < 0 || y < 0:
					if (x < 0) == by.NullsLast {
						return 1
					}
					return -1
				case (x < y) == by.Descending:
					return 1
				}
				return -1
			})
			var got []int64
			if err := a.Each(context.Background(), func(b arrow.RecordBatch) error {
				got = append(got, b.Column(1).(*array.Int64).Int64Values()...)
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			a.Close()
			if !slices.Equal(got, want) {
				t.Errorf("%s, %+v: %v, want %v", name, by, got, want)
			}
		}
	}
}

// Columns that have no order cannot be sorted by, and it is said which can.
func TestOrdersThatAreRefused(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{column("id", schema.Long),
		{Name: "marks", Type: schema.Type{Kind: schema.List, Element: &schema.Field{Name: schema.ElementName, Type: kind(schema.Long)}}},
		{Name: "pos", Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{column("lat", schema.Double)}}}}}
	for _, text := range []string{"marks", "pos", "nope", "pos.lon", "id sideways", "id nulls", "id, id", ","} {
		if got, err := ParseSort(text, s); err == nil {
			t.Errorf("%q is taken for %v", text, got)
		}
	}
	for text, want := range map[string]string{"": "[]", "id": "[id]", "pos.lat desc nulls last": "[pos.lat desc]",
		"ID desc nulls first": "[id desc nulls first]", "id asc nulls last, pos.lat nulls first": "[id nulls last pos.lat]"} {
		got, err := ParseSort(text, s)
		if err != nil || fmt.Sprint([]SortField(got)) != want {
			t.Errorf("%q is %v, %v; want %s", text, []SortField(got), err, want)
		}
	}
}
