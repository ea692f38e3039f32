package layout

import (
	"reflect"
	"testing"

	"trevak/internal/schema"
)

func TestNamedParts(t *testing.T) {
	got := NamedParts("/lake/year=2031/x/area=Cairn%20Bay/day=2031-05-01/n=null/w=%6Eull/part.parquet")
	want := []NamedPart{{"area", "Cairn Bay", false}, {"day", "2031-05-01", false}, {"n", "null", true}, {"w", "null", false}}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v", got)
	}
	s := schema.Schema{Fields: []schema.Field{{Name: "area", Type: schema.Type{Kind: schema.String}}, {Name: "day", Type: schema.Type{Kind: schema.Date}},
		{Name: "n", Type: schema.Type{Kind: schema.Long}}, {Name: "w", Type: schema.Type{Kind: schema.String}}}}
	values, err := Identities(s, got)
	if err != nil || !reflect.DeepEqual(values, []Value{"Cairn Bay", int32(22400), nil, "null"}) {
		t.Errorf("%#v, %v", values, err)
	}
	if _, err := Identities(s, []NamedPart{{Column: "day", Text: "soon"}}); err == nil {
		t.Error("soon is taken for a date")
	}
	if got := NamedParts("/lake/part.parquet"); got != nil {
		t.Errorf("%+v", got)
	}
}
