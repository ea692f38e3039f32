package fit

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

// everyKind is a schema with a column of every kind, alone and as a part of structs, lists and maps.
func everyKind() schema.Schema {
	value := func(k schema.Kind) *schema.Field {
		f := field(schema.ElementName, k)
		return &f
	}
	reading := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{
		field("sensor", schema.String), field("value", schema.Double), field("ok", schema.Boolean),
		{Name: "marks", Type: schema.Type{Kind: schema.List, Element: value(schema.Long)}}}}}
	key := field(schema.KeyName, schema.String)
	key.Required = true
	pinned, unseen, skipped := field("pinned", schema.Long), field("unseen", schema.String), field("skipped", schema.Double)
	pinned.Pinned, unseen.Unseen, skipped.Skip = true, true, true
	price := field("price", schema.Decimal)
	price.Type.Precision, price.Type.Scale = 9, 2
	return schema.Schema{Omission: schema.Omission{Omit: []string{"left_out"}}, Fields: []schema.Field{field("id", schema.Long),
		{Name: "position", Type: schema.Type{Kind: schema.Struct,
			Fields: []schema.Field{field("lat", schema.Double), field("lon", schema.Double)}}},
		field("at", schema.TimestampTz), field("day", schema.Date), field("note", schema.String),
		field("a name of more than sixteen bytes", schema.Boolean),
		{Name: "readings", Type: schema.Type{Kind: schema.List, Element: &reading}},
		{Name: "labels", Type: schema.Type{Kind: schema.List, Element: value(schema.String)}},
		{Name: "counts", Type: schema.Type{Kind: schema.Map, Key: &key, Element: value(schema.Long)}},
		field("small", schema.Int), price, pinned, unseen, skipped}}
}

// usual and unusual are values of each of those columns that fit it, and others, most of which do not.
var usual = map[string][]string{
	"id": {"1", "-20", "123456789", "null"}, "position": {`{"lat":57.25,"lon":-5.1}`, `{"lon":2,"lat":null}`, "{}", "null"},
	"at": {`"2031-05-01T10:20:30Z"`, `"2031-05-01 10:20:30.5Z"`, "null"}, "day": {`"2031-05-01"`, "null"},
	"note":                              {`"calm"`, `"drift \"north\""`, `"a swell from the west that lasts"`, `""`, `"é\u00e9"`, "null"},
	"a name of more than sixteen bytes": {"true", "false", "null"},
	"readings": {`[{"sensor":"depth","value":1.5,"ok":true,"marks":[1,2]},{"sensor":"wind","value":-0.25,"ok":false}]`, `[]`, "null",
		`[null,{}]`},
	"labels": {`["a","b"]`, `[null]`, "[]"}, "counts": {`{"a":1,"b":2}`, "{}", "null"}, "small": {"7", "null"}, "price": {"12.50", "3"},
	"pinned": {"5", "null"}, "unseen": {"null"}, "skipped": {"1.5", `"x"`, `[1,{"a":2}]`, "null"}, "left_out": {`{"deep":[1]}`, "3"},
}

var unusual = map[string][]string{
	"id":       {"1e3", "007", "1.0", "12345678901234567890", `"7"`, "-", "1 "},
	"position": {"[]", `{"lat":1,"lat":2}`, `{ "lat" : 1 }`, `{"LAT":1}`, `{"alt":1}`},
	"at":       {`"2031-05-01"`, `"soon"`, "5"}, "day": {`"2031-02-30"`, `""`, "1"},
	"note":                              {"12", `{"a":1}`, `"\ud800"`, `"\x"`, "\"tab\t\"", `"open`},
	"a name of more than sixteen bytes": {"truE", "1", `"true"`},
	"readings":                          {`{"sensor":"alone"}`, `[{"sensor":5}]`, `[{"value":01}]`, "[1]", `[{},]`, `[{}`},
	"labels":                            {`"alone"`, `["a",1]`, `["a" ,"b"]`},
	"counts":                            {`{"a":1,"a":2}`, `{"\u0061":1}`, `{"a":"x"}`, "[]"},
	"small":                             {"99999999999", "1.5"},
	"price":                             {"1.234", "1e400", `"3"`}, "pinned": {`"6"`, `"six"`, "6.5"}, "unseen": {`"now it is"`, "1"}, "skipped": {"01", "nul"},
	"left_out": {"nothing", `"`},
	"more":     {"1"}, "ID": {"2"},
}

// document writes a record of those columns; of a thousand values, odd are unusual.
func document(random *rand.Rand, odd int) string {
	var parts []string
	colon, comma := []string{":", ": ", " :\t"}[random.IntN(3)], []string{",", ", ", " ,\t "}[random.IntN(3)]
	add := func(name string, values []string) {
		parts = append(parts, fmt.Sprintf("%q%s%s", name, colon, values[random.IntN(len(values))]))
	}
	for _, f := range everyKind().Fields {
		switch {
		case random.IntN(1000) < odd:
			add(f.Name, unusual[f.Name])
		case random.IntN(12) > 0:
			add(f.Name, usual[f.Name])
		}
	}
	if random.IntN(10) == 0 {
		add("left_out", usual["left_out"])
	}
	if random.IntN(1000) < odd {
		name := []string{"more", "ID", "left_out"}[random.IntN(3)]
		add(name, unusual[name])
	}
	if random.IntN(15) == 0 {
		random.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
	}
	return "{" + strings.Join(parts, comma) + "}"
}

