package layout

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// codedSample has a column of each type that may come with a dictionary.
func codedSample() schema.Schema {
	s := schema.Schema{Fields: []schema.Field{column("id", schema.Long), column("area", schema.String), column("n", schema.Int),
		column("wave", schema.Double), column("at", schema.Timestamp), column("day", schema.Date)}}
	s.AssignIDs()
	return s
}

// plainBatch has random rows, with ids from one on; values repeat more or less.
func plainBatch(random *rand.Rand, s schema.Schema, id, rows int) arrow.RecordBatch {
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	different := 1 + random.IntN(30)
	for i := range rows {
		build.Field(0).(*array.Int64Builder).Append(int64(id + i))
		for c := 1; c < len(s.Fields); c++ {
			v := random.IntN(different)
			if random.IntN(9) == 0 {
				build.Field(c).AppendNull()
				continue
			}
			switch b := build.Field(c).(type) {
			case *array.StringBuilder:
				b.Append([]string{"", "Cairn Bay", fmt.Sprint("area ", v), fmt.Sprint("The Narrows, beyond the buoy ", v)}[random.IntN(4)])
			case *array.Int32Builder:
				b.Append(int32(v - 9))
			case *array.Float64Builder:
				b.Append([]float64{math.NaN(), math.Inf(-1), 0, float64(v) / 4}[random.IntN(4)])
			case *array.TimestampBuilder:
				b.Append(arrow.Timestamp(int64(v-9) * 7_000_000_001))
			case *array.Date32Builder:
				b.Append(arrow.Date32(v - 9))
			}
		}
	}
	return build.NewRecordBatch()
}

// coded gives some columns of a batch a dictionary, with values that do not occur besides, in any order.
func coded(random *rand.Rand, b arrow.RecordBatch) arrow.RecordBatch {
	columns := slices.Clone(b.Columns())
	fields := slices.Clone(b.Schema().Fields())
	for c, plain := range columns {
		if random.IntN(3) == 0 {
			continue
		}
		numbers := map[string]int{}
		var rows []int // that values stand in, by their number
		for row := range plain.Len() {
			if key := plain.ValueStr(row); !plain.IsNull(row) {
				if _, known := numbers[key]; !known || random.IntN(50) == 0 {
					numbers[key] = len(rows)
					rows = append(rows, row)
				}
			}
		}
		dictionary := make([]arrow.Array, len(rows))
		for i, row := range rows {
			dictionary[i] = array.NewSlice(plain, int64(row), int64(row+1))
		}
		if len(rows) == 0 {
			continue
		}
		values, err := array.Concatenate(dictionary, memory.DefaultAllocator)
		if err != nil {
			panic(err)
		}
		codes := array.NewUint32Builder(memory.DefaultAllocator)
		for row := range plain.Len() {
			if plain.IsNull(row) {
				codes.AppendNull()
			} else {
				codes.Append(uint32(numbers[plain.ValueStr(row)]))
			}
		}
		dt := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: plain.DataType()}
		columns[c] = array.NewDictionaryArray(dt, codes.NewArray(), values)
		fields[c].Type = dt
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows())
}

// rowsOf routes batches and returns the rows of all files, by folder, in their order.
func rowsOf(t *testing.T, s schema.Schema, spec Spec, o Options, batches []arrow.RecordBatch) map[string][]string {
	t.Helper()
	r := NewRouter(s, spec, o, filesIn(t.TempDir()))
	for _, b := range batches {
		if err := r.Write(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	rows := map[string][]string{}
	for _, f := range files {
		opened, err := columnar.Open(context.Background(), storage.Disk{}, f.URI)
		if err != nil {
			t.Fatal(err)
		}
		err = opened.Batches(context.Background(), func(b arrow.RecordBatch) error {
			rows[f.Folder] = append(rows[f.Folder], rowTexts(b)...)
			return nil
		})
		opened.Close()
		if err != nil {
			t.Fatal(err)
		}
	}
	return rows
}

// TestCodedRowsAreRoutedAsPlainOnes writes the same rows with and without dictionaries, which come and go from batch to batch, and
// with so little memory that they wait on the disk.
func TestCodedRowsAreRoutedAsPlainOnes(t *testing.T) {
	s := codedSample()
	for i, test := range []struct{ spec, sort string }{
		{"area", ""}, {"", "area,wave desc"}, {"day(at),area", ""}, {"bucket(5,n),truncate(7,area)", "at desc nulls last,day"},
		{"month(day)", "wave,n,area desc"}, {"hour(at),n", ""}, {"n,day", "id desc"},
	} {
		random := rand.New(rand.NewPCG(uint64(i), 3))
		spec := Spec(nil)
		if test.spec != "" {
			var err error
			if spec, err = ParseSpec(test.spec, s); err != nil {
				t.Fatal(err)
			}
		}
		order, err := ParseSort(test.sort, s)
		if err != nil {
			t.Fatal(err)
		}
		var plain, mixed []arrow.RecordBatch
		id := 0
		for range 12 {
			b := plainBatch(random, s, id, random.IntN(300))
			id += int(b.NumRows())
			plain, mixed = append(plain, b), append(mixed, coded(random, b))
		}
		o := DefaultOptions
		o.Sort, o.TempDir = order, t.TempDir()
		want := rowsOf(t, s, spec, o, plain)
		for _, budget := range []int{16 << 10, 1 << 30} {
			o.BudgetBytes, o.OpenFiles = int64(budget), 4
			got := rowsOf(t, s, spec, o, mixed)
			if len(got) != len(want) {
				t.Fatalf("%+v: %d folders with dictionaries, %d without", test, len(got), len(want))
			}
			for folder, rows := range want {
				if !slices.Equal(got[folder], rows) {
					t.Fatalf("%+v, %d bytes: %s differs\n%.500q\n%.500q", test, budget, folder, got[folder], rows)
				}
			}
		}
	}
}
