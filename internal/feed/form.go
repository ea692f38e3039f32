package feed

import (
	"encoding/json"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"trevak/internal/setting"
)

// sections are the parts of a feed file and its single keys, in the order in which they are written.
var sections = []struct{ name, meaning string }{
	{"source", "Where the records come from."},
	{"reading", "How they are read. What is absent is decided from the data."},
	{"columns", "The columns, in the order of the table."},
	{"drop", ""}, {"only", ""}, {"key", ""}, {"names", ""}, {"mask", ""},
	{"shape", "What form rows get. The columns are those of the records; rename is of the columns that came of them."},
	{"table", "Where the records go."},
	{"limits", "How many records may fail, and what one record may take."},
}

// form is the structure of a feed file, made of the table of settings, which the YAML library reads and writes.
var form = func() reflect.Type {
	fields := []reflect.StructField{{Name: "Version", Type: reflect.TypeFor[int](), Tag: `yaml:"feed"`}}
	for _, s := range sections {
		switch own, of := setting.ByKey(s.name); {
		case s.name == "columns":
			fields = append(fields, reflect.StructField{Name: "Columns", Type: reflect.TypeFor[[]Column](), Tag: `yaml:"columns,omitempty"`})
		case of:
			fields = append(fields, field(s.name, typeOf(own)))
		default:
			fields = append(fields, field(s.name, sectionType(s.name)))
		}
	}
	return reflect.StructOf(fields)
}()

// keysOf lists the settings of a section.
func keysOf(section string) []setting.Setting {
	var out []setting.Setting
	for _, s := range setting.Table {
		if strings.HasPrefix(s.Key, section+".") {
			out = append(out, s)
		}
	}
	return out
}

func sectionType(section string) reflect.Type {
	var fields []reflect.StructField
	for _, s := range keysOf(section) {
		fields = append(fields, field(strings.TrimPrefix(s.Key, section+"."), typeOf(s)))
	}
	return reflect.StructOf(fields)
}

func field(name string, t reflect.Type) reflect.StructField {
	return reflect.StructField{Name: fieldName(name), Type: t, Tag: reflect.StructTag(`yaml:"` + name + `,omitempty"`)}
}

func fieldName(key string) string { return "F_" + key }

// typeOf is what a setting's values are in a feed file. What may be false or 0 is a pointer, which tells that from what is absent.
func typeOf(s setting.Setting) reflect.Type {
	switch s.Kind() {
	case setting.YesNo:
		return reflect.TypeFor[*bool]()
	case setting.Number:
		return reflect.TypeFor[*int]()
	case setting.List, setting.Many:
		return reflect.TypeFor[[]string]()
	case setting.Numbers:
		return reflect.TypeFor[[]int]()
	}
	return reflect.TypeFor[string]()
}

// each visits the settings with their values in a form.
func each(v reflect.Value, visit func(s setting.Setting, v reflect.Value)) {
	for _, s := range setting.Table {
		if s.Key == "" {
			continue
		}
		section, key, inside := strings.Cut(s.Key, ".")
		at := v.FieldByName(fieldName(section))
		if inside {
			at = at.FieldByName(fieldName(key))
		}
		visit(s, at)
	}
}

// texts are the values of a setting in a form.
func texts(v reflect.Value) []string {
	switch v := v.Interface().(type) {
	case string:
		if v == "" {
			return nil
		}
		return []string{v}
	case *bool:
		if v == nil {
			return nil
		}
		return []string{strconv.FormatBool(*v)}
	case *int:
		if v == nil {
			return nil
		}
		return []string{strconv.Itoa(*v)}
	case []string:
		return v
	case []int:
		var out []string
		for _, n := range v {
			out = append(out, strconv.Itoa(n))
		}
		return out
	}
	return nil
}

// fill puts values into a form; ok is false for ones that the setting does not take.
func fill(v reflect.Value, values []string) (ok bool) {
	one := strings.Join(values, ",")
	switch p := v.Addr().Interface().(type) {
	case *string:
		*p = one
	case **bool:
		b, err := strconv.ParseBool(one)
		*p = &b
		return err == nil
	case **int:
		n, err := strconv.Atoi(one)
		*p = &n
		return err == nil
	case *[]string:
		*p = slices.Clone(values)
	case *[]int:
		for _, text := range strings.Split(one, ",") {
			n, err := strconv.Atoi(text)
			if err != nil {
				return false
			}
			*p = append(*p, n)
		}
	}
	return true
}

