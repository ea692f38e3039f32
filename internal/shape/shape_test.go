package shape

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

func field(name string, k schema.Kind, parts ...schema.Field) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: k, Fields: parts}}
}

func listOf(name string, t schema.Type) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: schema.List, Element: &schema.Field{Name: schema.ElementName, Type: t}}}
}

// buoy is a schema with objects and lists within each other.
func buoy() schema.Schema {
	reading := schema.Type{Kind: schema.Struct, Fields: []schema.Field{field("sensor", schema.String), field("value", schema.Double),
		listOf("flags", schema.Type{Kind: schema.Long})}}
	return schema.Schema{Fields: []schema.Field{field("id", schema.Long),
		field("position", schema.Struct, field("lat", schema.Double), field("grid", schema.Struct, field("cell", schema.Long))),
		listOf("readings", reading), listOf("alerts", schema.Type{Kind: schema.String}),
		field("ops", schema.Struct, listOf("crew", schema.Type{Kind: schema.String}), field("shift", schema.String))}}
}

const records = `[
{"id":1,"position":{"lat":57.5,"grid":{"cell":7}},"readings":[{"sensor":"t","value":1.5,"flags":[1,2]},{"sensor":"s","value":null,"flags":[]}],"alerts":["a","b","c"],"ops":{"crew":["Ina"],"shift":"n"}},
{"id":2,"position":null,"readings":[],"alerts":null,"ops":null},
{"id":3,"position":{"lat":null,"grid":null},"readings":null,"alerts":["d"],"ops":{"crew":[],"shift":null}},
{"id":4,"position":{"lat":1,"grid":{"cell":null}},"readings":[null,{"sensor":"u","value":2,"flags":null}],"alerts":[],"ops":{"crew":["Bo",null],"shift":"d"}}]`

