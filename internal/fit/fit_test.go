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

func fitRecords(text string, fields ...schema.Field) Result {
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: len(fields)}
	var r delimited.Records
	p.Parse(&parse.Block{Data: []byte(text), Line: 1}, &r)
	columns := make([]int, len(fields))
	for i := range columns {
		columns[i] = i
	}
	return NewDelimited(schema.Schema{Fields: fields}, false).Fit(&r, columns, nil)
}

func fitDelimited(text string, fields ...schema.Field) (arrow.RecordBatch, []parse.Problem) {
	out := fitRecords(text, fields...)
	return out.Batch, out.Problems
}

func jsonRecords(text string) *json.Records {
	var r json.Records
	r.Parse(&parse.Block{Data: []byte(text), Line: 1})
	return &r
}

func fitValues(text string, unknown Unknown, fields ...schema.Field) Result {
	return NewJSON(schema.Schema{Fields: fields}, unknown, false, false).Fit(jsonRecords(text))
}

func fitJSON(text string, fields ...schema.Field) (arrow.RecordBatch, []parse.Problem) {
	out := fitValues(text, UnknownWidens, fields...)
	return out.Batch, out.Problems
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
			[]schema.Field{field("a", schema.Long), field("b", schema.Double), field("c", schema.Boolean), field("d", schema.Date),
				field("e", schema.Time),
				field("f", schema.Timestamp), field("g", schema.TimestampTz), field("h", schema.String)},
			`[1 (null)] [2.5 (null)] [true (null)] [2031-05-01 (null)] [3720000000 (null)] [1935363723000000 (null)] [1935363723000000 (null)] ["x" (null)]`},
		{"empty texts and nulls", "\"\"\nx\n\n", []schema.Field{field("a", schema.String)}, `["" "x" (null)]`},
		{"doubled quotes", "\"a \"\"b\"\"\"\n", []schema.Field{field("a", schema.String)}, `["a \"b\""]`},
		{"pinned types take every spelling", "007,+1.50,yes,5,1.5,\"\"\n",
			[]schema.Field{pinned("a", schema.Long), pinned("b", schema.Double), pinned("c", schema.Boolean), pinned("d", schema.Int),
				pinned("e", schema.Float), pinned("f", schema.Long)},
			`[7] [1.5] [true] [5] [1.5] [(null)]`},
		{"dates among timestamps", "2031-05-01\n2031-05-01 00:00:01\n", []schema.Field{field("a", schema.Timestamp)},
			`[1935360000000000 1935360001000000]`},
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
		{"a zone among none", "2031-05-01 00:00:00\n2031-05-01T00:00:00Z\n", field("a", schema.Timestamp), "2031-05-01T00:00:00Z", 20,
			true},
		{"a quoted empty text", "1\n\"\"\n", field("a", schema.Long), "", 2, true},
		{"a value where none was seen", "\nx\n", unseen, "x", 1, true},
		{"an int of a table that may grow", "x\n2147483648\n", widening("a", schema.Int), "2147483648", 2, true},
		{"a value of a required column", "x\n", required("a"), "x", 0, false},
	}
	for _, test := range tests {
		_, m := fitDelimited(test.text, test.field)
		if len(m) != 1 || m[0].Value != test.value || m[0].Start != test.start || m[0].Widens != test.widens || m[0].Column != "a" ||
			m[0].WayOut == "" || m[0].Code != parse.DoesNotFit {
			t.Errorf("%s: %+v", test.name, m)
		}
	}
	_, m := fitDelimited("1,1\nx,2\n3,y\n", field("b", schema.Long), field("a", schema.Long))
	if len(m) == 0 || m[0].Value != "x" {
		t.Errorf("not the first record in the file: %+v", m)
	}
}

func nested() []schema.Field {
	part := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct,
		Fields: []schema.Field{field("s", schema.String), field("v", schema.Double)}}}
	position := schema.Field{Name: "pos", Type: schema.Type{Kind: schema.Struct,
		Fields: []schema.Field{field("lat", schema.Double), field("lon", schema.Double)}}}
	return []schema.Field{field("id", schema.Long), position, {Name: "list", Type: schema.Type{Kind: schema.List, Element: &part}},
		field("t", schema.String)}
}

