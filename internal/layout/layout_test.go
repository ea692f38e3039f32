package layout

import (
	"context"
	"fmt"
	"math"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/iceberg-go"
	"github.com/google/uuid"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

func column(name string, k schema.Kind) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: k}}
}

func sample() schema.Schema {
	s := schema.Schema{Fields: []schema.Field{column("id", schema.Long), column("sea_area", schema.String), column("day", schema.Date),
		column("at", schema.TimestampTz), column("depth", schema.Double), column("small", schema.Int)}}
	s.Fields[1].Origin = "Sea Area"
	s.AssignIDs()
	return s
}

func TestParseSpec(t *testing.T) {
	tests := []struct{ text, want, reason string }{
		{"day(at),sea_area", "day(at),sea_area", ""},
		{" bucket( 16 , id ) , truncate(3,Sea Area), year(day)", "bucket(16,id),truncate(3,sea_area),year(day)", ""},
		{"DAY", "day", ""},
		{"week(at)", "", "not a partition transform"},
		{"bucket(id)", "", "not complete"},
		{"day(3,at)", "", "not complete"},
		{"bucket(0,id)", "", "no width"},
		{"day(sea_area)", "", "cannot be made of column"},
		{"hour(day)", "", "cannot be made of column"},
		{"depth", "", "cannot be made of column"},
		{"sea_aera", "", "nearest name is sea_area"},
		{"day,,id", "", "is empty"},
		{"day(at),day(at)", "", "would both be called"},
	}
	for _, test := range tests {
		spec, err := ParseSpec(test.text, sample())
		switch {
		case test.reason == "" && (err != nil || spec.String() != test.want):
			t.Errorf("%q: %s, %v", test.text, spec, err)
		case test.reason != "" && (err == nil || !strings.Contains(err.Error(), test.reason)):
			t.Errorf("%q: %v, want %q", test.text, err, test.reason)
		}
	}
}

// TestTransformsAgree holds our transforms against the table library's.
func TestTransformsAgree(t *testing.T) {
	type sample struct {
		array   arrow.Array
		literal iceberg.Literal
		kinds   string
	}
	var samples []sample
	for _, v := range []int64{0, 1, -1, 34, -34, 1 << 40, -1 << 62} {
		b := array.NewInt64Builder(memory.DefaultAllocator)
		b.Append(v)
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral(v), "identity bucket truncate"})
	}
	for _, v := range []int32{0, 7, -7, 17514} {
		b := array.NewDate32Builder(memory.DefaultAllocator)
		b.Append(arrow.Date32(v))
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral(iceberg.Date(v)), "identity bucket year month day"})
		ints := array.NewInt32Builder(memory.DefaultAllocator)
		ints.Append(v)
		samples = append(samples, sample{ints.NewArray(), iceberg.NewLiteral(v), "identity bucket truncate"})
	}
	for _, v := range []int64{0, -1, 1934546645123456, -99999999999999} {
		b := array.NewTimestampBuilder(memory.DefaultAllocator, &arrow.TimestampType{Unit: arrow.Microsecond})
		b.Append(arrow.Timestamp(v))
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral(iceberg.Timestamp(v)), "identity bucket year month day hour"})
	}
	for _, v := range []string{"", "a", "iceberg", "Über den Kaiserring", "日本海"} {
		b := array.NewStringBuilder(memory.DefaultAllocator)
		b.Append(v)
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral(v), "identity bucket truncate"})
	}
	for _, v := range []decimal128.Num{decimal128.FromI64(0), decimal128.FromI64(1065), decimal128.FromI64(-1065),
		decimal128.FromI64(127), decimal128.FromI64(128), decimal128.FromI64(-129),
		decimal128.New(1<<40, 7), decimal128.New(-1<<40, 7)} {
		b := array.NewDecimal128Builder(memory.DefaultAllocator, &arrow.Decimal128Type{Precision: 38, Scale: 2})
		b.Append(v)
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral(iceberg.Decimal{Val: v, Scale: 2}), "identity bucket truncate"})
	}
	for _, v := range []uuid.UUID{{}, uuid.MustParse("f79c3e09-677c-4bbd-a479-3f349cb785e7")} {
		b := array.NewFixedSizeBinaryBuilder(memory.DefaultAllocator, &arrow.FixedSizeBinaryType{ByteWidth: 16})
		b.Append(v[:])
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral(v), "identity bucket"})
	}
	for _, v := range []string{"", "\x00\x01\x02\x03", "\xff\xfe"} {
		b := array.NewBinaryBuilder(memory.DefaultAllocator, arrow.BinaryTypes.Binary)
		b.Append([]byte(v))
		samples = append(samples, sample{b.NewArray(), iceberg.NewLiteral([]byte(v)), "identity bucket truncate"})
	}
	theirs := map[string]iceberg.Transform{"identity": iceberg.IdentityTransform{}, "year": iceberg.YearTransform{},
		"month": iceberg.MonthTransform{},
		"day":   iceberg.DayTransform{}, "hour": iceberg.HourTransform{}, "bucket": iceberg.BucketTransform{NumBuckets: 16},
		"truncate": iceberg.TruncateTransform{Width: 3}}
	for _, s := range samples {
		for _, name := range strings.Fields(s.kinds) {
			ours, err := Transform{Name: name, Width: map[string]int{"bucket": 16, "truncate": 3}[name]}.apply(leaf{values: s.array}, 0)
			if err != nil {
				t.Fatal(err)
			}
			want := theirs[name].Apply(iceberg.Optional[iceberg.Literal]{Valid: true, Val: s.literal}).Val.Any()
			if fmt.Sprint(ours) != fmt.Sprint(want) && fmt.Sprint(ours) != numberOf(want) {
				t.Errorf("%s of %v: %v, want %v", name, s.literal, ours, want)
			}
		}
	}
}

