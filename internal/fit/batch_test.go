package fit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// built makes an array of a type by appending to its builder.
func built(dt arrow.DataType, values ...any) arrow.Array {
	b := array.NewBuilder(memory.DefaultAllocator, dt)
	for _, v := range values {
		if v == nil {
			b.AppendNull()
		} else if err := b.AppendValueFromString(fmt.Sprint(v)); err != nil {
			panic(err)
		}
	}
	return b.NewArray()
}

func batchOf(a arrow.Array) arrow.RecordBatch {
	return array.NewRecordBatch(arrow.NewSchema([]arrow.Field{{Name: "a", Type: a.DataType(), Nullable: true}}, nil), []arrow.Array{a},
		int64(a.Len()))
}

func TestColumnsOfOtherTypes(t *testing.T) {
	stated := func(text string) schema.Field {
		s, err := schema.ParseType(text)
		if err != nil {
			t.Fatal(err)
		}
		return schema.Field{Name: "a", Type: s.Type, Demand: schema.Demand{Held: true}}
	}
	for _, test := range []struct {
		from          arrow.Array
		to            string
		want, misfits string
	}{
		{built(arrow.PrimitiveTypes.Int8, 1, nil, -3), "long", "[1 (null) -3]", ""},
		{built(arrow.PrimitiveTypes.Uint16, 65535), "int", "[65535]", ""},
		{built(arrow.PrimitiveTypes.Int64, 5, 3000000000), "int", "[5 (null)]", "1 a=3000000000"},
		{built(arrow.PrimitiveTypes.Uint64, uint64(1)<<63), "decimal(20,0)", "[9223372036854775808]", ""},
		{built(arrow.PrimitiveTypes.Float32, 1.5), "double", "[1.5]", ""},
		{built(arrow.PrimitiveTypes.Float64, 2, 2.5), "long", "[2 (null)]", "1 a=2.5"},
		{built(arrow.BinaryTypes.LargeString, "x", nil), "string", `["x" (null)]`, ""},
		{built(arrow.BinaryTypes.String, "7", "x", "NA"), "long", "[7 (null) (null)]", "1 a=x"},
		{built(arrow.PrimitiveTypes.Int64, 7), "string", `["7"]`, ""},
		{built(arrow.FixedWidthTypes.Date32, "2031-05-01"), "timestamp", "[1935360000000000]", ""},
		{built(&arrow.TimestampType{Unit: arrow.Millisecond}, "2031-05-01 00:00:00.5"), "timestamp", "[1935360000500000]", ""},
		{built(&arrow.TimestampType{Unit: arrow.Nanosecond}, "2031-05-01 00:00:00.123456789"), "timestamp", "[(null)]",
			"0 a=2031-05-01T00:00:00.123456789"},
		{built(&arrow.TimestampType{Unit: arrow.Nanosecond}, "2031-05-01 00:00:00.123456"), "timestamp", "[1935360000123456]", ""},
		{built(&arrow.TimestampType{Unit: arrow.Nanosecond}, "2031-05-01 00:00:00.123456789"), "timestamp_ns", "[1935360000123456789]",
			""},
		{built(&arrow.TimestampType{Unit: arrow.Second, TimeZone: "UTC"}, "2031-05-01 00:00:00Z"), "timestamptz", "[1935360000000000]",
			""},
		{built(arrow.FixedWidthTypes.Time32s, "10:15:00"), "time", "[36900000000]", ""},
		{built(arrow.BinaryTypes.String, "abc"), "binary", `["abc"]`, ""},
	} {
		f := stated(test.to)
		out, err := NewBatches(schema.Schema{Fields: []schema.Field{f}}, false).Fit(t.Context(), batchOf(test.from), []int{0}, nil)
		if err != nil {
			t.Errorf("%s to %s: %v", test.from.DataType(), test.to, err)
			continue
		}
		if got := show(out.Batch); got != test.want || misfits(out) != test.misfits {
			t.Errorf("%s to %s: %s, misfits %q, want %s, %q", test.from.DataType(), test.to, got, misfits(out), test.want, test.misfits)
		}
	}
}

