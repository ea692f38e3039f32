package columnar

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// avroWriter writes Avro object container files; the encoding is the library's.
type avroWriter struct {
	sink    *countingWriter
	encoder *ocf.Encoder
	fields  []*avroField
	rows    int64
}

// avroField is a field with what the library wants to know of it besides its schema.
type avroField struct {
	schema.Field
	name  string
	union string // name of the type in the union with null, empty for a field that has none
	parts []*avroField
}

func newAvroWriter(w io.Writer, s schema.Schema, codec Codec) (*avroWriter, error) {
	names := 0
	record, _, fields := avroRecord("row", s.Fields, &names)
	text, err := json.Marshal(record)
	if err != nil {
		return nil, err
	}
	parsed, err := avro.Parse(string(text))
	if err != nil {
		return nil, fmt.Errorf("the schema has no Avro form: %w", err)
	}
	packing, ok := map[string]ocf.CodecName{"none": ocf.Null, "snappy": ocf.Snappy, "zstd": ocf.ZStandard, "gzip": ocf.Deflate}[codec.name()]
	if !ok {
		return nil, fmt.Errorf("Avro files are not written with %s; they take zstd, snappy, gzip or none", codec.name())
	}
	out := &avroWriter{sink: &countingWriter{w: w}, fields: fields}
	out.encoder, err = ocf.NewEncoderWithSchema(parsed, out.sink, ocf.WithCodec(packing), ocf.WithBlockLength(avroBlockRows))
	return out, err
}

// avroBlockRows is how many rows a block of an Avro file has.
const avroBlockRows = 4096

// avroRecord describes a struct (Avro specification, "Complex Types"). Names that Avro does not take are changed; the field's own stands in its
// documentation then. names counts records, whose names must differ.
func avroRecord(name string, fields []schema.Field, names *int) (described map[string]any, full string, of []*avroField) {
	*names++
	full = fmt.Sprintf("%s_%d", name, *names)
	list := []map[string]any{}
	for _, f := range fields {
		t, part := avroType(f, names)
		field := map[string]any{"name": part.name, "type": t}
		if part.union != "" {
			field["default"] = nil
		}
		if part.name != f.Name {
			field["doc"] = f.Name
		}
		list, of = append(list, field), append(of, part)
	}
	return map[string]any{"type": "record", "name": full, "fields": list}, full, of
}

// avroName makes a name of letters, digits and _ that begins with no digit.
func avroName(name string) string {
	out := strings.Map(func(r rune) rune {
		if r == '_' || r >= '0' && r <= '9' || r|0x20 >= 'a' && r|0x20 <= 'z' {
			return r
		}
		return '_'
	}, name)
	if out == "" || out[0] >= '0' && out[0] <= '9' {
		out = "_" + out
	}
	return out
}

// avroPrimitives are the types that have no parts, with their logical types.
var avroPrimitives = map[schema.Kind][2]string{schema.Boolean: {"boolean"}, schema.Int: {"int"}, schema.Long: {"long"}, schema.Float: {"float"}, schema.Double: {"double"},
	schema.Date: {"int", "date"}, schema.Time: {"long", "time-micros"}, schema.Timestamp: {"long", "local-timestamp-micros"}, schema.TimestampTz: {"long", "timestamp-micros"},
	schema.UUID: {"string", "uuid"}, schema.Binary: {"bytes"}, schema.String: {"string"}, schema.Decimal: {"bytes", "decimal"}}

// avroType describes a field; one that may be null is a union with null.
func avroType(f schema.Field, names *int) (t any, of *avroField) {
	of = &avroField{Field: f, name: avroName(f.Name)}
	union := ""
	switch f.Type.Kind {
	case schema.Struct:
		t, union, of.parts = avroRecord(of.name, f.Type.Fields, names)
	case schema.List:
		items, part := avroType(*f.Type.Element, names)
		t, union, of.parts = map[string]any{"type": "array", "items": items}, "array", []*avroField{part}
	case schema.Map:
		values, part := avroType(*f.Type.Element, names)
		t, union, of.parts = map[string]any{"type": "map", "values": values}, "map", []*avroField{part}
	default:
		base := avroPrimitives[f.Type.Kind]
		t, union = base[0], base[0]
		if base[1] != "" {
			described := map[string]any{"type": base[0], "logicalType": base[1]}
			if f.Type.Kind == schema.Decimal {
				described["precision"], described["scale"] = f.Type.Precision, f.Type.Scale
			}
			t, union = described, base[0]+"."+base[1]
		}
	}
	if f.Required {
		return t, of
	}
	of.union = union
	return []any{"null", t}, of
}

func (a *avroWriter) Write(ctx context.Context, batch arrow.RecordBatch) error {
	for row := range int(batch.NumRows()) {
		if row%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		record := make(map[string]any, len(a.fields))
		for c, f := range a.fields {
			record[f.name] = f.value(batch.Column(c), row)
		}
		if err := a.encoder.Encode(record); err != nil {
			return err
		}
	}
	a.rows += batch.NumRows()
	return nil
}

// value gives a value the form that the library encodes: one of a union goes by the name of its type.
func (f *avroField) value(a arrow.Array, row int) any {
	if a.IsNull(row) {
		return nil
	}
	if f.union != "" {
		return map[string]any{f.union: f.there(a, row)}
	}
	return f.there(a, row)
}

// there is value for one that is not null.
func (f *avroField) there(a arrow.Array, row int) any {
	switch a := a.(type) {
	case *array.Boolean:
		return a.Value(row)
	case *array.Int32:
		return int(a.Value(row))
	case *array.Int64:
		return a.Value(row)
	case *array.Float32:
		return a.Value(row)
	case *array.Float64:
		return a.Value(row)
	case *array.String:
		return a.Value(row)
	case *array.Binary:
		return a.Value(row)
	case *array.FixedSizeBinary:
		return string(rowtext.AppendUUID(nil, a.Value(row)))
	case *array.Date32:
		return a.Value(row).ToTime()
	case *array.Time64:
		return time.Duration(a.Value(row)) * time.Microsecond
	case *array.Timestamp:
		return time.UnixMicro(int64(a.Value(row))).UTC()
	case *array.Decimal128:
		scale := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(f.Type.Scale)), nil)
		return new(big.Rat).SetFrac(a.Value(row).BigInt(), scale)
	case *array.Struct:
		out := make(map[string]any, len(f.Type.Fields))
		for i, part := range f.parts {
			out[part.name] = part.value(a.Field(i), row)
		}
		return out
	case *array.Map:
		start, end := a.ValueOffsets(row)
		out := make(map[string]any, end-start)
		for i := int(start); i < int(end); i++ {
			out[a.Keys().(*array.String).Value(i)] = f.parts[0].value(a.Items(), i)
		}
		return out
	case *array.List:
		start, end := a.ValueOffsets(row)
		out := make([]any, 0, end-start)
		for i := int(start); i < int(end); i++ {
			out = append(out, f.parts[0].value(a.ListValues(), i))
		}
		return out
	}
	return a.ValueStr(row)
}

func (a *avroWriter) EndRowGroup() error { return nil }

func (a *avroWriter) Pending() int64 { return 0 }

func (a *avroWriter) Written() int64 { return a.sink.n }

func (a *avroWriter) Close() (*Summary, error) {
	if err := a.encoder.Close(); err != nil {
		return nil, err
	}
	return &Summary{Rows: a.rows, Bytes: a.sink.n, Columns: map[int]*Metrics{}}, nil
}