// object is the description of an object in JSON Schema.
type object struct {
	Schema      string         `json:"$schema,omitempty"`
	Title       string         `json:"title,omitempty"`
	Type        string         `json:"type"`
	Description string         `json:"description,omitempty"`
	Required    []string       `json:"required,omitempty"`
	Additional  bool           `json:"additionalProperties"`
	Properties  properties     `json:"properties"`
	Defs        map[string]any `json:"$defs,omitempty"`
}

// properties are in order.
type properties []property

type property struct {
	name string
	is   any
}

// MarshalJSON writes an object in the order of its properties.
func (p properties) MarshalJSON() ([]byte, error) {
	out := []byte{'{'}
	for i, one := range p {
		if i > 0 {
			out = append(out, ',')
		}
		name, err := json.Marshal(one.name)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(one.is)
		if err != nil {
			return nil, err
		}
		out = append(append(append(out, name...), ':'), value...)
	}
	return append(out, '}'), nil
}

// JSONSchema describes feed files to editors (JSON Schema, draft 2020-12).
func JSONSchema() ([]byte, error) {
	top := object{Schema: "https://json-schema.org/draft/2020-12/schema", Title: "Trevak feed file", Type: "object",
		Description: "Everything that was settled about one flow of files into a table.",
		Required:    []string{"feed"},
		Properties:  properties{{"feed", map[string]any{"const": Version, "description": "The version of this form."}}},
		Defs:        map[string]any{"column": columnSchema()}}
	for _, s := range sections {
		switch own, of := setting.ByKey(s.name); {
		case s.name == "columns":
			top.Properties = append(top.Properties,
				property{s.name, map[string]any{"type": "array", "description": s.meaning,
					"items": map[string]any{"$ref": "#/$defs/column"}}})
		case of:
			top.Properties = append(top.Properties, property{s.name, valueSchema(own)})
		default:
			part := object{Type: "object", Description: s.meaning}
			for _, key := range keysOf(s.name) {
				part.Properties = append(part.Properties, property{strings.TrimPrefix(key.Key, s.name+"."), valueSchema(key)})
			}
			top.Properties = append(top.Properties, property{s.name, part})
		}
	}
	text, err := json.MarshalIndent(top, "", "  ")
	return append(text, '\n'), err
}

// valueSchema describes the values of a setting.
func valueSchema(s setting.Setting) map[string]any {
	out := map[string]any{"description": strings.ReplaceAll(s.Meaning, "`", "")}
	switch s.Kind() {
	case setting.YesNo:
		out["type"] = "boolean"
	case setting.Number:
		out["type"], out["minimum"] = "integer", 0
	case setting.List, setting.Many:
		out["type"], out["items"] = "array", map[string]any{"type": "string"}
	case setting.Numbers:
		out["type"], out["items"] = "array", map[string]any{"type": "integer", "minimum": 1}
	default:
		if out["type"] = "string"; s.Words != nil {
			delete(out, "type")
			out["enum"] = s.Words
		}
	}
	return out
}

// columnSchema describes a column or a part of one.
func columnSchema() object {
	text := func(meaning string) map[string]any { return map[string]any{"type": "string", "description": meaning} }
	column := map[string]any{"$ref": "#/$defs/column"}
	return object{Type: "object", Required: []string{"type"}, Properties: properties{
		{"name", text("The column's name in the table.")},
		{"from", text("Its name in the source, where that is another.")},
		{"type", text("As --type takes it: long, decimal(9,2), timestamp(%d.%m.%Y); struct, list and map have their parts below them.")},
		{"nulls", map[string]any{"type": "array", "items": map[string]any{"type": "string"},
			"description": "Texts that stand for no value."}},
		{"required", map[string]any{"type": "boolean", "description": "Whether each row has a value."}},
		{"comment", text("What is said of the column in the table.")},
		{"fields", map[string]any{"type": "array", "items": column, "description": "The parts of a struct."}},
		{"element", column},
		{"value", column},
	}}
}

// Sections are the keys of a feed file, but for that of its version.
func Sections() []string {
	var out []string
	for _, s := range sections {
		out = append(out, s.name)
	}
	return out
}
