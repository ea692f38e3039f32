package check

import (
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

var spots = schema.Schema{Fields: []schema.Field{{ID: 1, Name: "id", Type: schema.Type{Kind: schema.Long}},
	{ID: 2, Name: "sea area", Type: schema.Type{Kind: schema.String}}, {ID: 3, Name: "depth", Type: schema.Type{Kind: schema.Double}},
	{ID: 4, Name: "parts", Type: schema.Type{Kind: schema.List, Element: &schema.Field{ID: 5, Name: "element", Type: schema.Type{Kind: schema.Long}}}}}}

func TestParse(t *testing.T) {
	for text, want := range map[string]Rule{
		"depth between 0 and 500":            {Policy: Stop, Text: "depth between 0 and 500"},
		"tell: depth < 5":                    {Policy: Tell, Text: "depth < 5"},
		" Quarantine :depth is not null ":    {Policy: Quarantine, Text: "depth is not null"},
		"stop: unique( id, \"sea area\" )":   {Policy: Stop, Text: "unique( id, \"sea area\" )", Unique: []string{"id", "sea area"}},
		"id in orrin.spots.code":             {Policy: Stop, Text: "id in orrin.spots.code", Column: "id", In: "code"},
		`"sea area" IN a.b.c."the area"`:     {Policy: Stop, Text: `"sea area" IN a.b.c."the area"`, Column: "sea area", In: "the area"},
		"\"sea area\" in ('a', 'orrin.b.c')": {Policy: Stop, Text: "\"sea area\" in ('a', 'orrin.b.c')"},
		"\"sea area\" = 'tell: x'":           {Policy: Stop, Text: "\"sea area\" = 'tell: x'"},
	} {
		r, err := Parse(text)
		if err != nil || r.Policy != want.Policy || r.Text != want.Text || strings.Join(r.Unique, "|") != strings.Join(want.Unique, "|") ||
			r.Column != want.Column || r.In != want.In || (r.Of != nil) != (want.In != "") {
			t.Errorf("%s: %+v, %v", text, r, err)
		}
		if again, err := Parse(r.String()); err != nil || again.String() != r.String() {
			t.Errorf("%s: read back as %s, %v", r, again, err)
		}
		if r.Of == nil {
			if err := r.Fits(spots); err != nil {
				t.Errorf("%s: %v", text, err)
			}
		}
	}
	for _, wrong := range []string{"", "tell:", "quarantine: unique(id)", "unique(id,)", "depth +", "dept < 3", "depth + 1", "unique(parts)", "unique(none)"} {
		r, err := Parse(wrong)
		if err == nil {
			err = r.Fits(spots)
		}
		if err == nil {
			t.Errorf("%q is a rule", wrong)
		}
	}
}

// TestUnknownKeepsARule holds rows against conditions: those that are false break them, those that are unknown do not.
func TestUnknownKeepsARule(t *testing.T) {
	s := schema.Schema{Fields: spots.Fields[:3]}
	var rules []Rule
	for _, text := range []string{"depth between 0 and 10", `"sea area" like_regex '^[A-Z]'`, "depth is not null"} {
		r, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		rules = append(rules, r)
	}
	rows, err := ForRows(t.Context(), rules, s, nil)
	if err != nil {
		t.Fatal(err)
	}
	b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	b.Field(0).(*array.Int64Builder).AppendValues([]int64{1, 2, 3}, nil)
	b.Field(1).(*array.StringBuilder).AppendValues([]string{"Cairn Bay", "cairn", ""}, []bool{true, true, false})
	b.Field(2).(*array.Float64Builder).AppendValues([]float64{5, 11, 0}, []bool{true, true, false})
	batch := b.NewRecordBatch()
	broken, err := rows.Broken(batch)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range [][]int32{{1}, {1}, {2}} {
		if len(broken[i]) != 1 || broken[i][0] != want[0] {
			t.Errorf("%s: %v", rules[i], broken[i])
		}
	}
	if text := rows.Values(0, batch, 1); text != `depth "11"` {
		t.Error(text)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"depth between 0 and 500", "tell: unique(id, \"sea area\")", "id in orrin.spots.code", "quarantine: \"sea area\" like_regex '('", "::", "unique((("} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Parse(text)
		if err != nil {
			return
		}
		_ = r.Fits(spots)
		if again, err := Parse(r.String()); err != nil || again.String() != r.String() {
			t.Errorf("%q: %q is read back as %q, %v", text, r, again, err)
		}
	})
}
