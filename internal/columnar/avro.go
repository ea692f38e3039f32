package columnar

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/magic"
	"trevak/internal/schema"
)

// avroWriter writes Avro object container files (Avro specification, "Object Container Files").
type avroWriter struct {
	sink   *countingWriter
	fields []*avroField
	pack   func(block []byte) ([]byte, error)
	sync   [16]byte
	// block are the rows of the block to come, waiting how many.
	block   avroRow
	waiting int64
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
	pack, err := avroPacker(codec)
	if err != nil {
		return nil, err
	}
	packing := avroCodecs[codec.name()]
	sum := sha256.Sum256(append(slices.Clone(text), packing...))
	out := &avroWriter{sink: &countingWriter{w: w}, fields: fields, pack: pack, sync: [16]byte(sum[:])}
	header := avroRow{[]byte(magic.Avro)}
	header.long(2)
	header.text("avro.codec")
	header.text(packing)
	header.text("avro.schema")
	header.bytes(text)
	header.long(0)
	_, err = out.sink.Write(append(header.b, out.sync[:]...))
	return out, err
}

// flush writes the rows that wait as a block.
func (a *avroWriter) flush() error {
	if a.waiting == 0 {
		return nil
	}
	packed, err := a.pack(a.block.b)
	if err != nil {
		return err
	}
	var head avroRow
	head.long(a.waiting)
	head.long(int64(len(packed)))
	a.waiting, a.block.b = 0, a.block.b[:0]
	for _, part := range [][]byte{head.b, packed, a.sync[:]} {
		if _, err := a.sink.Write(part); err != nil {
			return err
		}
	}
	return nil
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
		for _, encode := range columns {
			encode(&a.block, row)
		}
		if a.waiting++; a.waiting == avroBlockRows {
			if err := a.flush(); err != nil {
				return err
			}
		}
	}
	a.rows += batch.NumRows()
	return nil
}

func (a *avroWriter) EndRowGroup() error { return nil }

func (a *avroWriter) Pending() int64 { return 0 }

func (a *avroWriter) Written() int64 { return a.sink.n }

func (a *avroWriter) Close() (*Summary, error) {
	if err := a.flush(); err != nil {
		return nil, err
	}
	return &Summary{Rows: a.rows, Bytes: a.sink.n, Columns: map[int]*Metrics{}}, nil
}
