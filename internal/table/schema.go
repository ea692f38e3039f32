package table

import (
	"encoding/json"
	"fmt"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// primitives pairs the types that have no parts with the library's.
var primitives = map[schema.Kind]iceberg.Type{
	schema.Boolean: iceberg.PrimitiveTypes.Bool, schema.Int: iceberg.PrimitiveTypes.Int32, schema.Long: iceberg.PrimitiveTypes.Int64,
	schema.Float: iceberg.PrimitiveTypes.Float32, schema.Double: iceberg.PrimitiveTypes.Float64, schema.Date: iceberg.PrimitiveTypes.Date,
	schema.Time: iceberg.PrimitiveTypes.Time, schema.Timestamp: iceberg.PrimitiveTypes.Timestamp,
	schema.TimestampTz: iceberg.PrimitiveTypes.TimestampTz, schema.TimestampNs: iceberg.PrimitiveTypes.TimestampNs,
	schema.TimestampTzNs: iceberg.PrimitiveTypes.TimestampTzNs, schema.String: iceberg.PrimitiveTypes.String,
	schema.Binary: iceberg.PrimitiveTypes.Binary, schema.UUID: iceberg.PrimitiveTypes.UUID,
}

// toIceberg gives a schema the library's form.
func toIceberg(s schema.Schema) *iceberg.Schema {
	return iceberg.NewSchemaWithIdentifiers(0, identifiers(s), nestedFields(s.Fields)...)
}

func nestedFields(fields []schema.Field) []iceberg.NestedField {
	out := make([]iceberg.NestedField, len(fields))
	for i, f := range fields {
		out[i] = iceberg.NestedField{ID: f.ID, Name: f.Name, Type: typeToIceberg(f.Type), Required: f.Required, Doc: f.Doc}
	}
	return out
}

func typeToIceberg(t schema.Type) iceberg.Type {
	switch t.Kind {
	case schema.Decimal:
		return iceberg.DecimalTypeOf(t.Precision, t.Scale)
	case schema.Struct:
		return &iceberg.StructType{FieldList: nestedFields(t.Fields)}
	case schema.List:
		return &iceberg.ListType{ElementID: t.Element.ID, Element: typeToIceberg(t.Element.Type), ElementRequired: t.Element.Required}
	case schema.Map:
		return &iceberg.MapType{KeyID: t.Key.ID, KeyType: typeToIceberg(t.Key.Type), ValueID: t.Element.ID,
			ValueType: typeToIceberg(t.Element.Type), ValueRequired: t.Element.Required}
	}
	return primitives[t.Kind]
}

// fromIceberg reads a table's schema; origins gives the names in the source by field id.
func fromIceberg(s *iceberg.Schema, origins map[int]string) (schema.Schema, error) {
	fields, err := fieldsFromIceberg(s.Fields(), origins)
	out := schema.Schema{Fields: fields}
	for _, id := range s.IdentifierFieldIDs {
		if name, ok := s.FindColumnName(id); ok {
			out.Key = append(out.Key, name)
		}
	}
	return out, err
}

func fieldsFromIceberg(fields []iceberg.NestedField, origins map[int]string) ([]schema.Field, error) {
	out := make([]schema.Field, len(fields))
	for i, f := range fields {
		t, err := typeFromIceberg(f.Type, origins)
		if err != nil {
			return nil, fmt.Errorf("column %q: %w", f.Name, err)
		}
		out[i] = schema.Field{ID: f.ID, Name: f.Name, Origin: origins[f.ID], Type: t, Required: f.Required, Doc: f.Doc}
	}
	return out, nil
}

func typeFromIceberg(t iceberg.Type, origins map[int]string) (schema.Type, error) {
	switch t := t.(type) {
	case iceberg.DecimalType:
		return schema.Type{Kind: schema.Decimal, Precision: t.Precision(), Scale: t.Scale()}, nil
	case *iceberg.StructType:
		fields, err := fieldsFromIceberg(t.FieldList, origins)
		return schema.Type{Kind: schema.Struct, Fields: fields}, err
	case *iceberg.ListType:
		element, err := typeFromIceberg(t.Element, origins)
		return schema.Type{Kind: schema.List, Element: &schema.Field{ID: t.ElementID, Name: schema.ElementName, Type: element,
			Required: t.ElementRequired}}, err
	case *iceberg.MapType:
		key, err := typeFromIceberg(t.KeyType, origins)
		if err != nil {
			return schema.Type{}, err
		}
		value, err := typeFromIceberg(t.ValueType, origins)
		return schema.Type{Kind: schema.Map, Key: &schema.Field{ID: t.KeyID, Name: "key", Type: key, Required: true},
			Element: &schema.Field{ID: t.ValueID, Name: "value", Type: value, Required: t.ValueRequired}}, err
	}
	for kind, known := range primitives {
		if known.Equals(t) {
			return schema.Type{Kind: kind}, nil
		}
	}
	return schema.Type{}, fmt.Errorf("type %s is not known here", t)
}

// nameMapping writes the table property by which readers find columns by name: the legal name and the one in the source
// (Iceberg specification, "Column Projection").
func nameMapping(s schema.Schema) (string, error) {
	text, err := json.Marshal(mappedFields(s.Fields))
	return string(text), err
}

func mappedFields(fields []schema.Field) []iceberg.MappedField {
	out := make([]iceberg.MappedField, len(fields))
	for i, f := range fields {
		id := f.ID
		m := iceberg.MappedField{FieldID: &id, Names: []string{f.Name}}
		if f.Origin != "" {
			m.Names = append(m.Names, f.Origin)
		}
		m.Fields = mappedFields(f.Type.Fields)
		for _, part := range []*schema.Field{f.Type.Key, f.Type.Element} {
			if part != nil {
				m.Fields = append(m.Fields, mappedFields([]schema.Field{*part})...)
			}
		}
		out[i] = m
	}
	return out
}

// origins reads the names in the source out of a table's name mapping: the second name of a field.
func origins(mapping iceberg.NameMapping) map[int]string {
	out := map[int]string{}
	var visit func([]iceberg.MappedField)
	visit = func(fields []iceberg.MappedField) {
		for _, f := range fields {
			if f.FieldID != nil && len(f.Names) > 1 {
				out[*f.FieldID] = f.Names[1]
			}
			visit(f.Fields)
		}
	}
	visit(mapping)
	return out
}

// firstPartitionID is where the specification lets the ids of partition fields begin.
const firstPartitionID = 1000

// specToIceberg gives a partitioning the library's form.
func specToIceberg(spec layout.Spec, s schema.Schema) *iceberg.PartitionSpec {
	if len(spec) == 0 {
		return iceberg.UnpartitionedSpec
	}
	var fields []iceberg.PartitionField
	for i, t := range spec {
		fields = append(fields, iceberg.PartitionField{SourceIDs: []int{s.IDOf(t.Column)}, FieldID: firstPartitionID + i,
			Name: t.FieldName(), Transform: transformToIceberg(t)})
	}
	out := iceberg.NewPartitionSpec(fields...)
	return &out
}

// sortToIceberg gives a sort order the library's form.
func sortToIceberg(sort layout.Sort, s schema.Schema) (icetable.SortOrder, error) {
	if len(sort) == 0 {
		return icetable.UnsortedSortOrder, nil
	}
	var fields []icetable.SortField
	for _, f := range sort {
		field := icetable.SortField{SourceIDs: []int{s.IDOf(f.Column)}, Transform: iceberg.IdentityTransform{},
			Direction: icetable.SortASC, NullOrder: icetable.NullsFirst}
		if f.Descending {
			field.Direction = icetable.SortDESC
		}
		if f.NullsLast {
			field.NullOrder = icetable.NullsLast
		}
		fields = append(fields, field)
	}
	return icetable.NewSortOrder(1, fields)
}

// sortFromIceberg reads a table's sort order, as far as it goes by columns as they are.
func sortFromIceberg(order icetable.SortOrder, s *iceberg.Schema) layout.Sort {
	var out layout.Sort
	for _, f := range order.Fields() {
		column, ok := s.FindColumnName(f.SourceID())
		if _, identity := f.Transform.(iceberg.IdentityTransform); !ok || !identity {
			return out
		}
		out = append(out, layout.SortField{Column: column, Descending: f.Direction == icetable.SortDESC,
			NullsLast: f.NullOrder == icetable.NullsLast})
	}
	return out
}

func transformToIceberg(t layout.Transform) iceberg.Transform {
	switch t.Name {
	case "year":
		return iceberg.YearTransform{}
	case "month":
		return iceberg.MonthTransform{}
	case "day":
		return iceberg.DayTransform{}
	case "hour":
		return iceberg.HourTransform{}
	case "bucket":
		return iceberg.BucketTransform{NumBuckets: t.Width}
	case "truncate":
		return iceberg.TruncateTransform{Width: t.Width}
	}
	return iceberg.IdentityTransform{}
}

// specFromIceberg reads a table's partitioning.
func specFromIceberg(spec iceberg.PartitionSpec, s *iceberg.Schema) (layout.Spec, error) {
	var out layout.Spec
	for _, f := range spec.Fields() {
		column, ok := s.FindColumnName(f.SourceID())
		if !ok {
			return nil, fault.New(fault.Schema, "partition field %q is made of a column that is gone", f.Name)
		}
		t := layout.Transform{Column: column, As: f.Name}
		switch transform := f.Transform.(type) {
		case iceberg.VoidTransform:
			continue
		case iceberg.BucketTransform:
			t.Name, t.Width = "bucket", transform.NumBuckets
		case iceberg.TruncateTransform:
			t.Name, t.Width = "truncate", transform.Width
		default:
			t.Name = transform.String()
		}
		out = append(out, t)
	}
	return out, nil
}