func read(t testing.TB, s schema.Schema, text string) arrow.RecordBatch {
	t.Helper()
	b, _, err := array.RecordFromJSON(memory.DefaultAllocator, s.Arrow(), strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// apply gives rows a form and writes them as JSON lines.
func apply(t testing.TB, s schema.Schema, spec Spec, text string) (*Plan, Result, string) {
	t.Helper()
	p, err := New(s, spec)
	if err != nil {
		t.Fatal(err)
	}
	out, err := p.Apply(context.Background(), s.Fields, read(t, s, text))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(names(p.Schema.Fields), columnNames(out.Batch)) {
		t.Errorf("columns %v, and a schema of %v", columnNames(out.Batch), names(p.Schema.Fields))
	}
	return p, out, string(rowtext.JSON(nil, out.Batch))
}

func names(fields []schema.Field) (out []string) {
	for _, f := range fields {
		out = append(out, f.Name+" "+f.Type.Arrow().Name())
	}
	return out
}

func columnNames(b arrow.RecordBatch) (out []string) {
	for _, f := range b.Schema().Fields() {
		out = append(out, f.Name+" "+f.Type.Name())
	}
	return out
}

func TestForms(t *testing.T) {
	tests := []struct {
		name string
		spec Spec
		want string
	}{
		{"flattened", Spec{Flatten: true}, `
{"id":1,"position_lat":57.5,"position_grid_cell":7,"readings":[{"sensor":"t","value":1.5,"flags":[1,2]},{"sensor":"s","value":null,"flags":[]}],"alerts":["a","b","c"],"ops_crew":["Ina"],"ops_shift":"n"}
{"id":2,"position_lat":null,"position_grid_cell":null,"readings":[],"alerts":null,"ops_crew":null,"ops_shift":null}
{"id":3,"position_lat":null,"position_grid_cell":null,"readings":null,"alerts":["d"],"ops_crew":[],"ops_shift":null}
{"id":4,"position_lat":1,"position_grid_cell":null,"readings":[null,{"sensor":"u","value":2,"flags":null}],"alerts":[],"ops_crew":["Bo",null],"ops_shift":"d"}`},
		{"to a depth, lists as text", Spec{Flatten: true, Depth: 1, ListsAsJSON: true, Separator: ".", Where: "id IN (1, 2)"}, `
{"id":1,"position.lat":57.5,"position.grid":"{\"cell\":7}","readings":"[{\"sensor\":\"t\",\"value\":1.5,\"flags\":[1,2]},{\"sensor\":\"s\",\"value\":null,\"flags\":[]}]","alerts":"[\"a\",\"b\",\"c\"]","ops.crew":"[\"Ina\"]","ops.shift":"n"}
{"id":2,"position.lat":null,"position.grid":null,"readings":"[]","alerts":null,"ops.crew":null,"ops.shift":null}`},
		{"a row for each element", Spec{Unnest: [][]string{{"alerts"}}, Index: true, Derive: []Derivation{{"position", "1"}, {"readings", "2"}, {"ops", "position + readings"}}}, `
{"id":1,"position":1,"readings":2,"alerts_index":0,"alerts":"a","ops":3}
{"id":1,"position":1,"readings":2,"alerts_index":1,"alerts":"b","ops":3}
{"id":1,"position":1,"readings":2,"alerts_index":2,"alerts":"c","ops":3}
{"id":2,"position":1,"readings":2,"alerts_index":null,"alerts":null,"ops":3}
{"id":3,"position":1,"readings":2,"alerts_index":0,"alerts":"d","ops":3}
{"id":4,"position":1,"readings":2,"alerts_index":null,"alerts":null,"ops":3}`},
		{"how long the lists are", Spec{Unnest: [][]string{{"alerts", "ops.crew"}}, Index: true, Count: true,
			Nest:   []Nest{{"list", []string{"alerts_index", "alerts_count", "ops_crew_count"}}},
			Derive: []Derivation{{"position", "1"}, {"readings", "2"}}, Where: "id > 1"}, `
{"id":2,"position":1,"readings":2,"list":null,"alerts":null,"ops":null}
{"id":3,"position":1,"readings":2,"list":{"alerts_index":0,"alerts_count":1,"ops_crew_count":0},"alerts":"d","ops":{"crew":null,"shift":null}}
{"id":4,"position":1,"readings":2,"list":{"alerts_index":0,"alerts_count":0,"ops_crew_count":2},"alerts":null,"ops":{"crew":"Bo","shift":"d"}}
{"id":4,"position":1,"readings":2,"list":{"alerts_index":1,"alerts_count":0,"ops_crew_count":2},"alerts":null,"ops":{"crew":null,"shift":"d"}}`},
		{"flattened and nested again", Spec{Where: "id = 1", Flatten: true, Nest: []Nest{{"ops", []string{"ops_shift", "ops_crew"}}, {"position", []string{"position_lat", "position_grid_cell"}}}}, `
{"id":1,"position":{"lat":57.5,"grid_cell":7},"readings":[{"sensor":"t","value":1.5,"flags":[1,2]},{"sensor":"s","value":null,"flags":[]}],"alerts":["a","b","c"],"ops":{"shift":"n","crew":["Ina"]}}`},
		{"within an object, empty ones dropped", Spec{Unnest: [][]string{{"ops.crew"}}, DropEmpty: true, Derive: []Derivation{{"position", "1"}, {"readings", "2"}, {"alerts", "3"}}}, `
{"id":1,"position":1,"readings":2,"alerts":3,"ops":{"crew":"Ina","shift":"n"}}
{"id":4,"position":1,"readings":2,"alerts":3,"ops":{"crew":"Bo","shift":"d"}}
{"id":4,"position":1,"readings":2,"alerts":3,"ops":{"crew":null,"shift":"d"}}`},
		{"lists side by side", Spec{Where: "id <> 2", Unnest: [][]string{{"readings", "alerts"}}, Flatten: true,
			Nest:   []Nest{{"at", []string{"id", "position_lat"}}},
			Derive: []Derivation{{"ops_crew", "NULLIF(1, 1)"}, {"ops_shift", "'x'"}, {"position_grid_cell", "id"}}}, `
{"at":{"id":1,"position_lat":57.5},"position_grid_cell":1,"readings_sensor":"t","readings_value":1.5,"readings_flags":[1,2],"alerts":"a","ops_crew":null,"ops_shift":"x"}
{"at":{"id":1,"position_lat":57.5},"position_grid_cell":1,"readings_sensor":"s","readings_value":null,"readings_flags":[],"alerts":"b","ops_crew":null,"ops_shift":"x"}
{"at":{"id":1,"position_lat":57.5},"position_grid_cell":1,"readings_sensor":null,"readings_value":null,"readings_flags":null,"alerts":"c","ops_crew":null,"ops_shift":"x"}
{"at":{"id":3,"position_lat":null},"position_grid_cell":3,"readings_sensor":null,"readings_value":null,"readings_flags":null,"alerts":"d","ops_crew":null,"ops_shift":"x"}
{"at":{"id":4,"position_lat":1},"position_grid_cell":4,"readings_sensor":null,"readings_value":null,"readings_flags":null,"alerts":null,"ops_crew":null,"ops_shift":"x"}
{"at":{"id":4,"position_lat":1},"position_grid_cell":4,"readings_sensor":"u","readings_value":2,"readings_flags":null,"alerts":null,"ops_crew":null,"ops_shift":"x"}`},
		{"lists within lists", Spec{Where: "id = 1", Unnest: [][]string{{"readings"}, {"readings.flags"}}, Nest: []Nest{{"rest", []string{"position", "alerts", "ops"}}}}, `
{"id":1,"rest":{"position":{"lat":57.5,"grid":{"cell":7}},"alerts":["a","b","c"],"ops":{"crew":["Ina"],"shift":"n"}},"readings":{"sensor":"t","value":1.5,"flags":1}}
{"id":1,"rest":{"position":{"lat":57.5,"grid":{"cell":7}},"alerts":["a","b","c"],"ops":{"crew":["Ina"],"shift":"n"}},"readings":{"sensor":"t","value":1.5,"flags":2}}
{"id":1,"rest":{"position":{"lat":57.5,"grid":{"cell":7}},"alerts":["a","b","c"],"ops":{"crew":["Ina"],"shift":"n"}},"readings":{"sensor":"s","value":null,"flags":null}}`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if _, _, got := apply(t, buoy(), tt.spec, records); strings.TrimSpace(got) != strings.TrimSpace(tt.want) {
				t.Errorf("got\n%s\nwant%s", got, tt.want)
			}
		})
	}
}

func TestWhatCannotBeFormed(t *testing.T) {
	tests := []struct {
		spec Spec
		want string
	}{
		{Spec{Unnest: [][]string{{"reading"}}}, `--unnest names "reading", which the rows do not have; the nearest name is readings`},
		{Spec{Unnest: [][]string{{"position"}}}, "it is struct, not a list"},
		{Spec{Unnest: [][]string{{"readings.flags"}}}, "readings is a list itself; make rows of it first"},
		{Spec{Unnest: [][]string{{"id.x"}}}, "id is long, which has no members"},
		{Spec{Where: "id + 1"}, "is long, not a condition"},
		{Spec{Where: "depth > 3"}, `there is no column "depth"`},
		{Spec{Derive: []Derivation{{"x", "id +"}}}, "--derive x: a value is expected here"},
		{Spec{Nest: []Nest{{"x", []string{"id", "lat"}}}}, `--nest names "lat"`},
		{Spec{Nest: []Nest{{"x", []string{"id", "id"}}}}, `names "id" twice`},
		{Spec{Nest: []Nest{{"ops", []string{"id"}}}}, "have a column of that name already"},
		{Spec{Flatten: true, Derive: nil, Nest: []Nest{{"alerts", []string{"id", "position_lat"}}}},
			"have a column of that name already"},
	}
	for _, tt := range tests {
		if _, err := New(buoy(), tt.spec); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %s", tt.spec, err, tt.want)
		}
	}
	clash := schema.Schema{Fields: []schema.Field{field("a", schema.Struct, field("b_c", schema.Long)),
		field("a_b", schema.Struct, field("c", schema.Long))}}
	if p, err := New(clash, Spec{Flatten: true, Separator: "__"}); err != nil || len(p.Twins()) > 0 {
		t.Error(err, p.Twins())
	}
}

