package fit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

func field(name string, k schema.Kind) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: k}}
}

func pinned(name string, k schema.Kind) schema.Field {
	f := field(name, k)
	f.Pinned = true
	return f
}

func fitDelimited(text string, fields ...schema.Field) (arrow.RecordBatch, []parse.Problem) {
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: len(fields)}
	var r delimited.Records
	p.Parse(&parse.Block{Data: []byte(text), Line: 1}, &r)
	columns := make([]int, len(fields))
	for i := range columns {
		columns[i] = i
	}
	return NewDelimited(schema.Schema{Fields: fields}, true).Fit(&r, columns)
}

func fitJSON(text string, grows bool, fields ...schema.Field) (arrow.RecordBatch, []parse.Problem) {
	var r json.Records
	r.Parse(&parse.Block{Data: []byte(text), Line: 1})
	return NewJSON(schema.Schema{Fields: fields}, grows).Fit(&r)
}

// show writes a batch column by column.
func show(b arrow.RecordBatch) string {
	var parts []string
	for _, c := range b.Columns() {
		parts = append(parts, fmt.Sprint(c))
	}
	return strings.Join(parts, " ")
}

func TestFitDelimited(t *testing.T) {
	tests := []struct {
		name   string
		text   string
		fields []schema.Field
		want   string
	}{
		{"every type", "1,2.5,true,2031-05-01,01:02,2031-05-01 01:02:03,2031-05-01T01:02:03Z,x\n,,,,,,,\n",
			[]schema.Field{field("a", schema.Long), field("b", schema.Double), field("c", schema.Boolean), field("d", schema.Date), field("e", schema.Time),
				field("f", schema.Timestamp), field("g", schema.TimestampTz), field("h", schema.String)},
			`[1 (null)] [2.5 (null)] [true (null)] [2031-05-01 (null)] [3720000000 (null)] [1935363723000000 (null)] [1935363723000000 (null)] ["x" (null)]`},
		{"empty texts and nulls", "\"\"\nx\n\n", []schema.Field{field("a", schema.String)}, `["" "x" (null)]`},
		{"doubled quotes", "\"a \"\"b\"\"\"\n", []schema.Field{field("a", schema.String)}, `["a \"b\""]`},
		{"pinned types take every spelling", "007,+1.50,yes,5,1.5,\"\"\n",
			[]schema.Field{pinned("a", schema.Long), pinned("b", schema.Double), pinned("c", schema.Boolean), pinned("d", schema.Int), pinned("e", schema.Float), pinned("f", schema.Long)},
			`[7] [1.5] [true] [5] [1.5] [(null)]`},
		{"dates among timestamps", "2031-05-01\n2031-05-01 00:00:01\n", []schema.Field{field("a", schema.Timestamp)}, `[1935360000000000 1935360001000000]`},
	}
	for _, test := range tests {
		b, m := fitDelimited(test.text, test.fields...)
		if len(m) > 0 {
			t.Errorf("%s: %+v", test.name, m)
			continue
		}
		if got := show(b); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
}

// TestNullsInLongColumns crosses byte borders of the bitmaps.
func TestNullsInLongColumns(t *testing.T) {
	for _, kind := range []schema.Kind{schema.Long, schema.Boolean, schema.String, schema.Double} {
		value := map[schema.Kind]string{schema.Long: "1", schema.Boolean: "true", schema.String: "x", schema.Double: "0.5"}[kind]
		for first := range 20 {
			var text strings.Builder
			for row := range 40 {
				if row >= first && row%3 == 0 {
					text.WriteString(",z\n")
				} else {
					text.WriteString(value + ",z\n")
				}
			}
			b, m := fitDelimited(text.String(), field("a", kind), field("b", schema.String))
			if len(m) > 0 {
				t.Fatal(m)
			}
			for row := range 40 {
				if b.Column(0).IsNull(row) != (row >= first && row%3 == 0) {
					t.Fatalf("%s, nulls from row %d on: row %d is wrong", kind, first, row)
				}
			}
		}
	}
}

func TestMisfits(t *testing.T) {
	unseen := field("a", schema.String)
	unseen.Unseen = true
	tests := []struct {
		name   string
		text   string
		field  schema.Field
		value  string
		start  int
		widens bool
	}{
		{"a text among longs", "1\nx\ny\n", field("a", schema.Long), "x", 2, true},
		{"leading zeros", "1\n007\n", field("a", schema.Long), "007", 2, true},
		{"a wide number among doubles", "1.5\n9007199254740993\n", field("a", schema.Double), "9007199254740993", 4, true},
		{"a zone among none", "2031-05-01 00:00:00\n2031-05-01T00:00:00Z\n", field("a", schema.Timestamp), "2031-05-01T00:00:00Z", 20, true},
		{"a quoted empty text", "1\n\"\"\n", field("a", schema.Long), "", 2, true},
		{"a value where none was seen", "\nx\n", unseen, "x", 1, true},
		{"a pinned column does not widen", "x\n", pinned("a", schema.Double), "x", 0, false},
		{"an int too large", "2147483648\n", pinned("a", schema.Int), "2147483648", 0, false},
	}
	for _, test := range tests {
		_, m := fitDelimited(test.text, test.field)
		if len(m) != 1 || m[0].Value != test.value || m[0].Start != test.start || m[0].Widens != test.widens || m[0].Column != "a" || m[0].WayOut == "" || m[0].Code != parse.DoesNotFit {
			t.Errorf("%s: %+v", test.name, m)
		}
	}
	_, m := fitDelimited("1,1\nx,2\n3,y\n", field("b", schema.Long), field("a", schema.Long))
	if len(m) == 0 || m[0].Value != "x" {
		t.Errorf("not the first record in the file: %+v", m)
	}
}

func nested() []schema.Field {
	part := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{field("s", schema.String), field("v", schema.Double)}}}
	position := schema.Field{Name: "pos", Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{field("lat", schema.Double), field("lon", schema.Double)}}}
	return []schema.Field{field("id", schema.Long), position, {Name: "list", Type: schema.Type{Kind: schema.List, Element: &part}}, field("t", schema.String)}
}

