package prove

import (
	"context"
	"fmt"
	"math"
	"math/big"
	"math/rand"
	"slices"
	"strconv"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// spot is a row of the tests.
type spot struct {
	id    int64
	area  string // null where empty
	depth float64
}

// side is spots in an order of their own, handed over a few at a time, texts as values or as codes.
type side struct {
	spots []spot
	step  int
	coded bool
}

var spotFields = []schema.Field{{ID: 1, Name: "id", Type: schema.Type{Kind: schema.Long}}, {ID: 2, Name: "area", Type: schema.Type{Kind: schema.String}},
	{ID: 3, Name: "depth", Type: schema.Type{Kind: schema.Double}}}

func (s side) batch(spots []spot) arrow.RecordBatch {
	ids, depths := array.NewInt64Builder(memory.DefaultAllocator), array.NewFloat64Builder(memory.DefaultAllocator)
	var areas array.Builder = array.NewStringBuilder(memory.DefaultAllocator)
	coded := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Int32, ValueType: arrow.BinaryTypes.String}
	if s.coded {
		areas = array.NewDictionaryBuilder(memory.DefaultAllocator, coded)
	}
	for _, x := range spots {
		ids.Append(x.id)
		depths.Append(x.depth)
		switch b := areas.(type) {
		case *array.StringBuilder:
			if x.area == "" {
				b.AppendNull()
			} else {
				b.Append(x.area)
			}
		case *array.BinaryDictionaryBuilder:
			if x.area == "" {
				b.AppendNull()
			} else if err := b.AppendString(x.area); err != nil {
				panic(err)
			}
		}
	}
	columns := []arrow.Array{ids.NewArray(), areas.NewArray(), depths.NewArray()}
	var fields []arrow.Field
	for i, c := range columns {
		fields = append(fields, arrow.Field{Name: spotFields[i].Name, Type: c.DataType(), Nullable: true})
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, int64(len(spots)))
}

func (s side) Read(_ context.Context, take func(Rows) error) error {
	for from := 0; from < len(s.spots); from += s.step {
		part := s.spots[from:min(from+s.step, len(s.spots))]
		if err := take(Rows{Batch: s.batch(part), Object: func(int) int64 { return 1 },
			Place: func(row int) Place { return Place{Record: int64(from + row + 1)} }}); err != nil {
			return err
		}
	}
	return nil
}

func manySpots(r *rand.Rand, n int) (out []spot) {
	for i := range n {
		out = append(out, spot{int64(i), []string{"", "Cairn Bay", "The Narrows", "Marrow Deep"}[r.Intn(4)], float64(r.Intn(1000)) / 8})
	}
	return out
}

