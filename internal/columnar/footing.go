package columnar

import (
	"encoding/binary"
	"math"

	"github.com/apache/arrow-go/v18/parquet"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/expr"
	"trevak/internal/schema"
)

// IsParquet reports whether the file is a Parquet file.
func (f *File) IsParquet() bool { return f.reader != nil }

// Unsigned returns the path of the first column of whole numbers without a sign that a reader who goes by the type alone would take for
// others; empty where there is none.
func (f *File) Unsigned() (path string) {
	leaf := 0
	f.Schema.Walk(func(p string, field *schema.Field) {
		if field.Type.Nested() {
			return
		}
		column := f.reader.MetaData().Schema.Column(leaf)
		if t := column.ConvertedType(); path == "" && (t == pqschema.ConvertedTypes.Uint32 || t == pqschema.ConvertedTypes.Uint64) {
			path = p
		}
		leaf++
	})
	return path
}

// Footing is the summary of a Parquet file that somebody else wrote, out of its footer. as tells for the path of a leaf column the
// field id that it goes by, 0 for none, and the type that its bounds are written as.
func (f *File) Footing(as func(path string) (id int, t schema.Type)) (*Summary, error) {
	footer := f.reader.MetaData()
	out := &Summary{Rows: footer.GetNumRows(), Bytes: f.size, Columns: map[int]*Metrics{}}
	leaf := 0
	var err error
	f.Schema.Walk(func(path string, field *schema.Field) {
		if field.Type.Nested() || err != nil {
			return
		}
		if id, t := as(path); id != 0 {
			out.Columns[id], err = f.footingOf(leaf, field.Type, t)
		}
		leaf++
	})
	for g := range footer.NumRowGroups() {
		chunk, err := footer.RowGroup(g).ColumnChunk(0)
		if err != nil {
			return nil, err
		}
		start := chunk.DataPageOffset()
		if chunk.HasDictionaryPage() {
			start = chunk.DictionaryPageOffset()
		}
		out.RowGroups = append(out.RowGroups, start)
	}
	return out, err
}

// footingOf adds up one leaf column. Where a row group does not tell its nulls or bounds, nobody does.
func (f *File) footingOf(leaf int, own, as schema.Type) (*Metrics, error) {
	footer := f.reader.MetaData()
	column := footer.Schema.Column(leaf)
	m := &Metrics{}
	bounded := column.MaxRepetitionLevel() == 0
	var low, high expr.Value
	some := false
	for g := range footer.NumRowGroups() {
		chunk, err := footer.RowGroup(g).ColumnChunk(leaf)
		if err != nil {
			return nil, err
		}
		m.Bytes += chunk.TotalCompressedSize()
		m.RawBytes += chunk.TotalUncompressedSize()
		m.Values += chunk.NumValues()
		stats, err := chunk.Statistics()
		if err != nil || stats == nil || !stats.HasNullCount() {
			m.Nulls, bounded = -1, false
			continue
		}
		if m.Nulls >= 0 {
			m.Nulls += stats.NullCount()
		}
		if stats.NullCount() == chunk.NumValues() {
			continue
		}
		a, ok := valueOf(column, own, stats.EncodeMin())
		b, ok2 := valueOf(column, own, stats.EncodeMax())
		if !stats.HasMinMax() || !ok || !ok2 {
			bounded = false
			continue
		}
		if c, ok := a.Compare(low); !some || ok && c < 0 {
			low = a
		}
		if c, ok := b.Compare(high); !some || ok && c > 0 {
			high = b
		}
		some = true
	}
	if bounded && some {
		m.Lower, m.Upper = singleValueOf(low, as), singleValueOf(high, as)
		if as.Kind == schema.String && m.Lower != nil && m.Upper != nil {
			m.shorten()
		}
	}
	return m, nil
}

// singleValueOf writes a value as one of a type in the table format's form (Iceberg specification, "Binary single-value serialization"),
// nil where it has none.
func singleValueOf(v expr.Value, t schema.Type) []byte {
	switch t.Kind {
	case schema.Int, schema.Date:
		return binary.LittleEndian.AppendUint32(nil, uint32(int32(v.Long)))
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz:
		return binary.LittleEndian.AppendUint64(nil, uint64(v.Long))
	case schema.Float:
		return binary.LittleEndian.AppendUint32(nil, math.Float32bits(float32(v.Double)))
	case schema.Double:
		return binary.LittleEndian.AppendUint64(nil, math.Float64bits(v.Double))
	case schema.Boolean:
		if v.Flag {
			return []byte{1}
		}
		return []byte{0}
	case schema.String:
		return append([]byte{}, v.Text...)
	case schema.Decimal:
		wide := binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, uint64(v.Decimal.HighBits())), v.Decimal.LowBits())
		return singleDecimal(parquet.Types.FixedLenByteArray, wide)
	}
	return nil
}
