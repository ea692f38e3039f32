package orc

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

func field(id int, name string, k schema.Kind) schema.Field {
	return schema.Field{ID: id, Name: name, Type: schema.Type{Kind: k}}
}

// calls are columns of most types, with parts.
func calls() schema.Schema {
	s := schema.Schema{Fields: []schema.Field{
		field(0, "id", schema.Long), field(0, "buoy", schema.String), field(0, "note", schema.String), field(0, "depth", schema.Double),
		field(0, "ok", schema.Boolean), field(0, "day", schema.Date),
		field(0, "at", schema.TimestampTz), field(0, "local", schema.Timestamp), field(0, "t", schema.Time),
		{Name: "price", Type: schema.Type{Kind: schema.Decimal, Precision: 20, Scale: 3}},
		{Name: "marks", Type: schema.Type{Kind: schema.List,
			Element: &schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Int}}}},
		{Name: "by", Type: schema.Type{Kind: schema.Map, Key: &schema.Field{Name: schema.KeyName, Type: schema.Type{Kind: schema.String},
			Required: true}, Element: &schema.Field{Name: schema.ValueName, Type: schema.Type{Kind: schema.Float}}}},
	}}
	s.AssignIDs()
	return s
}

// rowsOf makes random rows of calls: texts that repeat and such that do not, numbers in order, in runs, near each other and far apart.
func rowsOf(random *rand.Rand, first, n int) string {
	var out []string
	some := func(there float64, text string, values ...any) string {
		if random.Float64() > there {
			return "null"
		}
		return fmt.Sprintf(text, values...)
	}
	for i := first; i < first+n; i++ {
		var marks, by []string
		for range random.IntN(4) {
			marks = append(marks, some(0.8, "%d", random.Int32N(1<<uint(1+random.IntN(30)))-1000))
		}
		for k := range random.IntN(3) {
			by = append(by, fmt.Sprintf(`{"key":"k%d","value":%s}`, k, some(0.7, "%d.5", random.IntN(100))))
		}
		out = append(out, fmt.Sprintf(
			`{"id":%d,"buoy":"OS-%04d","note":%s,"depth":%s,"ok":%s,"day":%s,"at":%s,"local":%s,"t":%s,"price":%s,"marks":%s,"by":%s}`,
			i*i-500, random.IntN(40),
			some(0.5, `"call %x"`, random.Uint64()), some(0.9, "%g", random.NormFloat64()*100), some(0.8, "%t", i%7 < 3),
			some(0.9, `"20%02d-%02d-%02d"`, 10+random.IntN(80), 1+random.IntN(12), 1+random.IntN(28)),
			some(0.9, `"2031-05-%02dT%02d:%02d:%02d.%06dZ"`, 1+i%28, random.IntN(24), i%60, random.IntN(60), random.IntN(1000)*1000),
			some(0.9, `"1931-05-01T10:00:00.%d"`, random.IntN(10)),
			some(0.5, `"%02d:00:00.000007"`, random.IntN(24)), some(0.9, `"%d.%03d"`, random.Int64N(1<<uint(1+random.IntN(50))),
				random.IntN(1000)), some(0.8, "[%s]", strings.Join(marks, ",")),
			some(0.8, "[%s]", strings.Join(by, ","))))
	}
	return "[" + strings.Join(out, ",") + "]"
}