func TestFitJSON(t *testing.T) {
	text := `{"id":1,"pos":{"lat":1.5,"lon":2},"list":[{"s":"a","v":1},{"v":2.5},null],"t":"x\n\u00e9"}
{"t":{"a": [1, 2]},"list":[],"id":2}
{"pos":null,"list":null,"id":null,"t":null}
{"pos":{},"t":12.50}`
	b, m := fitJSON(text, true, nested()...)
	if len(m) > 0 {
		t.Fatal(m)
	}
	want := `[1 2 (null) (null)] {[1.5 (null) (null) (null)] [2 (null) (null) (null)]} [{["a" (null) (null)] [1 2.5 (null)]} {[] []} (null) (null)] ` +
		`["x\né" "{\"a\": [1, 2]}" (null) "12.50"]`
	if got := show(b); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if position := b.Column(1); position.IsNull(0) || !position.IsNull(1) || !position.IsNull(2) || position.IsNull(3) {
		t.Error("absent, null and empty structs are not told apart")
	}
	if list := b.Column(2); list.IsNull(1) || !list.IsNull(2) || !list.IsNull(3) {
		t.Error("empty, null and absent lists are not told apart")
	}
}

func TestJSONMisfits(t *testing.T) {
	tests := []struct {
		text, column, value string
		widens              bool
	}{
		{`{"id":"1"}`, "id", "1", true},
		{`{"id":1.5}`, "id", "1.5", true},
		{`{"pos":[1]}`, "pos", "[1]", true},
		{`{"pos":{"lat":true}}`, "pos.lat", "true", true},
		{`{"list":[{"v":"x"}]}`, "list.element.v", "x", true},
		{`{"list":{"v":1}}`, "list", `{"v":1}`, true},
		{`{"pos":{"alt":3}}`, "pos.alt", "3", true},
		{`{"new":{"a":1}}`, "new", `{"a":1}`, true},
		{`{"id":1,"id":2}`, "", "", false},
		{`{"id":1} x`, "", "", false},
		{`[1]`, "", "", false},
		{`{"t":"\ud800"}`, "", "", false},
	}
	for _, test := range tests {
		_, m := fitJSON("{\"id\":0}\n"+test.text, true, nested()...)
		if len(m) != 1 || m[0].Column != test.column || m[0].Value != test.value || m[0].Widens != test.widens || m[0].Start != 9 || m[0].Reason == "" {
			t.Errorf("%s: %+v", test.text, m)
		}
	}
	if _, m := fitJSON(`{"new":1}`, false, nested()...); len(m) != 1 || m[0].Widens {
		t.Errorf("a table's schema grows: %+v", m)
	}
	if b, m := fitJSON(`{"id":"7"}`, true, pinned("id", schema.Long)); len(m) > 0 || show(b) != "[7]" {
		t.Errorf("a pinned column refuses a number in a string: %+v", m)
	}
}