func TestFitJSON(t *testing.T) {
	text := `{"id":1,"pos":{"lat":1.5,"lon":2},"list":[{"s":"a","v":1},{"v":2.5},null],"t":"x\n\u00e9"}
{"t":{"a": [1, 2]},"list":[],"id":2}
{"pos":null,"list":null,"id":null,"t":null}
{"pos":{},"t":12.50}`
	b, m := fitJSON(text, nested()...)
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

func TestAValueAloneIsAListOfOne(t *testing.T) {
	b, m := fitJSON("{\"list\":{\"s\":\"a\",\"v\":1}}\n{\"list\":[{\"v\":2},{\"v\":3}]}\n{\"list\":null}\n{\"list\":{}}", nested()...)
	if want := `[{["a"] [1]} {[(null) (null)] [2 3]} (null) {[(null)] [(null)]}]`; len(m) > 0 || fmt.Sprint(b.Column(2)) != want {
		t.Errorf("%v, %s, want %s", m, b.Column(2), want)
	}
	r := fitValues(`{"list":{"v":"deep"}}`, UnknownKept, pinnedParts(nested())...)
	if want := `0 list[0].v="deep"`; misfits(r) != want {
		t.Errorf("%s, want %s", misfits(r), want)
	}
}

// pinnedParts fixes the types of fields and their parts.
func pinnedParts(fields []schema.Field) []schema.Field {
	s := schema.Schema{Fields: fields}
	s.Walk(func(_ string, f *schema.Field) { f.Pinned = true })
	return fields
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
		{`{"list":{"v":true}}`, "list.element.v", "true", true},
		{`{"list":"a"}`, "list.element", "a", true},
		{`{"pos":{"alt":3}}`, "pos.alt", "3", true},
		{`{"new":{"a":1}}`, "new", `{"a":1}`, true},
		{`{"id":1,"id":2}`, "", "", false},
		{`{"id":1} x`, "", "", false},
		{`[1]`, "", "", false},
		{`{"t":"\ud800"}`, "", "", false},
	}
	for _, test := range tests {
		_, m := fitJSON("{\"id\":0}\n"+test.text, nested()...)
		if len(m) != 1 || m[0].Column != test.column || m[0].Value != test.value || m[0].Widens != test.widens || m[0].Start != 9 ||
			m[0].Reason == "" {
			t.Errorf("%s: %+v", test.text, m)
		}
	}
	if b, m := fitJSON(`{"id":"7"}`, pinned("id", schema.Long)); len(m) > 0 || show(b) != "[7]" {
		t.Errorf("a pinned column refuses a number in a string: %+v", m)
	}
}

// widening is a column of a table that may widen, required one that always has a value.
func widening(name string, k schema.Kind) schema.Field {
	f := field(name, k)
	f.Held, f.Widens = true, true
	return f
}

func required(name string) schema.Field {
	f := pinned(name, schema.Long)
	f.Required = true
	return f
}

// misfits writes the misfits of a result.
func misfits(r Result) string {
	var out []string
	for _, m := range r.Misfits {
		out = append(out, fmt.Sprintf("%d %s=%s", m.Row, m.Column, m.Text))
	}
	return strings.Join(out, " ")
}

