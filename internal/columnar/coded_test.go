package columnar

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// dictionaryMaker makes of columns of values ones with a dictionary, which grows from batch to batch as that of a reader does.
type dictionaryMaker struct {
	numbers map[string]uint32
	values  array.Builder
	all     arrow.Array
}

func newDictionaryMaker(dt arrow.DataType) *dictionaryMaker {
	return &dictionaryMaker{numbers: map[string]uint32{}, values: array.NewBuilder(memory.DefaultAllocator, dt)}
}

// coded numbers the values of a column; list holds all of them so far.
func (m *dictionaryMaker) coded(a arrow.Array, list *[]arrow.Array, at *[]int) arrow.Array {
	codes := array.NewUint32Builder(memory.DefaultAllocator)
	for i := range a.Len() {
		if a.IsNull(i) {
			codes.AppendNull()
			continue
		}
		key := fmt.Sprintf("%v %x", a.ValueStr(i), bitsOf(a, i))
		n, ok := m.numbers[key]
		if !ok {
			n = uint32(len(*at))
			m.numbers[key] = n
			*list, *at = append(*list, a), append(*at, i)
		}
		codes.Append(n)
	}
	for m.values.Len() < len(*at) {
		n := m.values.Len()
		if err := m.values.AppendValueFromString((*list)[n].ValueStr((*at)[n])); err != nil {
			panic(err)
		}
	}
	indices := codes.NewArray()
	m.all = m.values.NewArray()
	for i := range m.all.Len() {
		if err := m.values.AppendValueFromString(m.all.ValueStr(i)); err != nil {
			panic(err)
		}
	}
	return array.NewDictionaryArray(&arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: a.DataType()}, indices,
		m.all)
}

func bitsOf(a arrow.Array, i int) uint64 {
	if d, ok := a.(*array.Float64); ok {
		return math.Float64bits(d.Value(i))
	}
	return 0
}

// TestDictionariesGiveTheSameFile writes batches as they are and with dictionaries of two makers in turn.
func TestDictionariesGiveTheSameFile(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{
		{Name: "few", Type: schema.Type{Kind: schema.Long}}, {Name: "many", Type: schema.Type{Kind: schema.Long}},
		{Name: "level", Type: schema.Type{Kind: schema.Double}}, {Name: "label", Type: schema.Type{Kind: schema.String}},
		{Name: "must", Type: schema.Type{Kind: schema.String}, Required: true},
	}}
	s.AssignIDs()
	random := rand.New(rand.NewPCG(3, 9))
	as := s.Arrow()
	var plain, coded []arrow.RecordBatch
	var makers [2][]*dictionaryMaker
	var lists [2][5][]arrow.Array
	var ats [2][5][]int
	for i := range makers {
		for _, f := range as.Fields() {
			makers[i] = append(makers[i], newDictionaryMaker(f.Type))
		}
	}
	for n := range 9 {
		b := array.NewRecordBuilder(memory.DefaultAllocator, as)
		for range 4000 {
			value := func(i int, add func()) {
				if i < 4 && random.IntN(5) == 0 {
					b.Field(i).AppendNull()
				} else {
					add()
				}
			}
			value(0, func() { b.Field(0).(*array.Int64Builder).Append(random.Int64N(50)) })
			value(1, func() { b.Field(1).(*array.Int64Builder).Append(random.Int64N(1 << 40)) })
			value(2, func() {
				b.Field(2).(*array.Float64Builder).Append(
					[]float64{math.NaN(), 0, math.Copysign(0, -1), 1.5, random.Float64()}[random.IntN(5)])
			})
			value(3, func() { b.Field(3).(*array.StringBuilder).Append(fmt.Sprint("buoy ", random.IntN(3000))) })
			value(4, func() { b.Field(4).(*array.StringBuilder).Append([]string{"", "tide", "wave"}[random.IntN(3)]) })
		}
		batch := b.NewRecordBatch()
		plain = append(plain, batch)
		var columns []arrow.Array
		fields := slices.Clone(as.Fields())
		for i, c := range batch.Columns() {
			columns = append(columns, makers[n%2][i].coded(c, &lists[n%2][i], &ats[n%2][i]))
			fields[i].Type = columns[i].DataType()
		}
		coded = append(coded, array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, batch.NumRows()))
	}
	for _, o := range []Options{{RowGroupRows: 10_000, RowGroupBytes: 1 << 30, Workers: 2},
		{RowGroupRows: 1 << 20, RowGroupBytes: 1 << 30, SecondPages: true}} {
		first, _ := write(t, s, o, plain...)
		second, summary := write(t, s, o, coded...)
		a, err := os.ReadFile(first)
		if err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(second)
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(a, b) {
			t.Errorf("%d rows in a group: %d bytes without dictionaries, %d other bytes with them", o.RowGroupRows, len(a), len(b))
		}
		if summary.Rows != 36_000 {
			t.Errorf("%d rows were written, not 36000", summary.Rows)
		}
	}
}