// TestFlattenedNamesAreToldApart flattens paths that give one name: the shortest keeps it, whatever comes beside it.
func TestFlattenedNamesAreToldApart(t *testing.T) {
	long := func(name string) schema.Field { return field(name, schema.Long) }
	tests := []struct {
		fields []schema.Field
		want   string
	}{
		{[]schema.Field{field("a", schema.Struct, long("b_c")), field("a_b", schema.Struct, long("c"))}, "a_b_c a_b__c"},
		{[]schema.Field{field("a", schema.Struct, long("b")), long("a_b")}, "a__b a_b"},
		{[]schema.Field{field("a", schema.Struct, long("b")), long("a_b"), long("A__B")}, "a___b a_b A__B"},
		{[]schema.Field{field("a", schema.Struct, long("b_c"), field("b", schema.Struct, long("c"))), long("a_b_c")},
			"a__b_c a__b__c a_b_c"},
		{[]schema.Field{field("a", schema.Struct, field("x", schema.Struct, long("v")), field("y", schema.Struct, long("v")))},
			"a_x_v a_y_v"},
	}
	for _, test := range tests {
		s := schema.Schema{Fields: test.fields}
		p, err := New(s, Spec{Flatten: true})
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, f := range p.Schema.Fields {
			names = append(names, f.Name)
		}
		if got := strings.Join(names, " "); got != test.want {
			t.Errorf("the columns are %s, want %s", got, test.want)
		}
		if twins := strings.Count(test.want, "__") > 0; twins != (len(p.Twins()) > 0) {
			t.Errorf("%s: told apart were %v", test.want, p.Twins())
		}
	}
	_, out, _ := apply(t, schema.Schema{Fields: tests[1].fields}, Spec{Flatten: true}, `[{"a":{"b":1},"a_b":2},{"a":null,"a_b":3}]`)
	if got := string(rowtext.JSON(nil, out.Batch)); got != "{\"a__b\":1,\"a_b\":2}\n{\"a__b\":null,\"a_b\":3}\n" {
		t.Errorf("the values are %s", got)
	}
}