// TestMisfitsKeepTheirRows holds values against pinned columns and against those of tables.
func TestMisfitsKeepTheirRows(t *testing.T) {
	held := field("a", schema.Long)
	held.Held = true
	amount := schema.Field{Name: "a", Demand: schema.Demand{Held: true, Widens: true},
		Type: schema.Type{Kind: schema.Decimal, Precision: 5, Scale: 2}}
	for _, test := range []struct{ text, want, kept string }{
		{"1\nx\n\"y, z\"\n4\n", "[1 (null) (null) 4]", "1 a=x 2 a=y, z"},
		{"007\n-\nNA\n\"\"\n", "[(null) (null) (null) (null)]", "0 a=007"},
	} {
		out := fitRecords(test.text, held)
		if len(out.Problems) > 0 || show(out.Batch) != test.want || misfits(out) != test.kept {
			t.Errorf("%q: %s, %s, %+v", test.text, show(out.Batch), misfits(out), out.Problems)
		}
	}
	if out := fitRecords("007\nNA\nx\n", pinned("a", schema.Long)); show(out.Batch) != "[7 (null) (null)]" || misfits(out) != "2 a=x" ||
		out.Tokens["a"] != 1 {
		t.Errorf("%s, %s, %v", show(out.Batch), misfits(out), out.Tokens)
	}
	day := schema.Field{Name: "a", Demand: schema.Demand{Held: true}, Type: schema.Type{Kind: schema.Date},
		Notation: schema.Notation{Format: "%d/%m/%Y"}}
	if out := fitRecords("1/2/2031\n2031-02-01\n2/30/2031\n", day); show(out.Batch) != "[2031-02-01 2031-02-01 (null)]" ||
		misfits(out) != "2 a=2/30/2031" {
		t.Errorf("a table's dates: %s, %s", show(out.Batch), misfits(out))
	}
	if out := fitRecords("1.234\n12.5\n", amount); misfits(out) != "0 a=1.234" || len(out.Problems) > 0 {
		t.Errorf("a value with more digits after the point: %+v", out)
	}
	if out := fitRecords("1234.5\n", amount); len(out.Problems) != 1 || !out.Problems[0].Widens {
		t.Errorf("a value with more digits before the point: %+v", out)
	}
	if out := fitRecords("1,x\n,y\n2,z\n", required("a"), pinned("b", schema.Long)); show(out.Batch) != "[1 2] [(null) (null)]" ||
		misfits(out) != "0 b=x 1 b=z" ||
		len(out.Problems) != 1 || out.Problems[0].Code != parse.NoValue {
		t.Errorf("%s, %s, %+v", show(out.Batch), misfits(out), out.Problems)
	}
}

// TestJSONMisfitsKeepTheirRows finds values that do not fit anywhere in a record.
func TestJSONMisfitsKeepTheirRows(t *testing.T) {
	fields := nested()
	s := schema.Schema{Fields: fields}
	s.Walk(func(_ string, f *schema.Field) { f.Held = true })
	out := fitValues(`{"id":"x","pos":{"lat":"no","alt":1},"list":[{"v":1},{"v":"bad"},7]}
{"id":[1],"extra":{"a":"b"}}
{"id":5,"pos":3}`, UnknownKept, fields...)
	want := `0 id="x" 0 pos.lat="no" 0 pos.alt=1 0 list[1].v="bad" 0 list[2]=7 1 id=[1] 1 extra={"a":"b"} 2 pos=3`
	if len(out.Problems) > 0 || misfits(out) != want {
		t.Errorf("%s\nwant\n%s\n%+v", misfits(out), want, out.Problems)
	}
	if got := show(out.Batch); !strings.HasPrefix(got, "[(null) (null) 5] {[(null)") {
		t.Error(got)
	}
	if len(out.Present) != 4 || out.Present[3] || !out.Present[2] {
		t.Errorf("present: %v", out.Present)
	}
}

// TestNotations reads values that are written in other ways than the usual.
func TestNotations(t *testing.T) {
	with := func(text, notation string) string {
		stated, err := schema.ParseType(notation)
		if err != nil {
			t.Fatal(err)
		}
		f := schema.Field{Name: "a", Type: stated.Type, Notation: stated.Notation, Pinned: true}
		if strings.Contains(text, ",") {
			f.Notation.DecimalMark = ","
		}
		p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: '|', Quote: '"'}, Width: 1}
		var r delimited.Records
		p.Parse(&parse.Block{Data: []byte(text), Line: 1}, &r)
		out := NewDelimited(schema.Schema{Fields: []schema.Field{f}}, false).Fit(&r, []int{0}, nil)
		if len(out.Misfits) > 0 {
			return "misfit " + out.Misfits[0].Text
		}
		return show(out.Batch)
	}
	for _, test := range []struct{ text, notation, want string }{
		{"23.04.2031\n1.5.2031\n", "date(%d.%m.%Y)", "[2031-04-23 2031-05-01]"},
		{"23.04.2031 10:15\n", "timestamp(%d.%m.%Y %H:%M)", "[1934705700000000]"},
		{"1935360000\n", "timestamptz(epoch)", "[1935360000000000]"},
		{"1935360000123\n", "timestamp(epoch_ms)", "[1935360000123000]"},
		{"1.234,5\n-0,25\n", "double", "[1234.5 -0.25]"},
		{"12,5\n", "long", "misfit 12,5"},
		{"45 %\n7%\n", "double(#%)", "[45 7]"},
		{"€ 12.50\n", "decimal(9,2,€ #)", "[12.5]"},
		{"Y\nn\n", "boolean(Y/N)", "[true false]"},
		{"{6BA7B810-9DAD-11D1-80B4-00C04FD430C8}\n", "uuid",
			fmt.Sprintf("[%q]", "k\xa7\xb8\x10\x9d\xad\x11\xd1\x80\xb4\x00\xc0O\xd40\xc8")},
		{"00ff\n", "binary(hex)", "[\"\\x00\\xff\"]"},
		{"AP8=\n", "binary(base64)", "[\"\\x00\\xff\"]"},
		{"1e2\n", "decimal(5,1)", "[100]"},
	} {
		if got := with(test.text, test.notation); got != test.want {
			t.Errorf("%q as %s: %s, want %s", test.text, test.notation, got, test.want)
		}
	}
}

