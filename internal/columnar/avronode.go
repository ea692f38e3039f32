package columnar

import (
	"fmt"

	"github.com/hamba/avro/v2"

	"trevak/internal/schema"
)

// avroNode is a field of an Avro schema with what it becomes.
type avroNode struct {
	schema.Field
	// parts are its members, its elements, or the branches of a union that becomes text.
	parts []*avroNode
	// of is the type of its values, or the union that becomes text.
	of avro.Schema
	// branches tells what the branches of a union are: whether they are null; nil for a field that is no union of null and one type.
	branches []bool
}

// deepestAvro bounds how deep a schema may go: a record that holds itself has no end.
const deepestAvro = 50

func avroFields(record *avro.RecordSchema, depth int) (schema.Type, []*avroNode, error) {
	t := schema.Type{Kind: schema.Struct}
	var parts []*avroNode
	if depth > deepestAvro {
		return t, nil, fmt.Errorf("the record %s lies more than %d deep, or holds itself", record.FullName(), deepestAvro)
	}
	for _, f := range record.Fields() {
		n, err := avroNodeOf(f.Name(), f.Type(), depth+1)
		if err != nil {
			return t, nil, err
		}
		n.ID = avroID(f.Prop("field-id"))
		t.Fields, parts = append(t.Fields, n.Field), append(parts, n)
	}
	return t, parts, nil
}

// avroID reads a field id (Iceberg specification, appendix A), 0 where there is none.
func avroID(property any) int {
	if id, ok := property.(float64); ok && id > 0 && id < 1<<31 {
		return int(id)
	}
	return 0
}

// avroNodeOf tells what a field becomes. A union of null and one type is a field that may be null; other unions become text.
func avroNodeOf(name string, s avro.Schema, depth int) (n *avroNode, err error) {
	if depth > deepestAvro {
		return nil, fmt.Errorf("the field %s lies more than %d deep, or in a record that holds itself", name, deepestAvro)
	}
	n = &avroNode{Field: schema.Field{Name: name, Required: true}}
	if union, ok := s.(*avro.UnionSchema); ok {
		n.Required = false
		var others []avro.Schema
		for _, branch := range union.Types() {
			n.branches = append(n.branches, branch.Type() == avro.Null)
			if branch.Type() != avro.Null {
				others = append(others, branch)
			}
		}
		if len(others) != 1 {
			n.Type.Kind, n.of, n.branches = schema.String, s, nil
			return n, n.several(union, depth)
		}
		s = others[0]
	}
	if ref, ok := s.(*avro.RefSchema); ok {
		s = ref.Schema()
	}
	n.of = s
	switch s := s.(type) {
	case *avro.NullSchema:
		n.Type.Kind, n.Required = schema.String, false
	case *avro.RecordSchema:
		n.Type, n.parts, err = avroFields(s, depth)
	case *avro.ArraySchema:
		if entry, ok := avroEntry(s); ok {
			return n, n.mapOf(entry, depth)
		}
		part, err := avroNodeOf(schema.ElementName, s.Items(), depth+1)
		if err != nil {
			return nil, err
		}
		part.ID = avroID(s.Prop("element-id"))
		n.Type, n.parts = schema.Type{Kind: schema.List, Element: &part.Field}, []*avroNode{part}
	case *avro.MapSchema:
		part, err := avroNodeOf(schema.ValueName, s.Values(), depth+1)
		if err != nil {
			return nil, err
		}
		key := &schema.Field{ID: avroID(s.Prop("key-id")), Name: schema.KeyName, Type: schema.Type{Kind: schema.String}, Required: true}
		part.ID = avroID(s.Prop("value-id"))
		n.Type, n.parts = schema.Type{Kind: schema.Map, Key: key, Element: &part.Field}, []*avroNode{part}
	default:
		n.Type = avroScalar(s)
	}
	return n, err
}

// several takes the branches of a union of several types.
func (n *avroNode) several(union *avro.UnionSchema, depth int) error {
	for _, branch := range union.Types() {
		part, err := avroNodeOf(n.Name, branch, depth+1)
		if err != nil {
			return err
		}
		n.parts = append(n.parts, part)
	}
	return nil
}

// avroEntry returns the record of a list that is a map: of a key, which is always there, and a value.
func avroEntry(s *avro.ArraySchema) (*avro.RecordSchema, bool) {
	entry, ok := s.Items().(*avro.RecordSchema)
	ok = ok && s.Prop("logicalType") == avroMap && len(entry.Fields()) == 2
	return entry, ok && entry.Fields()[0].Type().Type() != avro.Union
}

// mapOf makes the field a map of entries.
func (n *avroNode) mapOf(entry *avro.RecordSchema, depth int) error {
	t, parts, err := avroFields(entry, depth+1)
	if err != nil {
		return err
	}
	key, value := &t.Fields[0], &t.Fields[1]
	key.Name, value.Name = schema.KeyName, schema.ValueName
	n.Type, n.parts = schema.Type{Kind: schema.Map, Key: key, Element: value}, parts
	return nil
}

var avroKinds = map[avro.Type]schema.Kind{avro.Boolean: schema.Boolean, avro.Int: schema.Int, avro.Long: schema.Long,
	avro.Float: schema.Float, avro.Double: schema.Double,
	avro.Bytes: schema.Binary, avro.Fixed: schema.Binary}

var avroLogical = map[avro.LogicalType]schema.Kind{avro.Date: schema.Date, avro.TimeMillis: schema.Time, avro.TimeMicros: schema.Time,
	avro.TimestampMillis: schema.TimestampTz,
	avro.TimestampMicros: schema.TimestampTz, avro.LocalTimestampMillis: schema.Timestamp, avro.LocalTimestampMicros: schema.Timestamp,
	avro.UUID: schema.UUID}

func avroScalar(s avro.Schema) schema.Type {
	if logical := avroLogicalOf(s); logical != nil {
		if d, ok := logical.(*avro.DecimalLogicalSchema); ok && d.Precision() <= 38 {
			return schema.Type{Kind: schema.Decimal, Precision: d.Precision(), Scale: d.Scale()}
		}
		if kind, ok := avroLogical[logical.Type()]; ok {
			return schema.Type{Kind: kind}
		}
	}
	if kind, ok := avroKinds[s.Type()]; ok {
		return schema.Type{Kind: kind}
	}
	return schema.Type{Kind: schema.String}
}

// avroLogicalOf returns the logical type of a schema, nil where it has none.
func avroLogicalOf(s avro.Schema) avro.LogicalSchema {
	if logical, ok := s.(avro.LogicalTypeSchema); ok {
		return logical.Logical()
	}
	return nil
}

// avroUnit is how many microseconds the unit of a time or timestamp has.
func avroUnit(s avro.Schema) int64 {
	if logical := avroLogicalOf(s); logical != nil {
		switch logical.Type() {
		case avro.TimeMillis, avro.TimestampMillis, avro.LocalTimestampMillis:
			return 1000
		}
	}
	return 1
}