// randomField is a column of any type, objects and lists within each other.
func randomField(random *rand.Rand, name string, depth int) schema.Field {
	switch n := random.IntN(7); {
	case n < 2 && depth > 0:
		f := field(name, schema.Struct)
		for i := range 1 + random.IntN(3) {
			f.Type.Fields = append(f.Type.Fields, randomField(random, fmt.Sprint("m", i), depth-1))
		}
		return f
	case n < 4 && depth > 0:
		return listOf(name, randomField(random, schema.ElementName, depth-1).Type)
	case n < 5:
		return field(name, schema.Long)
	case n < 6:
		return field(name, schema.Boolean)
	}
	return field(name, schema.String)
}

func randomValue(random *rand.Rand, t schema.Type, leaf *int) any {
	if random.IntN(6) == 0 {
		return nil
	}
	switch t.Kind {
	case schema.Struct:
		out := map[string]any{}
		for _, f := range t.Fields {
			out[f.Name] = randomValue(random, f.Type, leaf)
		}
		return out
	case schema.List:
		out := make([]any, random.IntN(4))
		for i := range out {
			out[i] = randomValue(random, t.Element.Type, leaf)
		}
		return out
	case schema.Boolean:
		return random.IntN(2) == 0
	case schema.String:
		*leaf++
		return fmt.Sprint("t", *leaf)
	}
	*leaf++
	return *leaf
}

// leaves counts the texts and numbers in a value, each of which is there once.
func leaves(v any, into map[string]int) {
	switch v := v.(type) {
	case map[string]any:
		for _, part := range v {
			leaves(part, into)
		}
	case []any:
		for _, part := range v {
			leaves(part, into)
		}
	case string, json.Number:
		into[fmt.Sprint(v)]++
	}
}