func TestFitMaps(t *testing.T) {
	value := schema.Field{Name: schema.ValueName, Type: schema.Type{Kind: schema.Double}}
	m := schema.Field{Name: "m", Type: schema.Type{Kind: schema.Map,
		Key: &schema.Field{Name: schema.KeyName, Type: schema.Type{Kind: schema.String}, Required: true}, Element: &value}}
	b, problems := fitJSON(`{"m":{"a":1,"b":null}}
{"m":{}}
{"m":null}
{"m":{"c":2.5}}`, m)
	if len(problems) > 0 || show(b) != `[{["a" "b"] [1 (null)]} {[] []} (null) {["c"] [2.5]}]` {
		t.Errorf("%s, %+v", show(b), problems)
	}
	if _, problems := fitJSON(`{"m":{"a":1,"a":2}}`, m); len(problems) != 1 {
		t.Errorf("a key twice: %+v", problems)
	}
}

func TestBadRecordsAreLeftOut(t *testing.T) {
	b, problems := fitDelimited("1,x\nbad,y\n3,\n4,\"z\nz\"\nworse,w", required("a"), field("b", schema.String))
	if got := show(b); got != `[1 3 4] ["x" (null) "z\nz"]` || len(problems) != 2 || problems[0].Start != 4 || problems[0].End != 10 ||
		problems[1].Value != "worse" {
		t.Errorf("%s, %+v", got, problems)
	}
}

// TestBadJSONLeavesNoTrace puts records that go wrong at every possible byte between good ones.
func TestBadJSONLeavesNoTrace(t *testing.T) {
	fields := append(nested(), field("b", schema.Boolean))
	good := `{"id":1,"pos":{"lat":1.5,"lon":2},"list":[{"s":"a","v":1},{"v":2.5},null],"t":"x","b":true}`
	for _, around := range []string{good, `{"pos":null,"list":null,"b":false}`, `{}`} {
		want, problems := fitJSON(around+"\n"+good+"\n"+around, fields...)
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		for cut := 1; cut < len(good); cut++ {
			b, problems := fitJSON(around+"\n"+good[:cut]+"\n"+good+"\n"+good[:cut]+"!\n"+around, fields...)
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
	d := NewDelimited(schema.Schema{Fields: []schema.Field{field("a", schema.Long), field("b", schema.String),
		field("c", schema.TimestampTz), field("d", schema.Double), field("e", schema.Boolean)}}, false)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if out := d.Fit(&r, []int{0, 1, 2, 3, 4}, nil); len(out.Problems) > 0 {
			b.Fatal(out.Problems)
		}
	}
}

func BenchmarkFitJSON(b *testing.B) {
	text := strings.Repeat(`{"id":12,"pos":{"lat":57.12345,"lon":-5.54321},"list":[{"s":"depth","v":12.345},{"s":"temp","v":9.1}],"t":"swell from the west"}`+"\n", 5000)
	var r json.Records
	r.Parse(&parse.Block{Data: []byte(text), Line: 1})
	j := NewJSON(schema.Schema{Fields: nested()}, UnknownWidens, true, false)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if out := j.Fit(&r); len(out.Problems) > 0 {
			b.Fatal(out.Problems)
		}
	}
}
