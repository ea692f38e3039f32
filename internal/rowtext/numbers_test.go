package rowtext

import (
	"math"
	"math/rand/v2"
	"strconv"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// TestFloatsAsTheStandardLibrary writes random numbers, of few places and of any bits.
func TestFloatsAsTheStandardLibrary(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 7))
	var p places
	check := func(v float64) {
		t.Helper()
		got, _ := p.append(nil, v)
		if want, _ := appendFloat(nil, v, 64); string(got) != string(want) {
			t.Fatalf("%b is written as %s, want %s", v, got, want)
		}
	}
	for _, v := range []float64{0, math.Copysign(0, -1), 1, -1, 0.1, 0.3, 0.1 + 0.2, 1e15, 1e15 - 0.5, 999999999999999, 123456.7, 1e-6, 9.9e-7,
		5e-324, math.MaxFloat64, math.Inf(1), math.NaN(), 4.35, 2.675, 100, 0.000001, 1e21, 1e20, 562949953421312.1} {
		check(v)
		check(-v)
	}
	for range 50_000 {
		check(math.Float64frombits(random.Uint64()))
		check(float64(random.Int64N(1e12)) / math.Pow10(random.IntN(12)))
		check(math.Nextafter(float64(random.IntN(1e6))/1000, math.Inf(random.IntN(2)-1)))
		check(random.Float64() * math.Pow10(random.IntN(20)-6))
	}
}

// TestTimesAsTheStandardLibrary writes random days and times, also such as years of four digits cannot tell.
func TestTimesAsTheStandardLibrary(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 1))
	zoned, plain := &arrow.TimestampType{Unit: arrow.Microsecond, TimeZone: "UTC"}, &arrow.TimestampType{Unit: arrow.Microsecond}
	for i := range int64(60_000) {
		day := firstDay - 1000 + i*60
		if i%2 == 1 {
			day = random.Int64N(80_000) - 30_000
		}
		want := time.Unix(day*86400, 0).UTC().Format("2006-01-02")
		if got := string(appendDay(nil, day)); got != want {
			t.Fatalf("day %d is written as %s, want %s", day, got, want)
		}
		micros := day*microsPerDay + random.Int64N(microsPerDay)/[]int64{1, 1000, 1_000_000}[i%3]*[]int64{1, 1000, 1_000_000}[i%3]
		at := time.UnixMicro(micros).UTC()
		if got, want := string(appendTimestamp(nil, micros, zoned)), at.Format("2006-01-02T15:04:05.999999")+"Z"; got != want {
			t.Fatalf("%d is written as %s, want %s", micros, got, want)
		}
		if got, want := string(appendTimestamp(nil, micros, plain)), at.Format("2006-01-02T15:04:05.999999"); got != want {
			t.Fatalf("%d is written as %s, want %s", micros, got, want)
		}
		of := micros - day*microsPerDay
		if got, want := string(appendTime(nil, of)), at.Format("15:04:05.999999"); got != want {
			t.Fatalf("%d is written as %s, want %s", of, got, want)
		}
	}
}

// TestDictionariesAsValues writes columns with dictionaries as it does those of their values.
func TestDictionariesAsValues(t *testing.T) {
	values := array.NewStringBuilder(memory.DefaultAllocator)
	values.AppendValues([]string{"", "Cairn Bay", "a, \"b\"\n", "null"}, nil)
	all := values.NewStringArray()
	codes, texts := array.NewUint32Builder(memory.DefaultAllocator), array.NewStringBuilder(memory.DefaultAllocator)
	for i := range 40 {
		if i%5 == 4 {
			codes.AppendNull()
			texts.AppendNull()
			continue
		}
		codes.Append(uint32(i * 7 % 4))
		texts.Append(all.Value(i * 7 % 4))
	}
	plain := texts.NewArray()
	dt := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: arrow.BinaryTypes.String}
	numbered := array.NewDictionaryArray(dt, codes.NewArray(), all)
	batch := func(a arrow.Array) arrow.RecordBatch {
		return array.NewRecordBatch(arrow.NewSchema([]arrow.Field{{Name: "area", Type: a.DataType(), Nullable: true}}, nil), []arrow.Array{a}, 40)
	}
	if got, want := Delimited(nil, batch(numbered), ','), Delimited(nil, batch(plain), ','); string(got) != string(want) {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if got, want := JSON(nil, batch(numbered)), JSON(nil, batch(plain)); string(got) != string(want) {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if got, want := Delimited(nil, batch(numbered).NewSlice(3, 20), ','), Delimited(nil, batch(plain).NewSlice(3, 20), ','); string(got) != string(want) {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

func BenchmarkFloats(b *testing.B) {
	var p places
	var dst []byte
	for i := range b.N {
		dst, _ = p.append(dst[:0], float64(i%12000)/1000)
	}
	_ = strconv.Itoa(len(dst))
}
