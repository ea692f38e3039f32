package layout

import (
	"math/rand/v2"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// A prefix never puts two values in another order than the values themselves are in, upwards, downwards, and with nulls on either side.
func TestPrefixesAgreeWithValues(t *testing.T) {
	for name, r := range everyOrder() {
		s := schema.Schema{Fields: []schema.Field{{Name: "v", Type: r.t}}}
		s.AssignIDs()
		random := rand.New(rand.NewPCG(4, 4))
		b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for range 80 {
			if n := random.IntN(len(r.append) + 1); n == len(r.append) {
				b.Field(0).AppendNull()
			} else {
				r.append[n](b.Field(0))
			}
		}
		batch := b.NewRecordBatch()
		for variant := range 4 {
			f := SortField{Column: "v", Descending: variant&1 != 0, NullsLast: variant&2 != 0}
			order := newSorter(s, Sort{f})
			keys := order.keys(batch)
			prefix := prefixOf(keys[0], f)
			for i := range int(batch.NumRows()) {
				for j := range int(batch.NumRows()) {
					c := order.compare(keys, i, keys, j)
					if a, b := prefix(i), prefix(j); a < b && c >= 0 || a > b && c <= 0 {
						t.Fatalf("%s, %+v: %s has the prefix %#x, %s has %#x, but they compare as %d", name, f,
							batch.Column(0).ValueStr(i), a, batch.Column(0).ValueStr(j), b, c)
					}
				}
			}
		}
	}
}

// Rows that are alike stay as they came, also where only the first of several columns has prefixes.
func TestSortingIsStable(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{column("a", schema.String), column("b", schema.Long), column("came", schema.Long)}}
	s.AssignIDs()
	random := rand.New(rand.NewPCG(8, 8))
	b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	const rows = 2000
	for i := range rows {
		b.Field(0).(*array.StringBuilder).Append([]string{"station one", "station two", "st", ""}[random.IntN(4)])
		b.Field(1).(*array.Int64Builder).Append(int64(random.IntN(3)))
		b.Field(2).(*array.Int64Builder).Append(int64(i))
	}
	batch := b.NewRecordBatch()
	fields := Sort{{Column: "a"}, {Column: "b", Descending: true}}
	waiting := newWaiting(s, fields)
	waiting.add(batch, make([]uint32, rows))
	order := waiting.runs(1)[0].rows
	sorter := newSorter(s, fields)
	keys := sorter.keys(batch)
	for i := 1; i < rows; i++ {
		switch c := sorter.compare(keys, int(order[i-1]), keys, int(order[i])); {
		case c > 0:
			t.Fatalf("row %d comes before row %d", order[i-1], order[i])
		case c == 0 && order[i-1] > order[i]:
			t.Fatalf("rows %d and %d are alike and changed places", order[i], order[i-1])
		}
	}
}
