package columnar

import (
	"fmt"
	"strings"

	"github.com/twmb/avro"

	"trevak/internal/schema"
)

// avroNode is a field of an Avro schema with what it becomes.
type avroNode struct {
	schema.Field
	// parts are its members, its elements, or the branches of a union that becomes text.
	parts []*avroNode
	// of is the type of its values, or the union that becomes text.
	of *avro.SchemaNode
	// branches tells what the branches of a union are: whether they are null; nil for a field that is no union of null and one type.
	branches []bool
}

// deepestAvro bounds how deep a schema may go: a record that holds itself has no end.
const deepestAvro = 50

// avroNames are the types of a schema that have names, by which others refer to them.
type avroNames map[string]*avro.SchemaNode

// learn takes in the names below a type.
func (a avroNames) learn(s *avro.SchemaNode) {
	if s.Name != "" {
		name := s.Name
		if s.Namespace != "" && !strings.Contains(name, ".") {
			name = s.Namespace + "." + name
		}
		a[name] = s
	}
	for i := range s.Fields {
		a.learn(&s.Fields[i].Type)
	}
	for i := range s.Branches {
		a.learn(&s.Branches[i])
	}
	for _, part := range []*avro.SchemaNode{s.Items, s.Values} {
		if part != nil {
			a.learn(part)
		}
	}
}

// meant returns the type itself that a reference is to.
func (a avroNames) meant(s *avro.SchemaNode) *avro.SchemaNode {
	if named, ok := a[s.Type]; ok {
		return named
	}
	return s
}

func (a avroNames) fields(record *avro.SchemaNode, depth int) (schema.Type, []*avroNode, error) {
	t := schema.Type{Kind: schema.Struct}
	var parts []*avroNode
	if depth > deepestAvro {
		return t, nil, fmt.Errorf("the record %s lies more than %d deep, or holds itself", record.Name, deepestAvro)
	}
	for i := range record.Fields {
		f := &record.Fields[i]
		n, err := a.node(f.Name, &f.Type, depth+1)
		if err != nil {
			return t, nil, err
		}
		n.ID = avroID(f.Props["field-id"])
		t.Fields, parts = append(t.Fields, n.Field), append(parts, n)
	}
	return t, parts, nil
}

// avroID reads a field id (Iceberg specification, appendix A), 0 where there is none.
func avroID(property any) int {
	if id, ok := property.(int64); ok && id > 0 && id < 1<<31 {
		return int(id)
	}
	return 0
}

// node tells what a field becomes. A union of null and one type is a field that may be null; other unions become text.
func (a avroNames) node(name string, s *avro.SchemaNode, depth int) (n *avroNode, err error) {
	if depth > deepestAvro {
		return nil, fmt.Errorf("the field %s lies more than %d deep, or in a record that holds itself", name, deepestAvro)
	}
	n = &avroNode{Field: schema.Field{Name: name, Required: true}}
	if s.Type == "union" {
		n.Required = false
		var others []*avro.SchemaNode
		for i := range s.Branches {
			branch := &s.Branches[i]
			n.branches = append(n.branches, branch.Type == "null")
			if branch.Type != "null" {
				others = append(others, branch)
			}
		}
		if len(others) != 1 {
			n.Type.Kind, n.of, n.branches = schema.String, s, nil
			return n, a.several(n, depth)
		}
		s = others[0]
	}
	s = a.meant(s)
	n.of = s
	switch s.Type {
	case "null":
		n.Type.Kind, n.Required = schema.String, false
	case "record", "error":
		n.Type, n.parts, err = a.fields(s, depth)
	case "array":
		if entry, ok := a.entry(s); ok {
			return n, a.mapOf(n, entry, depth)
		}
		part, err := a.node(schema.ElementName, s.Items, depth+1)
		if err != nil {
			return nil, err
		}
		part.ID = avroID(s.Props["element-id"])
		n.Type, n.parts = schema.Type{Kind: schema.List, Element: &part.Field}, []*avroNode{part}
	case "map":
		part, err := a.node(schema.ValueName, s.Values, depth+1)
		if err != nil {
			return nil, err
		}
		key := &schema.Field{ID: avroID(s.Props["key-id"]), Name: schema.KeyName, Type: schema.Type{Kind: schema.String}, Required: true}
		part.ID = avroID(s.Props["value-id"])
		n.Type, n.parts = schema.Type{Kind: schema.Map, Key: key, Element: &part.Field}, []*avroNode{part}
	default:
		n.Type = avroScalar(s)
	}
	return n, err
}

// several takes the branches of a union of several types.
func (a avroNames) several(n *avroNode, depth int) error {
	for i := range n.of.Branches {
		part, err := a.node(n.Name, &n.of.Branches[i], depth+1)
		if err != nil {
			return err
		}
		n.parts = append(n.parts, part)
	}
	return nil
}

// entry returns the record of a list that is a map: of a key, which is always there, and a value.
func (a avroNames) entry(s *avro.SchemaNode) (*avro.SchemaNode, bool) {
	entry := a.meant(s.Items)
	ok := entry.Type == "record" && s.LogicalType == avroMap && len(entry.Fields) == 2
	return entry, ok && entry.Fields[0].Type.Type != "union"
}

// mapOf makes the field a map of entries.
func (a avroNames) mapOf(n *avroNode, entry *avro.SchemaNode, depth int) error {
	t, parts, err := a.fields(entry, depth+1)
	if err != nil {
		return err
	}
	key, value := &t.Fields[0], &t.Fields[1]
	key.Name, value.Name = schema.KeyName, schema.ValueName
	n.Type, n.parts = schema.Type{Kind: schema.Map, Key: key, Element: value}, parts
	return nil
}

// avroKinds are what types become that have no parts, avroLogical what those do that have a logical type besides.
var (
	avroKinds = map[string]schema.Kind{"boolean": schema.Boolean, "int": schema.Int, "long": schema.Long, "float": schema.Float,
		"double": schema.Double, "bytes": schema.Binary, "fixed": schema.Binary}
	avroLogical = map[[2]string]schema.Kind{{"int", "date"}: schema.Date, {"int", "time-millis"}: schema.Time,
		{"long", "time-micros"}: schema.Time, {"long", "timestamp-millis"}: schema.TimestampTz,
		{"long", "timestamp-micros"}: schema.TimestampTz, {"long", "local-timestamp-millis"}: schema.Timestamp,
		{"long", "local-timestamp-micros"}: schema.Timestamp, {"string", "uuid"}: schema.UUID, {"fixed", "uuid"}: schema.UUID}
)

func avroScalar(s *avro.SchemaNode) schema.Type {
	if s.LogicalType == "decimal" && (s.Type == "bytes" || s.Type == "fixed") && s.Precision > 0 && s.Precision <= 38 {
		return schema.Type{Kind: schema.Decimal, Precision: s.Precision, Scale: s.Scale}
	}
	if kind, ok := avroLogical[[2]string{s.Type, s.LogicalType}]; ok && (s.Type != "fixed" || s.Size == 16) {
		return schema.Type{Kind: kind}
	}
	if kind, ok := avroKinds[s.Type]; ok {
		return schema.Type{Kind: kind}
	}
	return schema.Type{Kind: schema.String}
}

// avroUnit is how many microseconds the unit of a time or timestamp has.
func avroUnit(s *avro.SchemaNode) int64 {
	if strings.HasSuffix(s.LogicalType, "-millis") {
		return 1000
	}
	return 1
}
