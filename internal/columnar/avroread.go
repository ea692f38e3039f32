package columnar

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/big"
	"os"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// avroFile is an Avro object container file. The library decodes it; columns are made here.
type avroFile struct {
	disk *os.File
	tree *arrow.Schema
	root *avroNode
}

// avroNode is a field of an Avro schema with what it becomes.
type avroNode struct {
	schema.Field
	parts []*avroNode
	// branch is the name that the library wraps values of a union in.
	branch string
}

func openAvro(disk *os.File) (rowReader, error) {
	a := &avroFile{disk: disk}
	d, err := a.decoder()
	if err != nil {
		return nil, err
	}
	record, ok := d.Schema().(*avro.RecordSchema)
	if !ok {
		return nil, fmt.Errorf("its values are of the type %s, not records", d.Schema().Type())
	}
	a.root = &avroNode{}
	if a.root.Type, a.root.parts, err = avroFields(record, 0); err != nil {
		return nil, err
	}
	a.tree = schema.Schema{Fields: a.root.Type.Fields}.Arrow()
	return a, nil
}

// decoder begins a reading of the whole file.
func (a *avroFile) decoder() (*ocf.Decoder, error) {
	if _, err := a.disk.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	return ocf.NewDecoder(bufio.NewReaderSize(a.disk, 1<<20), ocf.WithDecoderConfig(avroLimits))
}

// avroLimits bound what a damaged file can make the library ask for: bytes of one value, and elements of one list.
var avroLimits = avro.Config{MaxByteSliceSize: 256 << 20, MaxSliceAllocSize: 16 << 20}.Freeze()

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
		t.Fields, parts = append(t.Fields, n.Field), append(parts, n)
	}
	return t, parts, nil
}

// avroNodeOf tells what a field becomes. A union of null and one type is a field that may be null; other unions become text.
func avroNodeOf(name string, s avro.Schema, depth int) (n *avroNode, err error) {
	n = &avroNode{Field: schema.Field{Name: name, Required: true}}
	if union, ok := s.(*avro.UnionSchema); ok {
		n.Required = false
		var others []avro.Schema
		for _, branch := range union.Types() {
			if branch.Type() != avro.Null {
				others = append(others, branch)
			}
		}
		if len(others) != 1 {
			n.Type.Kind = schema.String
			return n, nil
		}
		s = others[0]
		n.branch = avroBranch(s)
	}
	if ref, ok := s.(*avro.RefSchema); ok {
		s = ref.Schema()
	}
	switch s := s.(type) {
	case *avro.RecordSchema:
		n.Type, n.parts, err = avroFields(s, depth)
	case *avro.ArraySchema:
		part, err := avroNodeOf(schema.ElementName, s.Items(), depth+1)
		if err != nil {
			return nil, err
		}
		n.Type, n.parts = schema.Type{Kind: schema.List, Element: &part.Field}, []*avroNode{part}
	case *avro.MapSchema:
		part, err := avroNodeOf(schema.ValueName, s.Values(), depth+1)
		if err != nil {
			return nil, err
		}
		n.Type = schema.Type{Kind: schema.Map, Key: &schema.Field{Name: schema.KeyName, Type: schema.Type{Kind: schema.String}, Required: true}, Element: &part.Field}
		n.parts = []*avroNode{part}
	default:
		n.Type = avroScalar(s)
	}
	return n, err
}

// avroBranch returns the name that the library gives a branch of a union.
func avroBranch(s avro.Schema) string {
	if named, ok := s.(avro.NamedSchema); ok {
		return named.FullName()
	}
	if logical, ok := s.(avro.LogicalTypeSchema); ok && logical.Logical() != nil {
		return string(s.Type()) + "." + string(logical.Logical().Type())
	}
	return string(s.Type())
}

var avroKinds = map[avro.Type]schema.Kind{avro.Boolean: schema.Boolean, avro.Int: schema.Int, avro.Long: schema.Long, avro.Float: schema.Float, avro.Double: schema.Double,
	avro.Bytes: schema.Binary, avro.Fixed: schema.Binary}

var avroLogical = map[avro.LogicalType]schema.Kind{avro.Date: schema.Date, avro.TimeMillis: schema.Time, avro.TimeMicros: schema.Time, avro.TimestampMillis: schema.TimestampTz,
	avro.TimestampMicros: schema.TimestampTz, avro.LocalTimestampMillis: schema.Timestamp, avro.LocalTimestampMicros: schema.Timestamp, avro.UUID: schema.UUID}

func avroScalar(s avro.Schema) schema.Type {
	if logical, ok := s.(avro.LogicalTypeSchema); ok && logical.Logical() != nil {
		if d, ok := logical.Logical().(*avro.DecimalLogicalSchema); ok && d.Precision() <= 38 {
			return schema.Type{Kind: schema.Decimal, Precision: d.Precision(), Scale: d.Scale()}
		}
		if kind, ok := avroLogical[logical.Logical().Type()]; ok {
			return schema.Type{Kind: kind}
		}
	}
	if kind, ok := avroKinds[s.Type()]; ok {
		return schema.Type{Kind: kind}
	}
	return schema.Type{Kind: schema.String}
}