func TestNestedColumnsOfOtherShapes(t *testing.T) {
	from := arrow.StructOf(arrow.Field{Name: "LAT", Type: arrow.PrimitiveTypes.Float32, Nullable: true},
		arrow.Field{Name: "tags", Type: arrow.ListOf(arrow.BinaryTypes.LargeString), Nullable: true},
		arrow.Field{Name: "gone", Type: arrow.PrimitiveTypes.Int8, Nullable: true})
	b := array.NewStructBuilder(memory.DefaultAllocator, from)
	for i := range 4 {
		if i == 1 {
			b.AppendNull()
			continue
		}
		b.Append(true)
		b.FieldBuilder(0).(*array.Float32Builder).Append(float32(i) / 2)
		tags := b.FieldBuilder(1).(*array.ListBuilder)
		tags.Append(true)
		tags.ValueBuilder().(*array.LargeStringBuilder).Append(fmt.Sprint("t", i))
		b.FieldBuilder(2).AppendNull()
	}
	s, err := schema.ParseType("struct<lon: double, lat: double, tags: list<string>>")
	if err != nil {
		t.Fatal(err)
	}
	fields := []schema.Field{{Name: "a", Type: s.Type}}
	whole := batchOf(b.NewArray())
	for _, part := range []arrow.RecordBatch{whole, whole.NewSlice(2, 4)} {
		out, err := NewBatches(schema.Schema{Fields: fields}, false).Fit(t.Context(), part, []int{0}, nil)
		if err != nil || len(out.Misfits) > 0 {
			t.Fatalf("%v, %s", err, misfits(out))
		}
		a := out.Batch.Column(0)
		var rows []string
		for i := range a.Len() {
			rows = append(rows, a.ValueStr(i))
		}
		want := `{"lat":0,"lon":null,"tags":["t0"]} (null) {"lat":1,"lon":null,"tags":["t2"]} {"lat":1.5,"lon":null,"tags":["t3"]}`
		if part.NumRows() == 2 {
			want = `{"lat":1,"lon":null,"tags":["t2"]} {"lat":1.5,"lon":null,"tags":["t3"]}`
		}
		if got := strings.Join(rows, " "); got != want {
			t.Errorf("%s\nwant %s", got, want)
		}
	}
}

func TestColumnsWithoutAPlace(t *testing.T) {
	in := batchOf(built(arrow.PrimitiveTypes.Int64, 1, nil))
	out, err := NewBatches(schema.Schema{Fields: []schema.Field{field("b", schema.Decimal)}[:0]}, false).Fit(t.Context(), in, nil,
		[]Kept{{Field: 0, Name: "extra"}})
	if err != nil || misfits(out) != "0 extra=1" {
		t.Errorf("%s, %v", misfits(out), err)
	}
	must := field("b", schema.Long)
	must.Required = true
	if _, err := NewBatches(schema.Schema{Fields: []schema.Field{must}}, false).Fit(t.Context(), in, []int{0}, nil); err == nil ||
		!strings.Contains(err.Error(), "is required") {
		t.Errorf("a null in a required column: %v", err)
	}
	wide := batchOf(built(&arrow.Decimal128Type{Precision: 9, Scale: 2}, decimal128.FromI64(125).ToString(2)))
	price := schema.Field{Name: "a", Type: schema.Type{Kind: schema.Decimal, Precision: 12, Scale: 3}, Demand: schema.Demand{Held: true}}
	if out, err := NewBatches(schema.Schema{Fields: []schema.Field{price}}, false).Fit(t.Context(), wide, []int{0}, nil); err != nil ||
		out.Batch.Column(0).ValueStr(0) != "1.25" && out.Batch.Column(0).ValueStr(0) != "1.250" {
		t.Errorf("%v, %v", out.Batch, err)
	}
}
