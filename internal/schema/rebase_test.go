package schema

import (
	"fmt"
	"strings"
	"testing"
)

// TestRebase brings what a load made of a table's schema into what others made of it.
func TestRebase(t *testing.T) {
	long, text, whole := Type{Kind: Long}, Type{Kind: String}, Type{Kind: Int}
	field := func(id int, name string, of Type) Field { return Field{ID: id, Name: name, Type: of} }
	nested := func(parts ...Field) Type { return Type{Kind: Struct, Fields: parts} }
	element := field(9, ElementName, whole)
	wide := element
	wide.Type = long
	for _, test := range []struct {
		name      string
		ours, now []Field
		want      string
	}{
		{"nothing", []Field{field(1, "a", long)}, []Field{field(1, "a", long)}, "1 a long"},
		{"another name and order", []Field{field(1, "a", long), field(2, "b", text)}, []Field{field(2, "b", text), field(1, "z", long)},
			"2 b string, 1 z long"},
		{"columns of others", []Field{field(1, "a", long)}, []Field{field(1, "a", long), field(11, "new", text)},
			"1 a long, 11 new string"},
		{"columns of ours", []Field{field(1, "a", long), field(11, "new", text)}, []Field{field(1, "b", long)},
			"1 b long, 11 new string"},
		{"a name that is taken", []Field{field(1, "a", long), field(11, "B", text)}, []Field{field(1, "b", long)}, ""},
		{"a column that is gone", []Field{field(1, "a", long), field(2, "b", text)}, []Field{field(1, "a", long)}, ""},
		{"wider here", []Field{field(1, "a", long)}, []Field{field(1, "a", whole)}, "1 a long"},
		{"wider there", []Field{field(1, "a", whole)}, []Field{field(1, "a", long)}, "1 a long"},
		{"another type", []Field{field(1, "a", text)}, []Field{field(1, "a", long)}, ""},
		{"members", []Field{field(1, "a", nested(field(2, "x", whole), field(12, "y", text)))},
			[]Field{field(1, "a", nested(field(2, "z", long)))}, "1 a struct<z: long, y: string>"},
		{"elements", []Field{field(1, "a", Type{Kind: List, Element: &wide})},
			[]Field{field(1, "a", Type{Kind: List, Element: &element})}, "1 a list<long>"},
	} {
		out, ok := Rebase(Schema{}, Schema{Fields: test.ours}, Schema{Fields: test.now}, 10)
		var got []string
		for _, f := range out.Fields {
			got = append(got, fmt.Sprint(f.ID, " ", f.Name, " ", f.Type))
		}
		if ok != (test.want != "") || ok && strings.Join(got, ", ") != test.want {
			t.Errorf("%s: %v, %v, want %q", test.name, got, ok, test.want)
		}
	}
	if element.Type.Kind != Int {
		t.Error("the table's own schema was changed")
	}
}

// TestCountingExactly counts different values exactly while there is room, and about right beyond it.
func TestCountingExactly(t *testing.T) {
	for _, test := range []struct {
		values int
		room   int64
		exact  bool
	}{{40, 0, true}, {3_000, 1 << 20, true}, {120_000, 1 << 20, true}, {400_000, 1 << 20, false}, {3_000, 100, false},
		{3_000, 0, false}} {
		room := NewRoom(test.room)
		a, b := Sketch{room: room}, Sketch{room: room}
		for i := range test.values {
			for _, s := range []*Sketch{&a, &b}[i%2 : i%2+1] {
				s.Add(fmt.Append(nil, "value ", i))
				s.Add(fmt.Append(nil, "value ", i/2*2))
			}
		}
		a.Merge(&b)
		n, exact := a.Estimate()
		if off := float64(n)/float64(test.values) - 1; exact != test.exact || exact && int(n) != test.values || off > 0.06 ||
			off < -0.06 {
			t.Errorf("of %d with room for %d: %d, exact %v", test.values, test.room, n, exact)
		}
	}
}

// TestNumberFormats reads how the marks of numbers are stated.
func TestNumberFormats(t *testing.T) {
	for format, want := range map[string]string{"#": "# 0", "# m": "# m 0", "#,###.#": "# 46", "€ #.###,#": "€ # 44", "#,###": "# 46",
		"#.### kg": "# kg 44"} {
		around, mark := NumberFormat(format)
		if got := fmt.Sprint(around, " ", mark); got != want {
			t.Errorf("%s: %s, want %s", format, got, want)
		}
		if s, err := ParseType("double(" + format + ")"); err != nil || s.String() != "double("+format+")" {
			t.Errorf("%s: %v, %v", format, s, err)
		}
	}
	for _, bad := range []string{"double(##)", "double(m)", "long(#,###.# #)"} {
		if _, err := ParseType(bad); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
}
