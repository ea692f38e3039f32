package columnar

import (
	"context"
	"encoding/binary"
	"math"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// tally counts the values of leaf columns as batches go by: for formats whose files do not tell, and for the manifests of tables.
type tally struct {
	schema schema.Schema
	leaves []*leafTally // in the order of schema.Walk
	// memory asks for the sizes of columns as they are in memory.
	memory bool
}

// leafTally is the count of one leaf column.
type leafTally struct {
	id   int
	kind schema.Kind
	// listed says that the column lies within a list or a map.
	listed bool
	Metrics
	low, high             any // of the type of its values; nil while there is none
	smallest, largest     string
	lowestRow, highestRow int
}

func newTally(s schema.Schema) *tally {
	t := &tally{schema: s}
	for _, f := range s.Fields {
		t.prepare(f, false)
	}
	return t
}

func (t *tally) prepare(f schema.Field, listed bool) {
	parts, within := partsOf(f.Type)
	for _, part := range parts {
		t.prepare(*part, listed || within)
	}
	if !f.Type.Nested() {
		floating := f.Type.Kind == schema.Float || f.Type.Kind == schema.Double
		t.leaves = append(t.leaves, &leafTally{id: f.ID, kind: f.Type.Kind, listed: listed, Metrics: Metrics{Floating: floating}})
	}
}

// partsOf returns the fields below a type; within says that there may be several of each, or none.
func partsOf(t schema.Type) (parts []*schema.Field, within bool) {
	for i := range t.Fields {
		parts = append(parts, &t.Fields[i])
	}
	for _, part := range []*schema.Field{t.Key, t.Element} {
		if part != nil {
			parts, within = append(parts, part), true
		}
	}
	return parts, within
}

// add counts the rows of a batch, whose columns are those of the schema.
func (t *tally) add(b arrow.RecordBatch) {
	at := 0
	for c := range t.schema.Fields {
		at = t.column(at, b.Column(c), nil)
	}
}

// column counts a column, whose first leaf has the number at, and returns the number of the next column's. there marks the rows
// that count, all where it is nil.
func (t *tally) column(at int, a arrow.Array, there []bool) int {
	switch a := a.(type) {
	case array.ExtensionArray:
		return t.column(at, a.Storage(), there)
	case *array.Struct:
		present := schema.Present(a, there)
		for i := range a.NumField() {
			at = t.column(at, a.Field(i), present)
		}
		return at
	case *array.Map:
		elements := schema.Elements(a, schema.Present(a, there), a.Items().Len())
		return t.column(t.column(at, a.Keys(), elements), a.Items(), elements)
	case *array.List:
		return t.column(at, a.ListValues(), schema.Elements(a, schema.Present(a, there), a.ListValues().Len()))
	}
	leaf := t.leaves[at]
	leaf.count(a, there)
	leaf.extend(a, schema.Present(a, there))
	if t.memory {
		leaf.RawBytes += int64(a.Data().SizeInBytes())
	}
	return at + 1
}

// count adds how many values there are. A value of something that is null itself is null, as it is one level up; elements that
// are not there are no values.
func (l *leafTally) count(a arrow.Array, there []bool) {
	for row := range a.Len() {
		if there != nil && !there[row] {
			if l.listed {
				continue
			}
			l.Nulls++
		} else if a.IsNull(row) {
			l.Nulls++
		}
		l.Values++
	}
}

// extend widens the extremes by the values that are marked.
func (l *leafTally) extend(a arrow.Array, values []bool) {
	l.lowestRow, l.highestRow = -1, -1
	switch a := a.(type) {
	case *array.Boolean:
		widen(l, values, a.Value, func(a, b bool) bool { return !a && b })
	case *array.Int32:
		widen(l, values, a.Value, less32)
	case *array.Date32:
		widen(l, values, func(i int) int32 { return int32(a.Value(i)) }, less32)
	case *array.Int64:
		widen(l, values, a.Value, less64)
	case *array.Time64:
		widen(l, values, func(i int) int64 { return int64(a.Value(i)) }, less64)
	case *array.Timestamp:
		widen(l, values, func(i int) int64 { return int64(a.Value(i)) }, less64)
	case *array.Float32:
		l.leaveOutNaNs(values, func(i int) bool { return a.Value(i) != a.Value(i) })
		widen(l, values, a.Value, func(a, b float32) bool {
			return a < b || a == b && math.Signbit(float64(a)) && !math.Signbit(float64(b))
		})
	case *array.Float64:
		l.leaveOutNaNs(values, func(i int) bool { return a.Value(i) != a.Value(i) })
		widen(l, values, a.Value, func(a, b float64) bool { return a < b || a == b && math.Signbit(a) && !math.Signbit(b) })
	case *array.Decimal128:
		widen(l, values, a.Value, func(a, b decimal128.Num) bool { return a.Less(b) })
	case *array.String:
		widen(l, values, a.Value, func(a, b string) bool { return a < b })
		l.keepTexts()
	case *array.FixedSizeBinary:
		widen(l, values, func(i int) string { return string(a.Value(i)) }, func(a, b string) bool { return a < b })
	}
	if l.lowestRow >= 0 {
		l.smallest = string(rowtext.AppendText(nil, a, l.lowestRow))
	}
	if l.highestRow >= 0 {
		l.largest = string(rowtext.AppendText(nil, a, l.highestRow))
	}
}

func less32(a, b int32) bool { return a < b }

func less64(a, b int64) bool { return a < b }

func widen[T any](l *leafTally, values []bool, at func(int) T, less func(a, b T) bool) {
	low, known := l.low.(T)
	high, _ := l.high.(T)
	for row, is := range values {
		if !is {
			continue
		}
		v := at(row)
		if !known || less(v, low) {
			low, l.lowestRow = v, row
		}
		if !known || less(high, v) {
			high, l.highestRow = v, row
		}
		known = true
	}
	if known {
		l.low, l.high = low, high
	}
}

func (l *leafTally) leaveOutNaNs(values []bool, is func(int) bool) {
	for row := range values {
		if values[row] && is(row) {
			values[row] = false
			l.NaNs++
		}
	}
}

// keepTexts lets the extremes outlive the batch that they are part of.
func (l *leafTally) keepTexts() {
	if low, ok := l.low.(string); ok && l.lowestRow >= 0 {
		l.low = strings.Clone(low)
	}
	if high, ok := l.high.(string); ok && l.highestRow >= 0 {
		l.high = strings.Clone(high)
	}
}

// columns returns the metrics by field id.
func (t *tally) columns() map[int]*Metrics {
	out := map[int]*Metrics{}
	for _, l := range t.leaves {
		m := l.Metrics
		if !l.listed && l.low != nil {
			m.Lower, m.Upper = singleValue(l.low), singleValue(l.high)
			if l.kind == schema.String {
				m.shorten()
			}
		}
		out[l.id] = &m
	}
	return out
}

// singleValue writes a value in the single-value form of the Iceberg specification (appendix D).
func singleValue(v any) []byte {
	switch v := v.(type) {
	case bool:
		if v {
			return []byte{1}
		}
		return []byte{0}
	case int32:
		return binary.LittleEndian.AppendUint32(nil, uint32(v))
	case int64:
		return binary.LittleEndian.AppendUint64(nil, uint64(v))
	case float32:
		return binary.LittleEndian.AppendUint32(nil, math.Float32bits(v))
	case float64:
		return binary.LittleEndian.AppendUint64(nil, math.Float64bits(v))
	case decimal128.Num:
		return shortestDecimal(v)
	case string:
		return []byte(v)
	}
	return nil
}

// countedFile counts what is written to a file.
type countedFile struct {
	FileWriter
	counts *tally
}

func (c *countedFile) Write(ctx context.Context, batch arrow.RecordBatch) error {
	c.counts.add(batch)
	return c.FileWriter.Write(ctx, batch)
}

func (c *countedFile) Close() (*Summary, error) {
	s, err := c.FileWriter.Close()
	if err == nil {
		s.Columns = c.counts.columns()
	}
	return s, err
}