func TestBadRecordsAreLeftOut(t *testing.T) {
	b, problems := fitDelimited("1,x\nbad,y\n3,\n4,\"z\nz\"\nworse,w", pinned("a", schema.Long), field("b", schema.String))
	if got := show(b); got != `[1 3 4] ["x" (null) "z\nz"]` || len(problems) != 2 || problems[0].Start != 4 || problems[0].End != 10 || problems[1].Value != "worse" {
		t.Errorf("%s, %+v", got, problems)
	}
}

// TestBadJSONLeavesNoTrace puts records that go wrong at every possible byte between good ones.
func TestBadJSONLeavesNoTrace(t *testing.T) {
	fields := append(nested(), field("b", schema.Boolean))
	good := `{"id":1,"pos":{"lat":1.5,"lon":2},"list":[{"s":"a","v":1},{"v":2.5},null],"t":"x","b":true}`
	for _, around := range []string{good, `{"pos":null,"list":null,"b":false}`, `{}`} {
		want, problems := fitJSON(around+"\n"+good+"\n"+around, false, fields...)
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		for cut := 1; cut < len(good); cut++ {
			b, problems := fitJSON(around+"\n"+good[:cut]+"\n"+good+"\n"+good[:cut]+"!\n"+around, false, fields...)
			if len(problems) != 2 {
				t.Fatalf("cut at %d: %+v", cut, problems)
			}
			if got := show(b); got != show(want) {
				t.Fatalf("cut at %d:\n%s\nwant\n%s", cut, got, show(want))
			}
			for c := range b.Columns() {
				if b.Column(c).NullN() != want.Column(c).NullN() {
					t.Fatalf("cut at %d: column %d has %d nulls", cut, c, b.Column(c).NullN())
				}
			}
		}
	}
}

func BenchmarkFitDelimited(b *testing.B) {
	text := strings.Repeat("100001,OS-0042,2031-05-01T01:02:03Z,3.250,true\n", 10000)
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: 5}
	var r delimited.Records
	p.Parse(&parse.Block{Data: []byte(text), Line: 1}, &r)
	d := NewDelimited(schema.Schema{Fields: []schema.Field{field("a", schema.Long), field("b", schema.String), field("c", schema.TimestampTz), field("d", schema.Double), field("e", schema.Boolean)}}, true)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, m := d.Fit(&r, []int{0, 1, 2, 3, 4}); len(m) > 0 {
			b.Fatal(m)
		}
	}
}

func BenchmarkFitJSON(b *testing.B) {
	text := strings.Repeat(`{"id":12,"pos":{"lat":57.12345,"lon":-5.54321},"list":[{"s":"depth","v":12.345},{"s":"temp","v":9.1}],"t":"swell from the west"}`+"\n", 5000)
	var r json.Records
	r.Parse(&parse.Block{Data: []byte(text), Line: 1})
	j := NewJSON(schema.Schema{Fields: nested()}, true)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, m := j.Fit(&r); len(m) > 0 {
			b.Fatal(m)
		}
	}
}
