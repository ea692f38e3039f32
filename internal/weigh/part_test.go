package weigh

import (
	"encoding/json"
	"fmt"
	"math/rand"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// moored is a schema with parts in every way that they can lie within each other.
func moored() schema.Schema {
	leaf := func(name string, k schema.Kind) schema.Field {
		return schema.Field{Name: name, Type: schema.Type{Kind: k}}
	}
	object := func(name string, fields ...schema.Field) schema.Field {
		return schema.Field{Name: name, Type: schema.Type{Kind: schema.Struct, Fields: fields}}
	}
	list := func(name string, element schema.Field) schema.Field {
		element.Name = schema.ElementName
		return schema.Field{Name: name, Type: schema.Type{Kind: schema.List, Element: &element}}
	}
	key, value := leaf("key", schema.String), leaf("value", schema.Double)
	key.Required = true
	s := schema.Schema{Fields: []schema.Field{
		leaf("id", schema.Long),
		object("buoy", leaf("code", schema.String), object("position", leaf("lat", schema.Double), leaf("lon", schema.Double))),
		list("readings", object("", leaf("sensor", schema.String), list("values", leaf("", schema.Double)))),
		{Name: "levels", Type: schema.Type{Kind: schema.Map, Key: &key, Element: &value}},
	}}
	s.AssignIDs()
	return s
}

// fill appends n values of any type, a fifth of them null.
func fill(t *testing.T, random *rand.Rand, b array.Builder, n int) {
	t.Helper()
	for range n {
		if random.Intn(5) == 0 {
			b.AppendNull()
			continue
		}
		switch b := b.(type) {
		case *array.Int64Builder:
			b.Append(random.Int63n(1000))
		case *array.Float64Builder:
			b.Append(float64(random.Intn(100)) / 4)
		case *array.StringBuilder:
			b.Append(fmt.Sprint("OS-", random.Intn(20)))
		case *array.StructBuilder:
			b.Append(true)
			for i := range b.NumField() {
				fill(t, random, b.FieldBuilder(i), 1)
			}
		case *array.ListBuilder:
			b.Append(true)
			fill(t, random, b.ValueBuilder(), random.Intn(4))
		case *array.MapBuilder:
			b.Append(true)
			for i := range random.Intn(3) {
				b.KeyBuilder().(*array.StringBuilder).Append(fmt.Sprint("depth ", i))
				fill(t, random, b.ItemBuilder(), 1)
			}
		default:
			t.Fatalf("%T", b)
		}
	}
}

// prune leaves of a value what lies on a path.
func prune(v any, path []string) any {
	switch v := v.(type) {
	case map[string]any:
		if len(path) == 0 {
			return v
		}
		return map[string]any{path[0]: prune(v[path[0]], path[1:])}
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = prune(v[i], path[1:])
		}
		return out
	}
	return v
}

// TestPartsAlone holds the rows of each part, also of slices of batches, against those of the whole.
func TestPartsAlone(t *testing.T) {
	s := moored()
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	random := rand.New(rand.NewSource(9))
	for i := range s.Fields {
		fill(t, random, build.Field(i), 200)
	}
	whole := build.NewRecordBatch()
	batches := []arrow.RecordBatch{whole, whole.NewSlice(17, 140), whole.NewSlice(200, 200)}
	var paths []string
	for column, f := range s.Fields {
		for _, p := range partsOf(f) {
			paths = append(paths, p.path+" "+p.kind.String())
			alone := p.of(batches, column)
			for i, b := range batches {
				all, part := objects(t, b), objects(t, alone[i])
				if len(all) != len(part) {
					t.Fatalf("%s: %d rows of %d", p.path, len(part), len(all))
				}
				for row := range all {
					if want := prune(all[row], strings.Split(p.path, ".")); !reflect.DeepEqual(part[row], want) {
						t.Fatalf("%s, batch %d, row %d: %v, want %v", p.path, i, row, part[row], want)
					}
				}
			}
		}
	}
	want := []string{"id long", "buoy.code string", "buoy.position.lat double", "buoy.position.lon double",
		"readings.element.sensor string", "readings.element.values.element double", "levels map<string, double>"}
	if !slices.Equal(paths, want) {
		t.Errorf("%q", paths)
	}
}

// objects decodes the rows of a batch from their JSON text.
func objects(t *testing.T, b arrow.RecordBatch) (out []any) {
	t.Helper()
	d := json.NewDecoder(strings.NewReader(string(rowtext.JSON(nil, b))))
	for d.More() {
		var v any
		if err := d.Decode(&v); err != nil {
			t.Fatal(err)
		}
		out = append(out, v)
	}
	return out
}
