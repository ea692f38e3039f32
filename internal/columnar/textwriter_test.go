package columnar

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/schema"
)

// textFile writes batches in a format of text.
func textFile(t *testing.T, s schema.Schema, format Format, batches ...arrow.RecordBatch) string {
	t.Helper()
	var out bytes.Buffer
	w, err := NewFile(&out, s, Options{Format: format})
	if err != nil {
		t.Fatal(err)
	}
	var rows int64
	for _, b := range batches {
		if err := w.Write(t.Context(), b); err != nil {
			t.Fatal(err)
		}
		rows += b.NumRows()
	}
	summary, err := w.Close()
	if err != nil || summary.Rows != rows || summary.Bytes != int64(out.Len()) || w.Written() != summary.Bytes {
		t.Fatalf("%+v, %v; %d bytes were written", summary, err, out.Len())
	}
	return out.String()
}

// flat is a schema of all types without parts.
func flat() schema.Schema {
	s := schema.Schema{}
	for i, k := range []schema.Kind{schema.Boolean, schema.Int, schema.Long, schema.Double, schema.Decimal, schema.Date, schema.Time,
		schema.Timestamp, schema.TimestampTz, schema.String, schema.UUID, schema.Binary} {
		s.Fields = append(s.Fields, schema.Field{Name: fmt.Sprint("c", i), Type: schema.Type{Kind: k}})
	}
	s.Fields[4].Type.Precision, s.Fields[4].Type.Scale = 9, 2
	s.AssignIDs()
	return s
}

// TestDelimitedFilesReadBack has the standard library read what was written: the same texts, in as many records.
func TestDelimitedFilesReadBack(t *testing.T) {
	s := flat()
	for seed := range int64(20) {
		random := rand.New(rand.NewSource(seed))
		batches := []arrow.RecordBatch{randomBatch(random, s, 60), randomBatch(random, s, 60)}
		for format, delimiter := range map[Format]rune{CSV: ',', TSV: '\t'} {
			r := csv.NewReader(strings.NewReader(textFile(t, s, format, batches...)))
			r.Comma = delimiter
			records, err := r.ReadAll()
			if err != nil {
				t.Fatal(err)
			}
			if len(records) != 1+int(batches[0].NumRows()+batches[1].NumRows()) || records[0][0] != "c0" {
				t.Fatalf("seed %d, %s: %d records", seed, format, len(records))
			}
			for i, record := range records[1:] {
				b, row := batches[0], i
				if row >= int(b.NumRows()) {
					b, row = batches[1], row-int(b.NumRows())
				}
				for c, text := range record {
					column := b.Column(c)
					want := ""
					if column.IsValid(row) {
						want = plainly(column, row)
					}
					if text != want {
						t.Fatalf("seed %d, %s, row %d: column %s is %q, want %q", seed, format, i, s.Fields[c].Type, text, want)
					}
				}
			}
		}
	}
}

// plainly writes a value as the library does, but for types that it writes in another way than a file of text has them.
func plainly(column arrow.Array, row int) string {
	text := column.ValueStr(row)
	switch a := column.(type) {
	case *array.Timestamp:
		at := a.Value(row).ToTime(arrow.Microsecond)
		text = at.Format("2006-01-02T15:04:05.999999")
		if a.DataType().(*arrow.TimestampType).TimeZone != "" {
			text += "Z"
		}
	case *array.Time64:
		text = a.Value(row).ToTime(arrow.Microsecond).Format("15:04:05.999999")
	case *array.Decimal128:
		text = a.Value(row).ToString(2)
	case *array.FixedSizeBinary:
		v := a.Value(row)
		text = fmt.Sprintf("%x-%x-%x-%x-%x", v[:4], v[4:6], v[6:8], v[8:10], v[10:])
	case *array.Binary:
		text = base64.StdEncoding.EncodeToString(a.Value(row))
	}
	return text
}

// TestJSONLinesReadBack has the standard library read every line: an object with every column, null where there is no value.
func TestJSONLinesReadBack(t *testing.T) {
	s := flat()
	batch := randomBatch(rand.New(rand.NewSource(4)), s, 300)
	lines := strings.Split(strings.TrimSuffix(textFile(t, s, JSONLines, batch), "\n"), "\n")
	if int64(len(lines)) != batch.NumRows() {
		t.Fatalf("%d lines of %d rows", len(lines), batch.NumRows())
	}
	for row, line := range lines {
		var object map[string]any
		if err := json.Unmarshal([]byte(line), &object); err != nil || len(object) != len(s.Fields) {
			t.Fatalf("%s: %v", line, err)
		}
		for c, f := range s.Fields {
			if (object[f.Name] == nil) != batch.Column(c).IsNull(row) {
				t.Errorf("line %d: %s is %v", row, f.Type, object[f.Name])
			}
			if text, ok := object[f.Name].(string); ok && f.Type.Kind != schema.Double && text != plainly(batch.Column(c), row) {
				t.Errorf("line %d: %s is %q, want %q", row, f.Type, text, plainly(batch.Column(c), row))
			}
		}
	}
}

func TestFilesWithoutRows(t *testing.T) {
	s := flat()
	for format, want := range map[Format]string{CSV: "c0,c1,c2,c3,c4,c5,c6,c7,c8,c9,c10,c11\n",
		TSV: "c0\tc1\tc2\tc3\tc4\tc5\tc6\tc7\tc8\tc9\tc10\tc11\n", JSONLines: ""} {
		if got := textFile(t, s, format); got != want {
			t.Errorf("%s: %q", format, got)
		}
	}
}
