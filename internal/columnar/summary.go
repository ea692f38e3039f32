package columnar

import (
	"bytes"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/columnar/footer"
)

// Summary describes a finished file.
type Summary struct {
	// Rows is the number of rows, Bytes the size of the file.
	Rows, Bytes int64
	// Columns holds the metrics of each leaf column by field id.
	Columns map[int]*Metrics
	// RowGroups are the offsets in the file at which row groups begin.
	RowGroups []int64
}

// Metrics are the counts and bounds of one leaf column over a whole file.
type Metrics struct {
	// Bytes is the compressed size, RawBytes the size of the pages before compression.
	Bytes, RawBytes int64
	// Values counts all values, Nulls those that are null, NaNs those that are not a number (doubles and floats only).
	Values, Nulls, NaNs int64
	// Floating says that NaNs applies.
	Floating bool
	// Lower and Upper are bounds in the single-value form of the Iceberg specification (appendix D); nil where there are none:
	// no value, or within a list.
	Lower, Upper []byte
}

// boundRunes is how many characters of a text are kept in its bounds.
const boundRunes = 16

// summary describes the file that was written.
func (w *Writer) summary() *Summary {
	s := &Summary{Rows: w.footer.Rows(), Bytes: w.sink.n, Columns: make(map[int]*Metrics, len(w.chunks))}
	for i := range w.footer.Groups {
		s.RowGroups = append(s.RowGroups, w.footer.Groups[i].Chunks[0].Start())
	}
	if len(w.footer.Groups) == 0 {
		return s
	}
	list := make([]Metrics, len(w.chunks))
	for i, c := range w.chunks {
		kind := c.column.PhysicalType()
		m := &list[i]
		m.Floating, m.NaNs = kind == parquet.Types.Double || kind == parquet.Types.Float, c.values.notNumbers()
		for g := range w.footer.Groups {
			m.add(&w.footer.Groups[g].Chunks[i], c.column)
		}
		m.single(c.column)
		s.Columns[int(c.column.SchemaNode().FieldID())] = m
	}
	return s
}

// add takes in one column chunk.
func (m *Metrics) add(chunk *footer.Chunk, column *schema.Column) {
	m.Bytes += chunk.Packed
	m.RawBytes += chunk.Raw
	m.Values += chunk.Values
	m.Nulls += chunk.Statistics.Nulls
	lower, upper := chunk.Statistics.Min, chunk.Statistics.Max
	if column.MaxRepetitionLevel() > 0 || lower == nil || upper == nil {
		return
	}
	if m.Lower == nil || less(column, lower, m.Lower) {
		m.Lower = bytes.Clone(lower)
	}
	if m.Upper == nil || less(column, m.Upper, upper) {
		m.Upper = bytes.Clone(upper)
	}
}

// single gives the bounds the form that tables have them in.
func (m *Metrics) single(column *schema.Column) {
	switch {
	case m.Lower == nil:
	case isDecimal(column):
		m.Lower, m.Upper = singleDecimal(column.PhysicalType(), m.Lower), singleDecimal(column.PhysicalType(), m.Upper)
	case column.PhysicalType() == parquet.Types.ByteArray && isText(column):
		m.shorten()
	case column.PhysicalType() == parquet.Types.ByteArray:
		// Bytes can be cut, but not raised, as texts are.
		m.Lower, m.Upper = nil, nil
	}
}

// shorten cuts the bounds of a text to their first characters; the upper one is raised so that it stays a bound, or left out
// where that cannot be done.
func (m *Metrics) shorten() {
	if n := prefix(m.Lower); n < len(m.Lower) {
		m.Lower = m.Lower[:n]
	}
	n := prefix(m.Upper)
	if n == len(m.Upper) {
		return
	}
	runes := []rune(string(m.Upper[:n]))
	m.Upper = nil
	for i := len(runes) - 1; i >= 0; i-- {
		next := runes[i] + 1
		if next == 0xD800 {
			next = 0xE000
		}
		if next <= utf8.MaxRune {
			m.Upper = []byte(string(append(runes[:i], next)))
			return
		}
	}
}

func isText(c *schema.Column) bool {
	_, ok := c.LogicalType().(schema.StringLogicalType)
	return ok
}

// prefix returns the length in bytes of the first characters of b.
func prefix(b []byte) int {
	n := 0
	for range boundRunes {
		if n >= len(b) {
			return len(b)
		}
		_, size := utf8.DecodeRune(b[n:])
		n += size
	}
	return n
}