// walked is JSON.Fit without outlines.
func walked(j *JSON, r *json.Records) (out Result) {
	root := j.root(r.Rows())
	w := walker{unknown: j.unknown, exact: j.exact, folded: map[string]string{}}
	w.Limit(r.MaxDepth)
	if w.records(r, root, 0, r.Rows(), &out) {
		j.finish(root, &w, &out)
	}
	return out
}

// holdOutline fits a block both ways and compares what comes out.
func holdOutline(t *testing.T, plain, outlining *JSON, text string, depth int) {
	t.Helper()
	one, other := jsonRecords(text), jsonRecords(text)
	one.MaxDepth, other.MaxDepth = depth, depth
	a, b := walked(plain, one), outlining.Fit(other)
	if !reflect.DeepEqual(a.Problems, b.Problems) || !reflect.DeepEqual(a.Misfits, b.Misfits) || (a.Batch == nil) != (b.Batch == nil) {
		t.Fatalf("problems and misfits are %v, %v, and outlined %v, %v, of\n%s", a.Problems, a.Misfits, b.Problems, b.Misfits, text)
	}
	if a.Batch == nil {
		return
	}
	// How much of a bad record is looked at is left open.
	if len(a.Problems) == 0 && !reflect.DeepEqual(a.Present, b.Present) || !reflect.DeepEqual(a.Tokens, b.Tokens) ||
		!reflect.DeepEqual(a.Longest, b.Longest) || !reflect.DeepEqual(a.Folded, b.Folded) {
		t.Fatalf("%v, %v, %v, %v differ: %v, %v, %v, %v, of\n%s", a.Present, a.Tokens, a.Longest, a.Folded, b.Present, b.Tokens,
			b.Longest, b.Folded, text)
	}
	for i, f := range plain.schema.Fields {
		if x, y := fmt.Sprint(unfolded(a.Batch.Column(i))), fmt.Sprint(unfolded(b.Batch.Column(i))); x != y {
			t.Fatalf("column %s is\n%s\nand outlined\n%s\nof\n%s", f.Name, x, y, text)
		}
	}
	b.Done()
}

func TestOutlinesAgreeWithWalks(t *testing.T) {
	random := rand.New(rand.NewPCG(20, 31))
	tried, refused := 0, 0
	for _, coded := range []bool{false, true} {
		for _, unknown := range []Unknown{UnknownKept, UnknownWidens} {
			s := everyKind()
			plain, outlining := NewJSON(s, unknown, false, coded), NewJSON(s, unknown, false, coded)
			for round := range 40 {
				odd := []int{0, 0, 2, 20}[round%4]
				var text strings.Builder
				for range 1 + random.IntN(300) {
					text.WriteString(document(random, odd) + "\n")
				}
				holdOutline(t, plain, outlining, text.String(), 0)
				if odd == 0 {
					tried, refused = tried+outlining.outline.tried, refused+outlining.outline.refused
				}
			}
		}
	}
	if refused*10 > tried || tried < 5_000 {
		t.Errorf("of %d usual records %d were refused", tried, refused)
	}
}

// TestOutlinesKeepToTheDepthAllowed compares records at the edge of the depth that is allowed.
func TestOutlinesKeepToTheDepthAllowed(t *testing.T) {
	s := everyKind()
	plain, outlining := NewJSON(s, UnknownKept, false, false), NewJSON(s, UnknownKept, false, false)
	text := strings.Repeat(`{"id":1,"readings":[{"sensor":"a","marks":[1]}],"left_out":[[1]],"skipped":[[[2]]]}`+"\n", 5) +
		strings.Repeat(" \n", 20)
	for depth := 1; depth < 7; depth++ {
		holdOutline(t, plain, outlining, text, depth)
	}
}

// TestOutlinesOfRequiredColumns compares records that lack values of columns that must have them.
func TestOutlinesOfRequiredColumns(t *testing.T) {
	s := everyKind()
	for i := range s.Fields {
		if name := s.Fields[i].Name; name == "note" || name == "position" || name == "labels" {
			s.Fields[i].Required = true
		}
	}
	random := rand.New(rand.NewPCG(3, 3))
	plain, outlining := NewJSON(s, UnknownKept, false, true), NewJSON(s, UnknownKept, false, true)
	for range 40 {
		var text strings.Builder
		for range 100 {
			text.WriteString(document(random, 1) + "\n")
		}
		holdOutline(t, plain, outlining, text.String(), 0)
	}
}

func FuzzOutline(f *testing.F) {
	random := rand.New(rand.NewPCG(1, 9))
	for odd := range 8 {
		f.Add([]byte(document(random, odd*40) + "\n" + document(random, odd*40) + "\n" + document(random, 0) + "\n"))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		s := everyKind()
		holdOutline(t, NewJSON(s, UnknownKept, false, true), NewJSON(s, UnknownKept, false, true), string(data), 0)
	})
}
