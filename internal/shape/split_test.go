package shape

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// visits are records with lists at the top, within objects, and alone in one.
func visits() schema.Schema {
	object := func(name string, parts ...schema.Field) schema.Field {
		return schema.Field{Name: name, Type: schema.Type{Kind: schema.Struct, Fields: parts}}
	}
	crew := schema.Type{Kind: schema.Struct, Fields: []schema.Field{field("name", schema.String), field("rank", schema.Long)}}
	return schema.Schema{Fields: []schema.Field{field("id", schema.Long), listOf("tags", schema.Type{Kind: schema.String}),
		object("ops", field("shift", schema.String), listOf("crew", crew),
			object("lead", object("log", listOf("marks", schema.Type{Kind: schema.Long}))))}}
}

const visitRows = `[
{"id":1,"tags":["a","b"],"ops":{"shift":"n","crew":[{"name":"Ina","rank":1},null],"lead":{"log":{"marks":[1,null,3]}}}},
{"id":2,"tags":[],"ops":{"shift":"d","crew":[],"lead":{"log":null}}},
{"id":3,"tags":null,"ops":null},
{"id":4,"tags":["c"],"ops":{"shift":null,"crew":null,"lead":null}}]`

func TestSplitOff(t *testing.T) {
	for _, tt := range []struct {
		name     string
		spec     Spec
		elements string
		want     string
	}{
		{"a list taken away", Spec{Without: []string{"tags"}}, "[3]", `
{"id":1,"ops":{"shift":"n","crew":[{"name":"Ina","rank":1},null],"lead":{"log":{"marks":[1,null,3]}}}}
{"id":2,"ops":{"shift":"d","crew":[],"lead":{"log":null}}}
{"id":3,"ops":null}
{"id":4,"ops":{"shift":null,"crew":null,"lead":null}}`},
		{"a list in an object, and one with the objects that hold nothing else", Spec{Without: []string{"ops.crew", "ops.lead.log.marks", "tags"}}, "[2 3 3]", `
{"id":1,"ops":{"shift":"n"}}
{"id":2,"ops":{"shift":"d"}}
{"id":3,"ops":null}
{"id":4,"ops":{"shift":null}}`},
		{"of some records", Spec{Where: "id <> 1", Without: []string{"tags", "ops.crew"}}, "[1 0]", `
{"id":2,"ops":{"shift":"d","lead":{"log":null}}}
{"id":3,"ops":null}
{"id":4,"ops":{"shift":null,"lead":null}}`},
		{"rows of single values", Spec{Child: Child{List: "tags", Keys: []string{"id"}}}, "[]", `
{"id":1,"_position":0,"tags":"a"}
{"id":1,"_position":1,"tags":"b"}
{"id":4,"_position":0,"tags":"c"}`},
		{"rows of objects", Spec{Child: Child{List: "ops.crew", Keys: []string{"id"}}}, "[]", `
{"id":1,"_position":0,"name":"Ina","rank":1}
{"id":1,"_position":1,"name":null,"rank":null}`},
		{"rows of a list deep within", Spec{Child: Child{List: "ops.lead.log.marks", Keys: []string{"id"}}, Where: "id < 3"}, "[]", `
{"id":1,"_position":0,"marks":1}
{"id":1,"_position":1,"marks":null}
{"id":1,"_position":2,"marks":3}`},
	} {
		_, out, got := apply(t, visits(), tt.spec, visitRows)
		if strings.TrimSpace(got) != strings.TrimSpace(tt.want) {
			t.Errorf("%s: got\n%s\nwant%s", tt.name, got, tt.want)
		}
		if elements := fmt.Sprint(out.Elements); elements != tt.elements {
			t.Errorf("%s: %s elements were counted, want %s", tt.name, elements, tt.elements)
		}
	}
}

// There is a row for each element that is counted, whatever the lists.
func TestElementsAreRows(t *testing.T) {
	s := visits()
	for _, list := range []string{"tags", "ops.crew", "ops.lead.log.marks"} {
		batch := read(t, s, visitRows)
		parent, err := New(s, Spec{Without: []string{list}})
		if err != nil {
			t.Fatal(err)
		}
		kept, err := parent.Apply(context.Background(), s.Fields, batch)
		if err != nil {
			t.Fatal(err)
		}
		child, err := New(s, Spec{Child: Child{List: list, Keys: []string{"id"}}})
		if err != nil {
			t.Fatal(err)
		}
		rows, err := child.Apply(context.Background(), s.Fields, batch)
		if err != nil {
			t.Fatal(err)
		}
		if n := rows.Batch.NumRows(); n != kept.Elements[0] || kept.Batch.NumRows() != batch.NumRows() {
			t.Errorf("%s: %d rows of %d elements; %s", list, n, kept.Elements[0], rowtext.JSON(nil, rows.Batch))
		}
		for i, at := range rows.Origin {
			if id := rows.Batch.Column(0).ValueStr(i); id != fmt.Sprint(at+1) {
				t.Errorf("%s: row %d has the key %s of record %d", list, i, id, at+1)
			}
		}
	}
}

func TestSplitRefuses(t *testing.T) {
	for _, tt := range []struct {
		spec Spec
		want string
	}{
		{Spec{Without: []string{"nope"}}, `names "nope"`},
		{Spec{Without: []string{"ops"}}, "it is struct, not a list"},
		{Spec{Without: []string{"tags", "tags"}}, `names "tags"`},
		{Spec{Child: Child{List: "id", Keys: []string{"id"}}}, "it is long, not a list"},
		{Spec{Child: Child{List: "tags", Keys: []string{"no"}}}, `--key names "no"`},
		{Spec{Child: Child{List: "ops.crew.name", Keys: []string{"id"}}}, "ops.crew is a list itself"},
	} {
		if _, err := New(visits(), tt.spec); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %q", tt.spec, err, tt.want)
		}
	}
	// A key by the name of a member would be there twice.
	s := visits()
	s.Fields[0].Name = "Name"
	if _, err := New(s, Spec{Child: Child{List: "ops.crew", Keys: []string{"Name"}}}); err == nil ||
		!strings.Contains(err.Error(), "leave --key out") {
		t.Errorf("%v", err)
	}
}
