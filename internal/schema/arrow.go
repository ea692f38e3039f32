package schema

import (
	"fmt"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/extensions"
)

// FieldIDKey is the metadata key under which Parquet writers and readers keep a field's id.
const FieldIDKey = "PARQUET:field_id"

// ElementName is the name of a list's element field, as the Parquet specification's LIST annotation wants it.
const ElementName = "element"

// KeyName and ValueName are the names of a map's parts (Parquet specification, "Maps").
const (
	KeyName   = "key"
	ValueName = "value"
)

// Arrow returns the schema of the record batches that hold this schema's columns. Timestamps and times are in microseconds;
// field ids travel in the metadata.
func (s Schema) Arrow() *arrow.Schema {
	return arrow.NewSchema(arrowFields(s.Fields), nil)
}

func arrowFields(fields []Field) []arrow.Field {
	out := make([]arrow.Field, len(fields))
	for i, f := range fields {
		out[i] = arrowField(f)
	}
	return out
}

func arrowField(f Field) arrow.Field {
	out := arrow.Field{Name: f.Name, Type: f.Type.Arrow(), Nullable: !f.Required}
	if f.ID > 0 {
		out.Metadata = arrow.NewMetadata([]string{FieldIDKey}, []string{strconv.Itoa(f.ID)})
	}
	return out
}

// Arrow returns the type's form in a record batch.
func (t Type) Arrow() arrow.DataType {
	switch t.Kind {
	case Boolean:
		return arrow.FixedWidthTypes.Boolean
	case Int:
		return arrow.PrimitiveTypes.Int32
	case Long:
		return arrow.PrimitiveTypes.Int64
	case Float:
		return arrow.PrimitiveTypes.Float32
	case Double:
		return arrow.PrimitiveTypes.Float64
	case Decimal:
		return &arrow.Decimal128Type{Precision: int32(t.Precision), Scale: int32(t.Scale)}
	case Date:
		return arrow.FixedWidthTypes.Date32
	case Time:
		return arrow.FixedWidthTypes.Time64us
	case Timestamp:
		return &arrow.TimestampType{Unit: arrow.Microsecond}
	case TimestampTz:
		return arrow.FixedWidthTypes.Timestamp_us
	case TimestampNs:
		return &arrow.TimestampType{Unit: arrow.Nanosecond}
	case TimestampTzNs:
		return arrow.FixedWidthTypes.Timestamp_ns
	case UUID:
		return &arrow.FixedSizeBinaryType{ByteWidth: 16}
	case Binary:
		return arrow.BinaryTypes.Binary
	case Struct:
		return arrow.StructOf(arrowFields(t.Fields)...)
	case List:
		return arrow.ListOfField(arrowField(*t.Element))
	case Map:
		key, value := arrowField(*t.Key), arrowField(*t.Element)
		return arrow.MapOfFields(key, value)
	}
	return arrow.BinaryTypes.String
}

// FromArrow reads the schema of a columnar file. Types that tables have no form for are refused by name.
func FromArrow(s *arrow.Schema) (Schema, error) {
	fields, err := fromArrowFields(s.Fields())
	return Schema{Fields: fields}, err
}

func fromArrowFields(fields []arrow.Field) ([]Field, error) {
	out := make([]Field, len(fields))
	for i, f := range fields {
		var err error
		if out[i], err = fromArrowField(f); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func fromArrowField(f arrow.Field) (Field, error) {
	t, err := typeFromArrow(f.Type)
	if err != nil {
		return Field{}, fmt.Errorf("column %q: %w", f.Name, err)
	}
	out := Field{Name: f.Name, Type: t, Required: !f.Nullable}
	if text, ok := f.Metadata.GetValue(FieldIDKey); ok {
		if id, err := strconv.Atoi(text); err == nil && id > 0 {
			out.ID = id
		}
	}
	return out, nil
}

func typeFromArrow(dt arrow.DataType) (Type, error) {
	switch dt := dt.(type) {
	case *arrow.BooleanType:
		return Type{Kind: Boolean}, nil
	case *arrow.Int8Type, *arrow.Int16Type, *arrow.Int32Type, *arrow.Uint8Type, *arrow.Uint16Type:
		return Type{Kind: Int}, nil
	case *arrow.Int64Type, *arrow.Uint32Type:
		return Type{Kind: Long}, nil
	case *arrow.Float16Type, *arrow.Float32Type:
		return Type{Kind: Float}, nil
	case *arrow.Float64Type:
		return Type{Kind: Double}, nil
	case arrow.DecimalType:
		return Type{Kind: Decimal, Precision: int(dt.GetPrecision()), Scale: int(dt.GetScale())}, nil
	case *arrow.Date32Type, *arrow.Date64Type:
		return Type{Kind: Date}, nil
	case *arrow.Time32Type, *arrow.Time64Type:
		return Type{Kind: Time}, nil
	case *arrow.TimestampType:
		if dt.TimeZone != "" {
			return Type{Kind: TimestampTz}, nil
		}
		return Type{Kind: Timestamp}, nil
	case *arrow.DictionaryType:
		return typeFromArrow(dt.ValueType)
	case *arrow.Uint64Type:
		return Type{Kind: Decimal, Precision: 20}, nil
	case *arrow.StringType, *arrow.LargeStringType, *arrow.StringViewType, *arrow.NullType:
		return Type{Kind: String}, nil
	case *extensions.UUIDType:
		return Type{Kind: UUID}, nil
	case *arrow.FixedSizeBinaryType:
		return Type{Kind: Binary}, nil
	case *arrow.BinaryType, *arrow.LargeBinaryType, *arrow.BinaryViewType:
		return Type{Kind: Binary}, nil
	case *arrow.StructType:
		fields, err := fromArrowFields(dt.Fields())
		return Type{Kind: Struct, Fields: fields}, err
	case *arrow.MapType:
		key, err := fromArrowField(dt.KeyField())
		if err != nil {
			return Type{}, err
		}
		value, err := fromArrowField(dt.ItemField())
		return Type{Kind: Map, Key: &key, Element: &value}, err
	case arrow.ListLikeType:
		element, err := fromArrowField(dt.ElemField())
		return Type{Kind: List, Element: &element}, err
	}
	return Type{}, fmt.Errorf("type %s has no counterpart in a table", dt)
}
