package layout

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// TestArrangedRows puts random rows in order, in memory and on the disk, and holds that rows that are alike stay as they came.
func TestArrangedRows(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{column("area", schema.String), column("depth", schema.Double), column("came", schema.Long)}}
	s.AssignIDs()
	order := Sort{{Column: "area"}, {Column: "depth", Descending: true, NullsLast: true}}
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 1))
		o, dir := DefaultOptions, t.TempDir()
		o.TempDir = dir
		if seed%2 == 0 {
			o.BudgetBytes = 4 << 10
		}
		a := NewArranger(s, order, o)
		type row struct {
			area  string
			depth float64 // -1 for none
			came  int64
		}
		var want []row
		for range random.IntN(20) {
			b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
			for range random.IntN(200) {
				r := row{fmt.Sprint("a", random.IntN(5)), float64(random.IntN(6) - 1), int64(len(want))}
				b.Field(0).(*array.StringBuilder).Append(r.area)
				if r.depth < 0 {
					b.Field(1).AppendNull()
				} else {
					b.Field(1).(*array.Float64Builder).Append(r.depth)
				}
				b.Field(2).(*array.Int64Builder).Append(r.came)
				want = append(want, r)
			}
			if err := a.Add(context.Background(), b.NewRecordBatch()); err != nil {
				t.Fatal(err)
			}
		}
		slices.SortStableFunc(want, func(x, y row) int {
			if x.area != y.area {
				return int(x.area[1]) - int(y.area[1])
			}
			return int(y.depth - x.depth)
		})
		for again := range 2 {
			var got []row
			err := a.Each(context.Background(), func(b arrow.RecordBatch) error {
				for i := range int(b.NumRows()) {
					r := row{b.Column(0).(*array.String).Value(i), -1, b.Column(2).(*array.Int64).Value(i)}
					if depth := b.Column(1).(*array.Float64); depth.IsValid(i) {
						r.depth = depth.Value(i)
					}
					got = append(got, r)
				}
				return nil
			})
			if again == 1 {
				want = nil // it is empty afterwards
			}
			if err != nil || !slices.Equal(got, want) {
				t.Fatalf("seed %d: %d rows of %d came out, or in another order: %v", seed, len(got), len(want), err)
			}
		}
		if left, _ := os.ReadDir(dir); len(left) > 0 {
			t.Fatalf("seed %d: %s is left behind", seed, left[0].Name())
		}
	}
}
