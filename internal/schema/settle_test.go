package schema

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
)

// columnsOf writes the columns of a schema.
func columnsOf(fields []Field) string {
	var out []string
	for _, f := range fields {
		text := f.Name + " " + Stated{Type: f.Type, Notation: f.Notation}.String()
		if f.Required {
			text += " required"
		}
		if len(f.Notation.Nulls) > 0 {
			text += fmt.Sprintf(" %q", f.Notation.Nulls)
		}
		out = append(out, text)
	}
	return strings.Join(out, "|")
}

func settleText(t *testing.T, text string, c Corrections) Schema {
	t.Helper()
	o := &Observed{}
	if c.DecimalMark != "" {
		o.Mark = c.DecimalMark[0]
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	names := strings.Split(lines[0], "|")
	for _, line := range lines[1:] {
		w := o.where(block(line))
		for i, field := range strings.Split(line, "|") {
			node := o.Root.Field(names[i])
			node.position = i
			if field == "" {
				node.null(&w)
			} else {
				node.add([]byte(strings.Trim(field, `"`)), lookField, &w)
			}
		}
	}
	s, unmatched := o.Settle(c)
	if len(unmatched) > 0 {
		t.Errorf("unmatched: %+v", unmatched)
	}
	return s
}

func TestSettleColumns(t *testing.T) {
	for _, test := range []struct {
		name, text string
		c          Corrections
		want       string
	}{
		{"null tokens beside numbers, not beside words", "a|b|c\n1|NA|-\nNA|x|-\n-|y|NULL", Corrections{},
			`a long ["-" "NA"]|b string|c string`},
		{"quoted empties", "a|b\n1|x\n\"\"|\"\"", Corrections{}, `a long [""]|b string`},
		{"stated nulls", "a|b\nx|1\n?|none\ny|2", Corrections{Nulls: []string{"?", "none"}}, `a string ["?" "none"]|b long ["none" "?"]`},
		{"booleans", "a|b|c|d\nyes|t|true|y\nNO|f|False|n", Corrections{}, "a boolean(yes/no)|b boolean(t/f)|c boolean|d string"},
		{"one letter is no boolean", "a|b\nf|yes\nf|true", Corrections{}, "a string|b string"},
		{"digits beyond", "a|b|c|d\n12345678901234567890|9007199254740993|1.5|12345678901234567.25\n1|0.25|2|1e3", Corrections{},
			"a decimal(20,0)|b decimal(18,2)|c double|d string"},
		{"dates in other orders", "a|b|c|d|e|f\n23/04/2031|04/23/2031|3.4.2031 " +
			"10:15|2031/04/23|1/2/2031|23-04-2031\n1/2/2031|1/2/2031|23.4.2031 9:15|2031/04/24|2/1/2031|24/04/2031", Corrections{},
			"a date(%d/%m/%Y)|b date(%m/%d/%Y)|c string|d date(%Y/%m/%d)|e string|f string"},
		{"times of day after dates", "a|b\n3.4.2031 10:15|23/04/2031T10:15:30.5\n23.4.2031 09:15|24/04/2031T10:15:00", Corrections{},
			"a timestamp(%d.%m.%Y %H:%M)|b timestamp(%d/%m/%YT%H:%M:%S)"},
		{"infinities", "a|b\ninf|nan\n1|x", Corrections{}, "a double|b string"},
		{"decimal commas", "a|b|c\n1.234,5|12|1.5\n0,25|1.000|2", Corrections{DecimalMark: ","}, "a double|b long|c string"},
		{"corrections", "Wave Height|b|c|d\n1|2|3|4", Corrections{Types: map[string]Stated{"Wave_Height": {Type: Type{Kind: Float}}},
			Renames: map[string]string{"b": "crew"}, Drop: []string{"c"},
			Required: []string{"crew", "b"}[1:], Key: []string{"d"}}, "Wave_Height float|crew long required|d long required"},
		{"only", "a|b|c\n1|2|3", Corrections{Only: []string{"c", "a"}}, "a long|c long"},
		{"snake", "WaveHeight|Sea Area (m)|ID2Name\n1|2|3", Corrections{Names: SnakeNames},
			"wave_height long|sea_area_m long|id2_name long"},
		{"keep", "Wave Height|wave height\n1|2", Corrections{Names: KeepNames}, "Wave Height long|wave height_2 long"},
		{"declared columns come first", "a|new|b\n1|2|3",
			Corrections{Columns: []Field{{Name: "bee", Origin: "b", Type: Type{Kind: String}, Pinned: true},
				{Name: "absent", Type: Type{Kind: Date}, Pinned: true},
				{Name: "a", Type: Type{Kind: Int}, Required: true, Pinned: true}}}, "bee string|absent date|a int required|new long"},
	} {
		if got := columnsOf(settleText(t, test.text, test.c).Fields); got != test.want {
			t.Errorf("%s: %s\nwant %s", test.name, got, test.want)
		}
	}
}

func TestUndecided(t *testing.T) {
	for text, want := range map[string]bool{
		`{"a":"1/2/2031"}`: true, `{"a":"23/2/2031"}`: false, `{"a":"NA"}`: true, `{"a":"NA","b":1}` + "\n" + `{"a":1}`: false,
		`{"a":[{"b":"-"}]}`: true, `{"a":"x"}`: false,
	} {
		if got := observeJSON(text).Undecided(); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
}

// dictionaryText is records whose objects have different keys each time.
func dictionaryText(records, keys int, value string) string {
	var b strings.Builder
	for i := range records {
		fmt.Fprintf(&b, `{"id":%d,"by":{`, i)
		for k := range 3 {
			if k > 0 {
				b.WriteByte(',')
			}
			fmt.Fprintf(&b, `"k%d":%s`, (3*i+k)%keys, value)
		}
		b.WriteString("}}\n")
	}
	return b.String()
}

func TestObjectsAsDictionaries(t *testing.T) {
	for _, test := range []struct {
		name, text, want string
	}{
		{"many keys of one type", dictionaryText(100, 300, "1.5"), "map<string, double>"},
		{"very many keys of different types", dictionaryText(600, 1500, "1") + dictionaryText(2, 6, `"x"`), "map<string, string>"},
		{"few keys", dictionaryText(10, 6, "1"), "struct<k0: long, k1: long, k2: long, k3: long, k4: long, k5: long>"},
		{"lists in a dictionary", dictionaryText(100, 200, "[1]"), "map<string, list<long>>"},
	} {
		s, _ := observeJSON(test.text).Settle(Corrections{})
		if got := s.Fields[1].Type.String(); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
	// The outcome does not depend on who saw what.
	a, b := observeJSON(dictionaryText(400, 1200, "1")), observeJSON(dictionaryText(3, 9, "2.5"))
	b.Merge(a)
	if s, _ := b.Settle(Corrections{}); s.Fields[1].Type.String() != "map<string, double>" {
		t.Errorf("merged: %s", s.Fields[1].Type)
	}
}

func TestNestedCorrections(t *testing.T) {
	o := observeJSON(`{"buoy":{"code":"0001","position":{"lat":57.5,"lon":-6}},"readings":[{"value":1.5,"unit":"m"}]}`)
	s, unmatched := o.Settle(Corrections{
		Types: map[string]Stated{"buoy.position.lat": {Type: Type{Kind: Decimal, Precision: 9, Scale: 6}},
			"readings.value": {Type: Type{Kind: Float}}, "readings.valu": {Type: Type{Kind: Float}}},
		Renames: map[string]string{"buoy.code": "number"}, Drop: []string{"readings.unit"}})
	if got, want := columnsOf(s.Fields), "buoy struct<number: string, position: struct<lat: decimal(9,6), lon: long>>|readings "+
		"list<struct<value: float>>"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if len(unmatched) != 1 || unmatched[0].Name != "readings.valu" || unmatched[0].Flag != "--type" {
		t.Errorf("%+v", unmatched)
	}
	s, _ = o.Settle(Corrections{Only: []string{"buoy.position.lat"}})
	if got := columnsOf(s.Fields); got != "buoy struct<position: struct<lat: double>>" || !s.OmitRest || !s.Fields[0].Type.OmitRest {
		t.Error(got)
	}
}

func field(id int, name string, t Type) Field { return Field{ID: id, Name: name, Type: t} }

func TestEvolve(t *testing.T) {
	decimal := func(p, s int) Type { return Type{Kind: Decimal, Precision: p, Scale: s} }
	list := func(f Field) Type { return Type{Kind: List, Element: &f} }
	table := Schema{Fields: []Field{field(1, "a", Type{Kind: Int}), field(2, "depth_m_", decimal(5, 2)),
		field(3, "pos", Type{Kind: Struct, Fields: []Field{field(4, "lat", Type{Kind: Float})}}),
		field(5, "gone", Type{Kind: String}), field(6, "tags", list(field(7, "element", Type{Kind: Int})))}}
	table.Fields[1].Origin = "depth (m)"
	batch := Schema{Fields: []Field{field(0, "tags", list(field(0, "element", Type{Kind: Long}))),
		field(0, "pos", Type{Kind: Struct, Fields: []Field{field(0, "lon", Type{Kind: Double}), field(0, "lat", Type{Kind: Double})}}),
		{Name: "depth_m_", Origin: "depth (m)", Type: decimal(9, 4)}, field(0, "A", Type{Kind: Long}),
		field(0, "gone_2", Type{Kind: String}), {Name: "none", Type: Type{Kind: String}, Unseen: true}}}
	next := 8
	got, found := Evolve(table, batch, SafeNames, &next)
	want := "a long|depth_m_ decimal(7,2)|pos struct<lat: double, lon: double>|gone string|tags list<long>|gone_2 string|none string"
	if columnsOf(got.Fields) != want || next != 11 || got.Fields[5].ID != 9 || got.Fields[2].Type.Fields[1].ID != 8 {
		t.Errorf("%s, next id %d\nwant %s", columnsOf(got.Fields), next, want)
	}
	var kinds []string
	for _, d := range found {
		kinds = append(kinds, d.Kind+" "+d.Column)
	}
	if list, want := strings.Join(kinds, "|"), "widened tags.element|added pos.lon|widened pos.lat|widened depth_m_|case_only "+
		"a|widened a|added gone_2|added none|missing gone|likely_rename gone"; list != want {
		t.Errorf("%s\nwant %s", list, want)
	}
	if table.Fields[2].Type.Fields[0].Type.Kind != Float {
		t.Error("the table's own schema was changed")
	}
}

func TestAlter(t *testing.T) {
	s := Schema{Key: []string{"id"}, Fields: []Field{field(1, "id", Type{Kind: Long}), field(2, "n", Type{Kind: Int}),
		field(3, "pos", Type{Kind: Struct, Fields: []Field{field(4, "lat", Type{Kind: Float}), field(5, "lon", Type{Kind: Float})}}),
		{ID: 6, Name: "r", Type: Type{Kind: List, Element: &Field{ID: 7, Name: ElementName,
			Type: Type{Kind: Struct, Fields: []Field{field(8, "v", Type{Kind: Decimal, Precision: 5, Scale: 2})}}}}}}}
	s.Fields[0].Required, s.Fields[1].Required = true, true
	got, changes, err := s.Alter(Alteration{Rename: []Setting{{"id", "number"}, {"pos.lat", "latitude"}},
		Widen: []Setting{{"n", "long"}, {"r.v", "decimal(9,2)"}}, Optional: []string{"n"},
		First: []string{"pos"}, After: []Setting{{"id", "r"}}, Drop: []string{"pos.lon"}, Comment: []Setting{{"n", "how many"}}})
	if err != nil || len(changes) != 9 {
		t.Fatalf("%v, %q", err, changes)
	}
	if text, want := columnsOf(
		got.Fields), "pos struct<latitude: float>|n long|r list<struct<v: decimal(9,2)>>|number long required"; text != want ||
		got.Fields[3].Origin != "id" || got.Key[0] != "number" || got.Fields[1].Doc != "how many" {
		t.Errorf("%s\nwant %s; %+v", text, want, got)
	}
	if s.Fields[0].Name != "id" || s.Key[0] != "id" {
		t.Error("the schema before was changed")
	}
	if diff := Compare(s, got); len(diff) != 7 {
		t.Errorf("%q", diff)
	}
	for _, bad := range []struct {
		a    Alteration
		want string
	}{
		{Alteration{Rename: []Setting{{"n", "ID"}}}, "already"}, {Alteration{Widen: []Setting{{"n", "string"}}}, "cannot become"},
		{Alteration{Widen: []Setting{{"n", "int"}}}, "already"},
		{Alteration{Drop: []string{"id"}}, "key"}, {Alteration{Drop: []string{"nn"}}, `no column "nn"`},
		{Alteration{Optional: []string{"pos"}}, "optional already"},
		{Alteration{After: []Setting{{"n", "pos.lat"}}}, "not beside it"}, {Alteration{Optional: []string{"id"}}, "key"},
		{Alteration{Rename: []Setting{{"n", ""}}}, "needs a name"},
	} {
		if _, _, err := s.Alter(bad.a); err == nil || !strings.Contains(err.Error(), bad.want) {
			t.Errorf("%+v: %v, want %q", bad.a, err, bad.want)
		}
	}
}

func TestDDL(t *testing.T) {
	s := Schema{Key: []string{"id"}, Fields: []Field{{Name: "id", Type: Type{Kind: Long}, Required: true, Doc: "the\nnumber"},
		{Name: `odd "name"`, Type: Type{Kind: String}, Longest: 12},
		{Name: "p", Type: Type{Kind: Struct, Fields: []Field{{Name: "lat", Type: Type{Kind: Decimal, Precision: 9, Scale: 6}}}}},
		{Name: "l", Type: Type{Kind: List, Element: &Field{Type: Type{Kind: TimestampTz}}}},
		{Name: "m", Type: Type{Kind: Map, Key: &Field{Type: Type{Kind: String}, Longest: 3},
			Element: &Field{Type: Type{Kind: Boolean}}}}}}
	want := `CREATE TABLE "ops"."r" (
    "id" BIGINT NOT NULL, -- the number
    "odd ""name""" VARCHAR(12),
    "p" ROW("lat" DECIMAL(9, 6)),
    "l" TIMESTAMP(6) WITH TIME ZONE ARRAY,
    "m" ROW("key" VARCHAR(3), "value" BOOLEAN) MULTISET,
    PRIMARY KEY ("id")
);
`
	if got := DDL("ops.r", s); got != want {
		t.Error(got)
	}
}

func TestUnique(t *testing.T) {
	o := &Observed{Keys: true}
	for i := range 5000 {
		w := o.where(block("x"))
		o.Root.Field("id").add(fmt.Append(nil, "value ", i), lookField, &w)
		o.Root.Field("twice").add(fmt.Append(nil, "value number ", max(i, 17)), lookField, &w)
		o.Root.Field("few").add(fmt.Append(nil, i%3), lookField, &w)
	}
	var got []bool
	for _, n := range o.Root.Fields {
		unique, known := n.Unique()
		got = append(got, unique, known)
	}
	if !reflect.DeepEqual(got, []bool{true, true, false, true, false, true}) {
		t.Errorf("%v", got)
	}
}

// TestUniqueWithinRoom leaves open what there was no room to look at, keeps the room of fractions for columns that may be a
// key, and holds what two workers saw together.
func TestUniqueWithinRoom(t *testing.T) {
	room := NewRoom(20_000)
	workers := []*Observed{{Keys: true, HashRoom: room}, {Keys: true, HashRoom: room}}
	names := []string{"depth", "id", "code", "twice"}
	for i := range 6000 {
		o := workers[i%2]
		w := o.where(block("x"))
		for _, name := range names {
			text := fmt.Append(nil, name, " ", i)
			switch name {
			case "depth":
				text = fmt.Append(nil, i, ".25")
			case "twice":
				text = fmt.Append(nil, "value ", i/3)
			}
			o.Root.Field(name).add(text, lookField, &w)
		}
	}
	workers[0].Merge(workers[1])
	got := map[string]string{}
	for i, n := range workers[0].Root.Fields {
		unique, known := n.Unique()
		got[names[i]] = fmt.Sprint(unique, known)
	}
	if got["id"] != "true true" || got["depth"] != "false false" || got["twice"] == "true true" || got["code"] == "false true" {
		t.Error(got)
	}
	workers[0].Root.Forget()
	if left := room.left.Load(); left != 20_000 {
		t.Errorf("%d of the room is left once all is forgotten", left)
	}
}