func compare(t *testing.T, left, right side, key []int) *Outcome {
	t.Helper()
	out, err := Compare(t.Context(), left, right, Request{Fields: spotFields, Key: key, Examples: 1000, Workers: 2})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestOrderAndFormMakeNoDifference holds the same rows against each other in another order, in other pieces and in another form.
func TestOrderAndFormMakeNoDifference(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	spots := manySpots(r, 5000)
	other := slices.Clone(spots)
	r.Shuffle(len(other), func(i, j int) { other[i], other[j] = other[j], other[i] })
	out := compare(t, side{spots, 700, false}, side{other, 33, true}, nil)
	if !out.Equal || out.Left.Rows != 5000 || len(out.Examples) != 0 {
		t.Errorf("%+v", out)
	}
	for i := range spotFields {
		if a, b := out.Left.Facts(i), out.Right.Facts(i); a != b {
			t.Errorf("%+v\n%+v", a, b)
		}
	}
}

// TestWhatDiffersIsFound changes, adds and removes rows at random, and has each found with its place.
func TestWhatDiffersIsFound(t *testing.T) {
	for seed := range int64(20) {
		r := rand.New(rand.NewSource(seed))
		spots := manySpots(r, 2000)
		var other []spot
		altered, removed := 0, 0
		for _, x := range spots {
			switch r.Intn(300) {
			case 0:
				removed++
				continue
			case 1:
				altered++
				x.depth += 0.125
			case 2:
				altered++
				if x.area += "n"; x.area == "n" {
					x.area = "Cairn Bay"
				}
			}
			other = append(other, x)
		}
		added := r.Intn(5)
		for i := range added {
			other = append(other, spot{int64(10000 + i), "Cairn Bay", 1})
		}
		place := map[int64]int64{}
		for i, x := range other {
			place[x.id] = int64(i + 1)
		}
		byKey := compare(t, side{spots, 100, seed%2 == 0}, side{other, 77, false}, []int{0})
		if byKey.Altered != int64(altered) || byKey.OnlyLeft != int64(removed) || byKey.OnlyRight != int64(added) {
			t.Errorf("%d: %d altered of %d, %d missing of %d, %d more of %d", seed, byKey.Altered, altered, byKey.OnlyLeft, removed, byKey.OnlyRight, added)
		}
		for _, e := range byKey.Examples {
			id, _ := strconv.ParseInt(e.Key[0].Text, 10, 64)
			if e.Left != nil && e.Left.Record != id+1 || e.Right != nil && e.Right.Record != place[id] || e.Left != nil && e.Right != nil && len(e.Cells) != 1 {
				t.Errorf("%d: %+v", seed, e)
			}
		}
		byAll := compare(t, side{spots, 100, false}, side{other, 77, true}, nil)
		if byAll.OnlyLeft != int64(altered+removed) || byAll.OnlyRight != int64(altered+added) || byAll.Equal {
			t.Errorf("%d: %+v", seed, byAll)
		}
	}
}

// TestValuesInOtherRows are found, though each column has the same ones.
func TestValuesInOtherRows(t *testing.T) {
	spots := []spot{{1, "Cairn Bay", 1}, {2, "The Narrows", 2}}
	swapped := []spot{{1, "The Narrows", 1}, {2, "Cairn Bay", 2}}
	out := compare(t, side{spots, 9, false}, side{swapped, 9, false}, []int{0})
	if out.Equal || out.Altered != 2 || !out.Left.Facts(1).Same(out.Right.Facts(1)) {
		t.Errorf("%+v", out)
	}
	if len(out.Examples) != 2 || out.Examples[0].Cells[0] != (Pair{"area", Cell{"area", "Cairn Bay", false}, Cell{"area", "The Narrows", false}}) {
		t.Errorf("%+v", out.Examples)
	}
}

// TestRowsThatAreThereOften are counted as often.
func TestRowsThatAreThereOften(t *testing.T) {
	x := spot{1, "Cairn Bay", 1}
	for _, key := range [][]int{nil, {0}} {
		out := compare(t, side{[]spot{x, x, x}, 2, false}, side{[]spot{x}, 2, false}, key)
		if out.Equal || out.OnlyLeft != 2 || out.OnlyRight+out.Altered != 0 {
			t.Errorf("%v: %+v", key, out)
		}
	}
	if out := compare(t, side{[]spot{x, x}, 9, false}, side{nil, 9, false}, nil); out.OnlyLeft != 2 || len(out.Examples) != 2 {
		t.Errorf("%+v", out)
	}
}

// TestLatestOfAKey takes a row for no missing one that another row of its key came after.
func TestLatestOfAKey(t *testing.T) {
	left := side{[]spot{{1, "Cairn Bay", 1}, {1, "Cairn Bay", 2}, {2, "The Narrows", 1}, {3, "The Narrows", 1}, {4, "", 1}}, 9, false}
	right := foreign{side{[]spot{{1, "Cairn Bay", 2}, {2, "The Narrows", 7}, {3, "The Narrows", 1}, {9, "", 1}}, 9, false}, map[int64]bool{2: true, 3: true, 9: true}}
	r := Request{Fields: spotFields, Key: []int{0}, Latest: true, AllRight: right, Examples: 10, Workers: 1}
	own, err := Sum(t.Context(), side{[]spot{{1, "Cairn Bay", 2}}, 9, false}, r)
	if err != nil {
		t.Fatal(err)
	}
	l, err := Sum(t.Context(), left, r)
	if err != nil {
		t.Fatal(err)
	}
	out, err := Settle(t.Context(), left, right, l, own, r)
	// Of key 1 an earlier row gave way, 2 was updated by others, 3 is theirs with the same values, and 4 is missing.
	if err != nil || out.Superseded != 2 || out.Elsewhere != 1 || out.OnlyLeft != 1 || out.OnlyRight+out.Altered != 0 {
		t.Errorf("%+v, %v", out, err)
	}
}

// foreign is a side of which some rows, by their id, are of other objects.
type foreign struct {
	side
	ids map[int64]bool
}

func (f foreign) Read(ctx context.Context, take func(Rows) error) error {
	return f.side.Read(ctx, func(r Rows) error {
		ids := r.Batch.Column(0).(*array.Int64)
		r.Foreign = func(row int) bool { return f.ids[ids.Value(row)] }
		return take(r)
	})
}

// TestSumsAreExact adds numbers whose sum is lost where each step is rounded, in any order.
func TestSumsAreExact(t *testing.T) {
	var d, turned doubles
	values := []float64{1e300, 1, -1e300, 0.1, math.SmallestNonzeroFloat64, -0.1, 1e16, 1, 1, -1e16}
	for i := range values {
		d.add(values[i])
		turned.add(values[len(values)-1-i])
	}
	if d.text() != "3" || turned.text() != "3" {
		t.Errorf("%s, %s", d.text(), turned.text())
	}
	r := rand.New(rand.NewSource(3))
	var all doubles
	want := new(big.Float).SetPrec(3000)
	for range 2000 {
		v := math.Float64frombits(r.Uint64())
		if math.IsNaN(v) || math.IsInf(v, 0) {
			continue
		}
		all.add(v)
		want.Add(want, new(big.Float).SetPrec(3000).SetFloat64(v))
	}
	if f, _ := want.Float64(); all.text() != strconv.FormatFloat(f, 'g', -1, 64) {
		t.Errorf("%s, want %g", all.text(), f)
	}
	d.add(math.Inf(1))
	if d.text() != "Infinity" {
		t.Error(d.text())
	}
	if d.add(math.Inf(-1)); d.text() != "NaN" {
		t.Error(d.text())
	}
	var w whole
	sum := new(big.Int)
	for range 1000 {
		v := int64(r.Uint64())
		w.add(v)
		sum.Add(sum, big.NewInt(v))
		n := decimal128.New(int64(r.Uint64()), r.Uint64())
		w.addDecimal(n)
		sum.Add(sum, n.BigInt())
	}
	if w.value().Cmp(sum) != 0 {
		t.Errorf("%s, want %s", w.value(), sum)
	}
	for scale, want := range map[int]string{0: "-5", 1: "-0.5", 2: "-0.05"} {
		var w whole
		if w.add(-5); w.text(scale) != want {
			t.Errorf("%s, want %s", w.text(scale), want)
		}
	}
}

func BenchmarkDigest(b *testing.B) {
	s := side{manySpots(rand.New(rand.NewSource(1)), 100_000), 10_000, false}
	var batches []arrow.RecordBatch
	_ = s.Read(context.Background(), func(r Rows) error {
		batches = append(batches, r.Batch)
		return nil
	})
	b.SetBytes(100_000 * 24)
	for b.Loop() {
		d := NewDigest(spotFields, nil, 1)
		for _, batch := range batches {
			if err := d.Add(b.Context(), batch); err != nil {
				b.Fatal(err)
			}
		}
	}
}

func ExampleCompare() {
	before := side{[]spot{{1, "Cairn Bay", 12.5}, {2, "The Narrows", 7}}, 10, false}
	after := side{[]spot{{2, "The Narrows", 7.5}, {1, "Cairn Bay", 12.5}}, 10, false}
	out, err := Compare(context.Background(), before, after, Request{Fields: spotFields, Key: []int{0}, Examples: 1})
	if err != nil {
		fmt.Println(err)
		return
	}
	e := out.Examples[0]
	fmt.Println(out.Altered, "altered:", e.Key[0].Column, e.Key[0].Text, e.Cells[0].Column, e.Cells[0].Left.Text, e.Cells[0].Right.Text)
	// Output: 1 altered: id 2 depth 7 7.5
}
