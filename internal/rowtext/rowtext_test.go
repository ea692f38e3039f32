package rowtext

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

func sample() arrow.RecordBatch {
	s := arrow.NewSchema([]arrow.Field{{Name: "a,b", Type: arrow.BinaryTypes.String, Nullable: true},
		{Name: "d", Type: arrow.PrimitiveTypes.Float64, Nullable: true},
		{Name: "n", Type: &arrow.Decimal128Type{Precision: 9, Scale: 2}, Nullable: true},
		{Name: "t", Type: arrow.FixedWidthTypes.Timestamp_us, Nullable: true},
		{Name: "l", Type: arrow.ListOf(arrow.StructOf(arrow.Field{Name: "x", Type: arrow.PrimitiveTypes.Int64, Nullable: true})),
			Nullable: true}}, nil)
	b := array.NewRecordBuilder(memory.DefaultAllocator, s)
	texts, doubles, decimals, times, lists := b.Field(0).(*array.StringBuilder), b.Field(1).(*array.Float64Builder),
		b.Field(2).(*array.Decimal128Builder), b.Field(3).(*array.TimestampBuilder), b.Field(4).(*array.ListBuilder)
	texts.AppendValues([]string{"a \"b\"\n", "", "x,\ty", " padded "}, nil)
	texts.AppendNull()
	doubles.AppendValues([]float64{1.5, math.NaN(), math.Inf(-1), 1e-9, 1e300}, nil)
	for _, v := range []int64{125, -5, 0, 100, 99999} {
		decimals.Append(decimal128.FromI64(v))
	}
	for range 5 {
		times.Append(1935360000123000)
	}
	lists.Append(true)
	lists.ValueBuilder().(*array.StructBuilder).Append(true)
	lists.ValueBuilder().(*array.StructBuilder).FieldBuilder(0).(*array.Int64Builder).Append(7)
	lists.Append(true)
	lists.AppendNull()
	lists.AppendNull()
	lists.AppendNull()
	return b.NewRecordBatch()
}

func TestDelimited(t *testing.T) {
	b := sample()
	got := string(Delimited(Header(nil, b.Schema(), ','), b, ','))
	want := "\"a,b\",d,n,t,l\n" +
		"\"a \"\"b\"\"\n\",1.5,1.25,2031-05-01T00:00:00.123Z,\"[{\"\"x\"\":7}]\"\n" +
		"\"\",NaN,-0.05,2031-05-01T00:00:00.123Z,[]\n" +
		"\"x,\ty\",-Inf,0.00,2031-05-01T00:00:00.123Z,\n" +
		"\" padded \",1e-09,1.00,2031-05-01T00:00:00.123Z,\n" +
		",1e+300,999.99,2031-05-01T00:00:00.123Z,\n"
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

func TestJSON(t *testing.T) {
	got := string(JSON(nil, sample().NewSlice(0, 2)))
	want := `{"a,b":"a \"b\"\n","d":1.5,"n":1.25,"t":"2031-05-01T00:00:00.123Z","l":[{"x":7}]}` + "\n" +
		`{"a,b":"","d":"NaN","n":-0.05,"t":"2031-05-01T00:00:00.123Z","l":[]}` + "\n"
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

// FuzzString holds JSON strings against the standard library's decoder.
func FuzzString(f *testing.F) {
	f.Add("a \"b\"\\\n\x00\u2028")
	f.Add("half \xff a character")
	f.Fuzz(func(t *testing.T, s string) {
		var back string
		if err := json.Unmarshal(appendString(nil, s), &back); err != nil {
			t.Fatal(err)
		}
		want, _ := json.Marshal(s)
		var through string
		if err := json.Unmarshal(want, &through); err != nil || back != through {
			t.Fatalf("%q came back as %q, by the library %q", s, back, through)
		}
	})
}
