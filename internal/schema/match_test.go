package schema

import (
	"slices"
	"strings"
	"testing"
)

func TestNameStyles(t *testing.T) {
	for _, test := range []struct{ name, safe, keep, snake string }{
		{"Buoy Code", "Buoy_Code", "Buoy Code", "buoy_code"},
		{"depth (m)", "depth_m", "depth (m)", "depth_m"},
		{"waterTempC", "waterTempC", "waterTempC", "water_temp_c"},
		{"2nd reading", "_2nd_reading", "2nd reading", "_2nd_reading"},
		{"Übersicht", "Übersicht", "Übersicht", "übersicht"},
		{"__", "__", "__", "_"},
	} {
		for style, want := range map[string]string{"safe": test.safe, "keep": test.keep, "snake": test.snake} {
			s, ok := ParseNameStyle(style)
			if !ok || s.String() != style {
				t.Fatalf("%s is read as %s", style, s)
			}
			if got := s.Make([]string{test.name})[0]; got != want {
				t.Errorf("%q is %q in the style %s, want %q", test.name, got, style, want)
			}
		}
	}
	if _, ok := ParseNameStyle("loud"); ok {
		t.Error("there is a style loud")
	}
}

// TestFindingColumns looks for the names that a file may come with tomorrow.
func TestFindingColumns(t *testing.T) {
	fields := []Field{
		{Name: "Buoy_Code", Origin: "Buoy Code"},
		{Name: "depth_m", Origin: "depth (m)", Demand: Demand{Alias: "depth_in_m"}},
		{Name: "area"},
		{Name: "Buoy_Code_2", Origin: "Buoy_Code"},
	}
	index := NewIndex(fields, SafeNames)
	for _, test := range []struct {
		name     string
		at       int
		caseOnly bool
	}{
		{"Buoy Code", 0, false},   // as in its source
		{"Buoy_Code", 3, false},   // the name in the source comes before the legal one
		{"Buoy_Code_2", 3, false}, // its legal name
		{"depth (m)", 1, false},
		{"depth_in_m", 1, false}, // a name that it had once
		{"depth_m", 1, false},
		{"AREA", 2, true},
		{"buoy_code_2", 3, true},
		{"BUOY CODE", 0, true},
		{"salinity", -1, false},
	} {
		at, caseOnly := index.Look(test.name)
		if at != test.at || caseOnly != test.caseOnly || index.Find(test.name) != test.at {
			t.Errorf("%q is column %d, another letter case %v; want %d, %v", test.name, at, caseOnly, test.at, test.caseOnly)
		}
		exact := test.at
		if test.caseOnly {
			exact = -1
		}
		if got := index.Exact(test.name); got != exact {
			t.Errorf("%q is exactly column %d, want %d", test.name, got, exact)
		}
	}
	index.Add(4, &Field{Name: "salinity"})
	if at := index.Find("Salinity"); at != 4 {
		t.Errorf("a column that was added is found at %d", at)
	}
}

func TestMessagesListNames(t *testing.T) {
	few := []string{"sea_area", "observed_at", "depth_m"}
	many := slices.Repeat([]string{"quite_another_name"}, 13)
	for _, test := range []struct {
		name  string
		names []string
		want  string
	}{
		{"sea_aera", few, "the nearest name is sea_area"},
		{"salinity", few, "the columns are sea_area, observed_at, depth_m"},
		{"xyz", many, "the columns are " + strings.Join(many[:10], ", ") + " and 3 more"},
		{"c12", []string{"c11", "c13", "c21"}, "the nearest names are c11, c13, c21"},
	} {
		if got := Choices(test.name, test.names); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
}

func TestPathsOfParts(t *testing.T) {
	part := Field{Name: ElementName, Type: Type{Kind: Struct, Fields: []Field{{Name: "sensor", Type: Type{Kind: String}}}}}
	s := Schema{Fields: []Field{
		{Name: "buoy", Type: Type{Kind: Struct, Fields: []Field{{Name: "code", Type: Type{Kind: String}}}}},
		{Name: "readings", Type: Type{Kind: List, Element: &part}},
		{Name: "levels", Type: Type{Kind: Map, Key: &Field{Name: "key", Type: Type{Kind: String}},
			Element: &Field{Name: "value", Type: Type{Kind: Double}}}},
	}}
	s.AssignIDs()
	var paths []string
	s.Walk(func(path string, f *Field) { paths = append(paths, path) })
	want := []string{"buoy", "buoy.code", "readings", "readings.element", "readings.element.sensor", "levels", "levels.key",
		"levels.value"}
	if !slices.Equal(paths, want) {
		t.Errorf("%v", paths)
	}
	ids := map[int]bool{}
	for _, path := range paths {
		id := s.IDOf(path)
		if id == 0 || ids[id] {
			t.Errorf("%s has the id %d", path, id)
		}
		ids[id] = true
	}
	if s.IDOf("buoy.colour") != 0 || s.Index("levels") != 2 || s.Index("code") != -1 {
		t.Error("a column that is not there is found, or one that is there is not")
	}
	clone := s.Clone()
	clone.Fields[1].Type.Element.Type.Fields[0].Name = "other"
	clone.Fields[2].Type.Key.Name = "other"
	if s.IDOf("readings.element.sensor") == 0 || s.IDOf("levels.key") == 0 {
		t.Error("a copy shares its parts with the schema")
	}
}