func decodeLines(t *testing.T, text string) (out []map[string]any) {
	t.Helper()
	for line := range strings.Lines(text) {
		var row map[string]any
		d := json.NewDecoder(strings.NewReader(line))
		d.UseNumber()
		if err := d.Decode(&row); err != nil {
			t.Fatal(err)
		}
		out = append(out, row)
	}
	return out
}

// TestNothingIsLost gives random documents random forms. Flattening keeps every leaf once; a row for each element keeps those
// of the list once and has as many rows as the lists have elements.
func TestNothingIsLost(t *testing.T) {
	for seed := range uint64(150) {
		random := rand.New(rand.NewPCG(seed, 11))
		var s schema.Schema
		for i := range 1 + random.IntN(4) {
			s.Fields = append(s.Fields, randomField(random, fmt.Sprint("c", i), 3))
		}
		s.Fields = append(s.Fields, listOf("list", randomField(random, schema.ElementName, 2).Type))
		leaf, elements := 0, 0
		var docs []map[string]any
		for range random.IntN(12) {
			doc := map[string]any{}
			for _, f := range s.Fields {
				doc[f.Name] = randomValue(random, f.Type, &leaf)
			}
			n := 0
			if list, ok := doc["list"].([]any); ok {
				n = len(list)
			}
			elements += max(1, n)
			docs = append(docs, doc)
		}
		text, err := json.Marshal(docs)
		if err != nil {
			t.Fatal(err)
		}
		if docs == nil {
			text = []byte("[]")
		}
		_, flat, lines := apply(t, s, Spec{Flatten: true, Separator: "."}, string(text))
		found := map[string]int{}
		for _, row := range decodeLines(t, lines) {
			leaves(row, found)
		}
		if flat.Batch.NumRows() != int64(len(docs)) || len(found) != leaf {
			t.Fatalf("seed %d: %d leaves of %d are in the flattened rows", seed, len(found), leaf)
		}
		for value, n := range found {
			if n != 1 {
				t.Fatalf("seed %d: %s is there %d times", seed, value, n)
			}
		}
		plan, many, lines := apply(t, s, Spec{Unnest: [][]string{{"list"}}}, string(text))
		if many.Batch.NumRows() != int64(elements) {
			t.Fatalf("seed %d: %d rows of %d elements", seed, many.Batch.NumRows(), elements)
		}
		want, got := map[string]int{}, map[string]int{}
		for _, doc := range decodeLines(t, string(rowtext.JSON(nil, read(t, s, string(text))))) {
			leaves(doc["list"], want)
		}
		rows := decodeLines(t, lines)
		for i, row := range rows {
			leaves(row["list"], got)
			for _, f := range s.Fields[:len(s.Fields)-1] {
				a, b := toJSON(t, row[f.Name]), toJSON(t, docs[many.Origin[i]][f.Name])
				if a != b {
					t.Fatalf("seed %d: %s of row %d is %s, of its record %s", seed, f.Name, i, a, b)
				}
			}
		}
		if !reflect.DeepEqual(want, got) {
			t.Fatalf("seed %d: the lists hold %v, the rows %v", seed, want, got)
		}
		counts, err := plan.Count(context.Background(), s.Fields, read(t, s, string(text)))
		if err != nil {
			t.Fatal(err)
		}
		total := int64(0)
		for _, n := range counts {
			total += n
		}
		if total != int64(elements) {
			t.Fatalf("seed %d: %d rows were foreseen of %d", seed, total, elements)
		}
	}
}

