package schema

import (
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// measured declares a schema and measures rows given as JSON.
func measured(t *testing.T, fields []Field, rows ...string) *Observed {
	t.Helper()
	s := Schema{Fields: fields}
	var o Observed
	o.Declare(0, fields)
	for _, text := range rows {
		b, _, err := array.RecordFromJSON(memory.DefaultAllocator, s.Arrow(), strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		o.Measure(b)
	}
	return &o
}

func column(name string, t Type) Field { return Field{Name: name, Type: t} }

func scalar(name string, k Kind) Field { return column(name, Type{Kind: k}) }

func TestMeasureOrdersByValue(t *testing.T) {
	fields := []Field{scalar("n", Long), scalar("x", Double), column("d", Type{Kind: Decimal, Precision: 9, Scale: 2}),
		scalar("s", String), scalar("day", Date), scalar("ok", Boolean)}
	o := measured(t, fields,
		`[{"n":9,"x":-2.5,"d":"9.50","s":"b","day":"2031-05-09","ok":true},{"n":10,"x":-10,"d":"12.50","s":"ä","day":"2031-05-10","ok":true}]`,
		`[{"n":-3,"x":null,"d":"-1.00","s":"abc","day":"2030-12-31","ok":true}]`)
	for _, want := range []struct {
		name, low, high string
		values          int64
		distinct        int64
	}{{"n", "-3", "10", 3, 3}, {"x", "-10", "-2.5", 2, 2}, {"d", "-1.00", "12.50", 3, 3}, {"s", "abc", "ä", 3, 3},
		{"day", "2030-12-31", "2031-05-10", 3, 3}, {"ok", "true", "true", 3, 1}} {
		n := o.Root.Member(want.name)
		low, high := n.Range(fields[o.Root.index[want.name]].Type.Kind, nil)
		distinct, _ := n.Distinct.Estimate()
		if low != want.low || high != want.high || n.Evidence.Values() != want.values || distinct != want.distinct {
			t.Errorf("%s: %s to %s, %d values, %d different; want %+v", want.name, low, high, n.Evidence.Values(), distinct, want)
		}
	}
	if n := o.Root.Member("s"); n.Longest != 3 {
		t.Errorf("longest %d", n.Longest)
	}
}

func TestMeasureCountsParts(t *testing.T) {
	reading := Type{Kind: Struct, Fields: []Field{scalar("v", Long), scalar("unit", String)}}
	fields := []Field{
		column("pos", Type{Kind: Struct, Fields: []Field{scalar("lat", Double)}}),
		column("readings", Type{Kind: List, Element: &Field{Name: ElementName, Type: reading}}),
		column("tags", Type{Kind: Map, Key: &Field{Name: KeyName, Type: Type{Kind: String}, Required: true},
			Element: &Field{Name: ValueName, Type: Type{Kind: Long}}}),
	}
	o := measured(t, fields, `[
		{"pos":{"lat":1.5},"readings":[{"v":1,"unit":"m"},{"v":null,"unit":"fathom"},null],"tags":[{"key":"a","value":1},{"key":"b","value":null}]},
		{"pos":{"lat":null},"readings":[],"tags":[]},
		{"pos":null,"readings":null,"tags":null}]`)
	count := func(n *Node, values, nulls int64, what string) {
		t.Helper()
		if n.Evidence.Values() != values || n.Nulls() != nulls {
			t.Errorf("%s: %d values, %d nulls; want %d, %d", what, n.Evidence.Values(), n.Nulls(), values, nulls)
		}
	}
	pos, readings, tags := o.Root.Member("pos"), o.Root.Member("readings"), o.Root.Member("tags")
	count(pos, 2, 1, "pos")
	count(pos.Member("lat"), 1, 1, "pos.lat")
	count(readings, 2, 1, "readings")
	count(readings.Element, 2, 1, "readings.element")
	count(readings.Element.Member("v"), 1, 1, "readings.element.v")
	count(tags, 2, 1, "tags")
	count(tags.Dictionary(), 1, 1, "tags.value")
	if least, most := readings.Lengths.Range(); least != 0 || most != 3 || readings.Lengths.Rows() != 4 {
		t.Errorf("lengths %d to %d, %d rows", least, most, readings.Lengths.Rows())
	}
	s := Schema{Fields: fields}.Clone()
	o.SetLongest(&s)
	if got := s.Fields[1].Type.Element.Type.Fields[1].Longest; got != len("fathom") {
		t.Errorf("the longest unit has %d characters", got)
	}
}

// What files call a column in different letter case is measured as one, and rows of parts of a batch are those of the part.
func TestMeasureSlicesAndLetterCase(t *testing.T) {
	fields := []Field{scalar("Depth", Int)}
	o := measured(t, fields, `[{"Depth":5}]`)
	wide := arrow.NewSchema([]arrow.Field{{Name: "depth", Type: arrow.PrimitiveTypes.Int64, Nullable: true}}, nil)
	b, _, err := array.RecordFromJSON(memory.DefaultAllocator, wide,
		strings.NewReader(`[{"depth":1},{"depth":1099511627776},{"depth":7}]`))
	if err != nil {
		t.Fatal(err)
	}
	o.Measure(b.NewSlice(1, 3))
	n := o.Root.Member("Depth")
	if low, high := n.Range(Long, nil); len(o.Root.Fields) != 1 || low != "5" || high != "1099511627776" || n.Evidence.Values() != 3 {
		t.Errorf("%s to %s of %d in %d columns", low, high, n.Evidence.Values(), len(o.Root.Fields))
	}
}