func batchOf(t *testing.T, s schema.Schema, text string) arrow.RecordBatch {
	t.Helper()
	b, _, err := array.RecordFromJSON(memory.DefaultAllocator, s.Arrow(), strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// With every codec, in one stripe or several, what was written reads back equal.
func TestEveryCodecReadsBackEqual(t *testing.T) {
	s := calls()
	for _, o := range []Options{{Codec: "none"}, {Codec: "gzip"}, {Codec: "gzip", Level: 9}, {Codec: "snappy"}, {Codec: "lz4"},
		{Codec: "zstd"}, {Codec: "zstd", Level: 9}, {Codec: "zstd", StripeRows: 700},
		{Codec: "lz4", StripeBytes: 20 << 10}} {
		random := rand.New(rand.NewPCG(5, uint64(o.Level)))
		if o.StripeRows == 0 {
			o.StripeRows = 1 << 20
		}
		if o.StripeBytes == 0 {
			o.StripeBytes = 64 << 20
		}
		var out bytes.Buffer
		w, err := NewWriter(&out, s, o)
		if err != nil {
			t.Fatal(err)
		}
		var want []byte
		total := 0
		for _, n := range []int{0, 1, 499, 1300, 200} {
			b := batchOf(t, s, rowsOf(random, total, n))
			if err := w.Write(context.Background(), b); err != nil {
				t.Fatal(err)
			}
			want = rowtext.JSON(want, b)
			total += n
		}
		if rows, err := w.Close(); err != nil || rows != int64(total) {
			t.Fatalf("%+v: %d rows, %v", o, rows, err)
		}
		got, err := lines(t, out.Bytes())
		if err != nil || got != string(want) {
			t.Fatalf("%+v: %v, %d bytes of %d came back", o, err, len(got), len(want))
		}
		f, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
		if err != nil {
			t.Fatal(err)
		}
		l, err := f.Layout()
		if err != nil {
			t.Fatal(err)
		}
		if several := o.StripeRows == 700 || o.StripeBytes == 20<<10; several != (len(l.Stripes) > 1) || l.Codec != o.Codec {
			t.Errorf("%+v: %d stripes, %s", o, len(l.Stripes), l.Codec)
		}
	}
	if _, err := NewWriter(&bytes.Buffer{}, s, Options{Codec: "brotli"}); err == nil ||
		!strings.Contains(err.Error(), "not written with brotli") {
		t.Errorf("%v", err)
	}
}

// The statistics of the file are those of its values.
func TestStatistics(t *testing.T) {
	s := calls()
	var out bytes.Buffer
	w, err := NewWriter(&out, s, Options{Codec: "zstd", StripeRows: 2, StripeBytes: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Write(context.Background(), batchOf(t, s, `[
		{"id":7,"buoy":"b","depth":-1.5,"ok":true,"day":"1969-12-31","price":"-0.001","marks":[1,null]},
		{"id":-3,"buoy":"a","depth":null,"ok":false,"day":"2031-05-01","price":"12.5","marks":[]},
		{"id":100000000000,"buoy":null,"depth":2,"ok":null,"day":null,"price":null,"marks":null}]`)); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	if err != nil {
		t.Fatal(err)
	}
	l, err := f.Layout()
	if err != nil || len(l.Stripes) != 2 || l.Stripes[0].Rows != 2 || l.Stripes[1].Rows != 1 {
		t.Fatalf("%+v, %v", l.Stripes, err)
	}
	for i, want := range []struct {
		values         int64
		smallest, most string
	}{{3, "-3", "100000000000"}, {2, "a", "b"}, {0, "", ""}, {2, "-1.5", "2"}, {2, "", ""}, {2, "1969-12-31", "2031-05-01"}} {
		if c := l.Columns[i]; c.Values != want.values || c.Smallest != want.smallest || c.Largest != want.most {
			t.Errorf("%s: %d values from %s to %s, want %+v", s.Fields[i].Name, c.Values, c.Smallest, c.Largest, want)
		}
	}
	if c := l.Columns[9]; c.Values != 2 || c.Smallest != "-0.001" || c.Largest != "12.5" && c.Largest != "12.500" {
		t.Errorf("%+v", c)
	}
}

// A file without rows is a file.
func TestWithoutRows(t *testing.T) {
	s := calls()
	var out bytes.Buffer
	w, err := NewWriter(&out, s, Options{Codec: "zstd", StripeRows: 10, StripeBytes: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	if rows, err := w.Close(); err != nil || rows != 0 {
		t.Fatalf("%d rows, %v", rows, err)
	}
	if got, err := lines(t, out.Bytes()); got != "" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
	f, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	if err != nil || f.Schema().NumFields() != len(s.Fields) {
		t.Errorf("%v", err)
	}
}