func toJSON(t *testing.T, v any) string {
	t.Helper()
	text, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestListsComeBack makes rows of lists and lists of the rows again; with positions and counts all of them come back as they
// were, without them those that are empty are told as none.
func TestListsComeBack(t *testing.T) {
	for seed := range uint64(200) {
		exact := seed%2 == 1
		random := rand.New(rand.NewPCG(seed, 2))
		s := schema.Schema{Fields: []schema.Field{field("id", schema.Long), randomField(random, "other", 2),
			listOf("list", schema.Type{Kind: schema.Struct,
				Fields: []schema.Field{randomField(random, "a", 1), field("b", schema.Long)}})}}
		var docs []map[string]any
		leaf := 0
		for id := range random.IntN(10) {
			if exact {
				id /= 3 // neighbours agree in it, and may in all else
			}
			doc := map[string]any{"id": id, "other": randomValue(random, s.Fields[1].Type, &leaf),
				"list": randomValue(random, s.Fields[2].Type, &leaf)}
			// An empty list comes back as none, as does one of nothing alone; an object without values as none.
			if list, ok := doc["list"].([]any); ok {
				for i := range list {
					if object, ok := list[i].(map[string]any); ok && object["a"] == nil && object["b"] == nil {
						list[i] = nil
					}
				}
				if !exact && (len(list) == 0 || len(list) == 1 && list[0] == nil) {
					doc["list"] = nil
				}
			}
			docs = append(docs, doc)
		}
		text := []byte("[]")
		if docs != nil {
			text = []byte(toJSON(t, docs))
		}
		flat := Spec{Unnest: [][]string{{"list"}}, Index: exact, Count: exact, Flatten: true, Depth: 1,
			NestRows: Nest{"list", []string{"list_a", "list_b"}}}
		if s.Fields[1].Type.Kind == schema.Struct {
			continue // which would be flattened too
		}
		plan, err := New(s, flat)
		if err != nil {
			t.Fatal(err)
		}
		rows, err := plan.Apply(context.Background(), s.Fields, read(t, s, string(text)))
		if err != nil {
			t.Fatal(err)
		}
		back, err := plan.Group(context.Background(), rows.Batch, plan.Ends(rows.Batch))
		if err != nil {
			t.Fatal(err)
		}
		got, want := string(rowtext.JSON(nil, back)), string(rowtext.JSON(nil, read(t, s, string(text))))
		if got != want {
			t.Fatalf("seed %d: came back as\n%s\nof\n%s", seed, got, want)
		}
	}
}

// TestListsOfListsAreForeseen goes through a list of lists by the same name twice, which multiplies nothing.
func TestListsOfListsAreForeseen(t *testing.T) {
	inner := schema.Type{Kind: schema.List, Element: &schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Long}}}
	s := schema.Schema{Fields: []schema.Field{field("id", schema.Long), listOf("a", inner)}}
	text := `[{"id":1,"a":[[1,2],[],[3]]},{"id":2,"a":null}]`
	p, out, _ := apply(t, s, Spec{Unnest: [][]string{{"a"}, {"a"}}}, text)
	counts, err := p.Count(context.Background(), s.Fields, read(t, s, text))
	if err != nil || fmt.Sprint(counts) != "[4 1]" || out.Batch.NumRows() != 5 || p.Multiplies() {
		t.Errorf("%v rows of %d were foreseen: %v", counts, out.Batch.NumRows(), err)
	}
}

// TestRowsAreForeseen compares what Count says of lists that multiply with what Apply makes.
func TestRowsAreForeseen(t *testing.T) {
	for _, spec := range []Spec{
		{Unnest: [][]string{{"readings"}, {"alerts"}}},
		{Unnest: [][]string{{"readings"}, {"alerts"}}, DropEmpty: true},
		{Unnest: [][]string{{"readings"}, {"readings.flags"}, {"ops.crew"}}, Where: "id <> 3"},
		{Unnest: [][]string{{"readings", "alerts"}, {"ops.crew"}}},
	} {
		p, out, _ := apply(t, buoy(), spec, records)
		counts, err := p.Count(context.Background(), buoy().Fields, read(t, buoy(), records))
		if err != nil {
			t.Fatal(err)
		}
		made := make([]int64, len(counts))
		for _, at := range out.Origin {
			made[at]++
		}
		for i, n := range counts {
			if max(n, 0) != made[i] {
				t.Errorf("%+v: %v rows were foreseen, %v made", spec, counts, made)
				break
			}
		}
		if !p.Multiplies() {
			t.Errorf("%+v does not multiply", spec)
		}
	}
}