// TestNumbersThatCannotBeTruncated are those near the least that a type can hold.
func TestNumbersThatCannotBeTruncated(t *testing.T) {
	longs := array.NewInt64Builder(memory.DefaultAllocator)
	longs.AppendValues([]int64{math.MinInt64, math.MinInt64 + 8, math.MaxInt64}, nil)
	ints := array.NewInt32Builder(memory.DefaultAllocator)
	ints.AppendValues([]int32{math.MinInt32, math.MinInt32 + 8, math.MaxInt32}, nil)
	decimals := array.NewDecimal128Builder(memory.DefaultAllocator, &arrow.Decimal128Type{Precision: 3, Scale: 1})
	decimals.AppendValues([]decimal128.Num{decimal128.FromI64(-999), decimal128.FromI64(-990), decimal128.FromI64(999)}, nil)
	for _, test := range []struct {
		values arrow.Array
		want   string
	}{
		{longs.NewArray(), `column "n" has the value -9223372036854775808, and truncate(10,n) of it is less than a long can be; partition by bucket(16,n) instead`},
		{ints.NewArray(), `column "n" has the value -2147483648, and truncate(10,n) of it is less than an int can be`},
		{decimals.NewArray(), `column "n" has the value -99.9, and truncate(10,n) of it is less than a decimal(3,1) can be`},
	} {
		tr := Transform{Name: "truncate", Width: 10, Column: "n"}
		if v, err := tr.apply(leaf{values: test.values}, 0); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%v, %v", v, err)
		}
		for row := 1; row < 3; row++ {
			if v, err := tr.apply(leaf{values: test.values}, row); err != nil || v == nil {
				t.Errorf("row %d: %v, %v", row, v, err)
			}
		}
	}
}

// numberOf writes the library's values as ours are written.
func numberOf(v any) string {
	switch v := v.(type) {
	case iceberg.Date:
		return fmt.Sprint(int32(v))
	case iceberg.Timestamp:
		return fmt.Sprint(int64(v))
	case iceberg.Decimal:
		return fmt.Sprint(Decimal{v.Val, int32(v.Scale)})
	case []byte:
		return string(v)
	}
	return fmt.Sprint(v)
}