func (a *avroFile) schema() *arrow.Schema { return a.tree }

func (a *avroFile) format() string { return "Avro" }

func (a *avroFile) rows() int64 { return -1 }

func (a *avroFile) batches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	d, err := a.decoder()
	if err != nil {
		return err
	}
	build := array.NewRecordBuilder(memory.DefaultAllocator, a.tree)
	rows := 0
	for d.HasNext() {
		var record map[string]any
		if err := d.Decode(&record); err != nil {
			return fmt.Errorf("record %d: %w", rows+1, err)
		}
		for i, part := range a.root.parts {
			if err := part.append(build.Field(i), record[part.Name]); err != nil {
				return fmt.Errorf("record %d: %w", rows+1, err)
			}
		}
		if rows++; rows%batchRows == 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := emit(build.NewRecordBatch()); err != nil {
				return err
			}
		}
	}
	if err := d.Error(); err != nil {
		return err
	}
	if rows%batchRows == 0 {
		return nil
	}
	return emit(build.NewRecordBatch())
}

// append adds a decoded value to a column.
func (n *avroNode) append(b array.Builder, v any) error {
	if wrapped, ok := v.(map[string]any); ok && n.branch != "" && len(wrapped) == 1 {
		if inner, ok := wrapped[n.branch]; ok {
			v = inner
		}
	}
	if v == nil {
		b.AppendNull()
		return nil
	}
	switch b := b.(type) {
	case *array.StructBuilder:
		if members, ok := v.(map[string]any); ok {
			b.Append(true)
			for i, part := range n.parts {
				if err := part.append(b.FieldBuilder(i), members[part.Name]); err != nil {
					return err
				}
			}
			return nil
		}
	case *array.MapBuilder:
		if members, ok := v.(map[string]any); ok {
			b.Append(true)
			for _, key := range slices.Sorted(maps.Keys(members)) {
				b.KeyBuilder().(*array.StringBuilder).Append(key)
				if err := n.parts[0].append(b.ItemBuilder(), members[key]); err != nil {
					return err
				}
			}
			return nil
		}
	case *array.ListBuilder:
		if elements, ok := v.([]any); ok {
			b.Append(true)
			for _, e := range elements {
				if err := n.parts[0].append(b.ValueBuilder(), e); err != nil {
					return err
				}
			}
			return nil
		}
	default:
		if appendAvro(b, v) {
			return nil
		}
	}
	return fmt.Errorf("column %q: a value of the type %T is no %s", n.Name, v, n.Type)
}

// appendAvro adds a value that has no parts, and reports whether it is one of the column's type.
func appendAvro(b array.Builder, v any) bool {
	switch b := b.(type) {
	case *array.BooleanBuilder:
		if v, ok := v.(bool); ok {
			b.Append(v)
			return true
		}
	case *array.Int32Builder:
		if v, ok := v.(int); ok {
			b.Append(int32(v))
			return true
		}
	case *array.Int64Builder:
		if v, ok := v.(int64); ok {
			b.Append(v)
			return true
		}
	case *array.Float32Builder:
		if v, ok := v.(float32); ok {
			b.Append(v)
			return true
		}
	case *array.Float64Builder:
		if v, ok := v.(float64); ok {
			b.Append(v)
			return true
		}
	case *array.Date32Builder:
		if v, ok := v.(time.Time); ok {
			b.Append(arrow.Date32FromTime(v))
			return true
		}
	case *array.Time64Builder:
		if v, ok := v.(time.Duration); ok {
			b.Append(arrow.Time64(v.Microseconds()))
			return true
		}
	case *array.TimestampBuilder:
		if v, ok := v.(time.Time); ok {
			if b.Type().(*arrow.TimestampType).TimeZone == "" {
				// What the clock shows counts, wherever the library takes it to hang.
				v = time.Date(v.Year(), v.Month(), v.Day(), v.Hour(), v.Minute(), v.Second(), v.Nanosecond(), time.UTC)
			}
			b.Append(arrow.Timestamp(v.UnixMicro()))
			return true
		}
	case *array.Decimal128Builder:
		return appendAvroDecimal(b, v)
	case *array.FixedSizeBinaryBuilder:
		if v, ok := v.(string); ok {
			id, ok := lexical.StatedUUID([]byte(v))
			if ok {
				b.Append(id[:])
			}
			return ok
		}
	case *array.BinaryBuilder:
		if v, ok := v.([]byte); ok {
			b.Append(v)
			return true
		}
	case *array.StringBuilder:
		if v, ok := v.(string); ok {
			b.Append(v)
			return true
		}
		text, err := json.Marshal(v)
		b.Append(string(text))
		return err == nil
	}
	return false
}

func appendAvroDecimal(b *array.Decimal128Builder, v any) bool {
	r, ok := v.(*big.Rat)
	if !ok {
		return false
	}
	scale := b.Type().(*arrow.Decimal128Type).Scale
	whole := new(big.Rat).Mul(r, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil)))
	if !whole.IsInt() || whole.Num().BitLen() > 127 {
		return false
	}
	b.Append(decimal128.FromBigInt(whole.Num()))
	return true
}
