package columnar

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"
	"github.com/klauspost/compress/zstd"

	"trevak/internal/magic"
	"trevak/internal/schema"
)

// avroWriter writes Avro object container files: rows are encoded here, blocks and codecs are the library's.
type avroWriter struct {
	sink    *countingWriter
	encoder *ocf.Encoder
	fields  []*avroField
	row     *avro.Writer
	rows    int64
}

// avroField is a field with what is to be known of it besides its schema.
type avroField struct {
	schema.Field
	name  string
	parts []*avroField
}

func newAvroWriter(w io.Writer, s schema.Schema, codec Codec) (*avroWriter, error) {
	names := 0
	record, fields := avroRecord("row", s.Fields, &names)
	text, err := json.Marshal(record)
	if err != nil {
		return nil, err
	}
	parsed, err := avro.Parse(string(text))
	if err != nil {
		return nil, fmt.Errorf("the schema has no Avro form: %w", err)
	}
	packing, ok := map[string]ocf.CodecName{"none": ocf.Null, "snappy": ocf.Snappy, "zstd": ocf.ZStandard,
		"gzip": ocf.Deflate}[codec.name()]
	if !ok {
		return nil, fmt.Errorf("Avro files are not written with %s; they take zstd, snappy, gzip or none", codec.name())
	}
	out := &avroWriter{sink: &countingWriter{w: w}, fields: fields, row: avro.NewWriter(nil, 1<<10)}
	sync := sha256.Sum256(append(text, packing...))
	options := []ocf.EncoderFunc{ocf.WithBlockLength(avroBlockRows), ocf.WithSyncBlock([16]byte(sync[:]))}
	if level := codec.level(); level != compress.DefaultCompressionLevel {
		options = append(options, ocf.WithCompressionLevel(level),
			ocf.WithZStandardEncoderOptions(zstd.WithEncoderLevel(zstd.EncoderLevelFromZstd(level))))
	}
	// The codec comes last: to state a level states deflate too.
	options = append(options, ocf.WithCodec(packing))
	header := &avroHeader{sink: out.sink, schema: text, codec: packing, sync: [16]byte(sync[:])}
	if out.encoder, err = ocf.NewEncoderWithSchema(parsed, header, options...); err != nil {
		return nil, err
	}
	return out, header.write()
}

// avroHeader writes the header of a file in place of the library, whose own has its entries in any order and the schema without
// documentation. What is written before is left out.
type avroHeader struct {
	sink   io.Writer
	schema []byte
	codec  ocf.CodecName
	sync   [16]byte
	past   bool
}

func (h *avroHeader) Write(b []byte) (int, error) {
	if !h.past {
		return len(b), nil
	}
	return h.sink.Write(b)
}

// write writes the header (Avro specification, "Object Container Files"), after which all goes to the file.
func (h *avroHeader) write() error {
	h.past = true
	w := avro.NewWriter(h.sink, 1<<10)
	if _, err := w.Write([]byte(magic.Avro)); err != nil {
		return err
	}
	w.WriteLong(2)
	w.WriteString("avro.codec")
	w.WriteString(string(h.codec))
	w.WriteString("avro.schema")
	w.WriteBytes(h.schema)
	w.WriteLong(0)
	if _, err := w.Write(h.sync[:]); err != nil {
		return err
	}
	return w.Flush()
}

// avroBlockRows is how many rows a block of an Avro file has.
const avroBlockRows = 4096

// avroRecord describes a struct (Avro specification, "Complex Types"). Names that Avro does not take are changed; the field's
// own stands in its documentation then. names counts records, whose names must differ. Fields have their ids as the Iceberg
// specification has them (appendix A).
func avroRecord(name string, fields []schema.Field, names *int) (described map[string]any, of []*avroField) {
	*names++
	full := fmt.Sprintf("%s_%d", name, *names)
	list := []map[string]any{}
	for _, f := range fields {
		t, part := avroType(f, names)
		field := map[string]any{"name": part.name, "type": t}
		if !f.Required {
			field["default"] = nil
		}
		if part.name != f.Name {
			field["doc"] = f.Name
		}
		if f.ID > 0 {
			field["field-id"] = f.ID
		}
		list, of = append(list, field), append(of, part)
	}
	return map[string]any{"type": "record", "name": full, "fields": list}, of
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
var avroPrimitives = map[schema.Kind][2]string{schema.Boolean: {"boolean"}, schema.Int: {"int"}, schema.Long: {"long"},
	schema.Float: {"float"}, schema.Double: {"double"},
	schema.Date: {"int", "date"}, schema.Time: {"long", "time-micros"}, schema.Timestamp: {"long", "local-timestamp-micros"},
	schema.TimestampTz: {"long", "timestamp-micros"},
	schema.UUID:        {"string", "uuid"}, schema.Binary: {"bytes"}, schema.String: {"string"}, schema.Decimal: {"bytes", "decimal"}}

// avroType describes a field; one that may be null is a union with null. A map whose keys are no texts is a list of records of
// a key and a value (Iceberg specification, appendix A).
func avroType(f schema.Field, names *int) (t any, of *avroField) {
	of = &avroField{Field: f, name: avroName(f.Name)}
	switch f.Type.Kind {
	case schema.Struct:
		t, of.parts = avroRecord(of.name, f.Type.Fields, names)
	case schema.List:
		items, part := avroType(*f.Type.Element, names)
		t, of.parts = withID(map[string]any{"type": "array", "items": items}, "element-id", f.Type.Element.ID), []*avroField{part}
	case schema.Map:
		if f.Type.Key.Type.Kind != schema.String {
			entry, parts := avroRecord(of.name, []schema.Field{*f.Type.Key, *f.Type.Element}, names)
			t, of.parts = map[string]any{"type": "array", "logicalType": avroMap, "items": entry}, parts
			break
		}
		values, part := avroType(*f.Type.Element, names)
		t = withID(withID(map[string]any{"type": "map", "values": values}, "key-id", f.Type.Key.ID), "value-id", f.Type.Element.ID)
		of.parts = []*avroField{{Field: *f.Type.Key}, part}
	default:
		base := avroPrimitives[f.Type.Kind]
		t = base[0]
		if base[1] != "" {
			described := map[string]any{"type": base[0], "logicalType": base[1]}
			if f.Type.Kind == schema.Decimal {
				described["precision"], described["scale"] = f.Type.Precision, f.Type.Scale
			}
			t = described
		}
	}
	if f.Required {
		return t, of
	}
	return []any{"null", t}, of
}

// avroMap is the logical type of a list that is a map.
const avroMap = "map"

func withID(described map[string]any, key string, id int) map[string]any {
	if id > 0 {
		described[key] = id
	}
	return described
}

func (a *avroWriter) Write(ctx context.Context, batch arrow.RecordBatch) error {
	columns := make([]avroEncode, len(a.fields))
	for c, f := range a.fields {
		columns[c] = f.encoder(batch.Column(c))
	}
	for row := range int(batch.NumRows()) {
		if row%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		a.row.Reset(nil)
		for _, encode := range columns {
			encode(a.row, row)
		}
		if _, err := a.encoder.Write(a.row.Buffer()); err != nil {
			return err
		}
	}
	a.rows += batch.NumRows()
	return nil
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