func TestFolders(t *testing.T) {
	date, text := arrow.FixedWidthTypes.Date32, arrow.BinaryTypes.String
	tests := []struct {
		transform Transform
		value     Value
		dt        arrow.DataType
		want      string
	}{
		{Transform{Name: "day", Column: "at"}, int32(22400), date, "at_day=2031-05-01"},
		{Transform{Name: "month", Column: "at"}, int32(-1), date, "at_month=1969-12"},
		{Transform{Name: "year", Column: "at"}, int32(61), date, "at_year=2031"},
		{Transform{Name: "hour", Column: "at"}, int32(1), date, "at_hour=1970-01-01-01"},
		{Transform{Name: "identity", Column: "day"}, int32(0), date, "day=1970-01-01"},
		{Transform{Name: "bucket", Width: 4, Column: "id"}, int32(3), date, "id_bucket=3"},
		{Transform{Name: "identity", Column: "price"}, Decimal{decimal128.FromI64(-1950), 2},
			&arrow.Decimal128Type{Precision: 9, Scale: 2}, "price=-19.50"},
		{Transform{Name: "identity", Column: "id"}, uuid.MustParse("f79c3e09-677c-4bbd-a479-3f349cb785e7"),
			&arrow.FixedSizeBinaryType{ByteWidth: 16}, "id=f79c3e09-677c-4bbd-a479-3f349cb785e7"},
		{Transform{Name: "truncate", Width: 2, Column: "key"}, Bytes("\x00/"), arrow.BinaryTypes.Binary, "key_trunc=002f"},
		{Transform{Name: "identity", Column: "a"}, nil, text, "a=null"},
		{Transform{Name: "identity", Column: "a"}, "null", text, "a=%6Eull"},
		{Transform{Name: "identity", Column: "a"}, "", text, "a="},
		{Transform{Name: "identity", Column: "a"}, "../../etc/x", text, "a=%2E.%2F..%2Fetc%2Fx"},
		{Transform{Name: "identity", Column: "a"}, "Cairn Bay", text, "a=Cairn%20Bay"},
		{Transform{Name: "identity", Column: "Tiefe ü"}, true, text, "Tiefe__=true"},
	}
	for _, test := range tests {
		if got := (Spec{test.transform}).Folder([]Value{test.value}, []arrow.DataType{test.dt}); got != test.want {
			t.Errorf("%v: %s, want %s", test.value, got, test.want)
		}
	}
	long := Spec{{Name: "identity", Column: "a"}}.Folder([]Value{strings.Repeat("/", 1000)}, []arrow.DataType{text})
	if len(long) > 255 || strings.Contains(strings.TrimPrefix(long, "a="), "/") {
		t.Errorf("%d bytes: %s", len(long), long)
	}
}

// filesIn makes numbered files in the folders of a folder.
func filesIn(root string) Create {
	n := 0
	return func(ctx context.Context, folder string) (func() (storage.Writer, error), string, error) {
		n++
		path := filepath.Join(root, folder, fmt.Sprintf("%05d.parquet", n))
		return func() (storage.Writer, error) { return storage.Disk{}.Create(ctx, path, storage.Creation{}) }, path, nil
	}
}

// TestRouterKeepsEveryRow routes rows under small limits and reads all files back.
func TestRouterKeepsEveryRow(t *testing.T) {
	s := sample()
	spec, err := ParseSpec("day(at),sea_area", s)
	if err != nil {
		t.Fatal(err)
	}
	options := DefaultOptions
	options.OpenFiles, options.BudgetBytes, options.FileBytes = 2, 20<<10, 64<<10
	root := t.TempDir()
	r := NewRouter(s, spec, options, filesIn(root))
	areas := []string{"Cairn Bay", "The Narrows", "", "Marrow Deep"}
	var want []string
	start := time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC)
	batches := 20
	if testing.Short() {
		batches = 3
	}
	for b := range batches {
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for i := range 300 {
			id := int64(b*300 + i)
			build.Field(0).(*array.Int64Builder).Append(id)
			if i%7 == 0 {
				build.Field(1).AppendNull()
			} else {
				build.Field(1).(*array.StringBuilder).Append(areas[i%4])
			}
			build.Field(2).AppendNull()
			build.Field(3).(*array.TimestampBuilder).Append(arrow.Timestamp(start.Add(time.Duration(id) * time.Hour).UnixMicro()))
			build.Field(4).(*array.Float64Builder).Append(float64(id) / 2)
			build.Field(5).AppendNull()
			want = append(want, fmt.Sprint(id))
		}
		if err := r.Write(t.Context(), build.NewRecordBatch()); err != nil {
			t.Fatal(err)
		}
	}
	out, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if days := batches * 300 / 24; len(out) < r.Partitions() || !testing.Short() && r.Partitions() != days*4+days {
		t.Errorf("%d files, %d partitions", len(out), r.Partitions())
	}
	var got []string
	for _, f := range out {
		got = append(got, ids(t, f)...)
	}
	sort.Strings(got)
	sort.Strings(want)
	if strings.Join(got, ",") != strings.Join(want, ",") {
		t.Errorf("%d rows came back of %d", len(got), len(want))
	}
}

// ids reads the first column of a file and checks that its rows belong into its partition.
func ids(t *testing.T, f DataFile) (out []string) {
	t.Helper()
	file, err := columnar.Open(context.Background(), storage.Disk{}, f.URI)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	err = file.Batches(context.Background(), func(b arrow.RecordBatch) error {
		for row := range int(b.NumRows()) {
			out = append(out, b.Column(0).ValueStr(row))
			area := b.Column(1)
			if (f.Values[1] == nil) != area.IsNull(row) || (f.Values[1] != nil && f.Values[1] != area.ValueStr(row)) {
				t.Errorf("%s holds a row of %q", f.URI, area.ValueStr(row))
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}
