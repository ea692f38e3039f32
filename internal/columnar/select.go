package columnar

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"math"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/parquet"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/expr"
	"trevak/internal/schema"
)

// Selection is what is wanted of a file.
type Selection struct {
	// Columns are top-level columns by their places, in any order; nil for all.
	Columns []int
	// Bounds hold for every row that is wanted; their columns are named as in the file. Rows for which they do not hold may
	// come all the same.
	Bounds []expr.Bound
	// Positions are the numbers of all rows that are wanted, in order, nil for all; others may come all the same.
	Positions []int64
	// From and To are the row groups from the one to before the other; To is 0 for all from From on. Files without row groups have one.
	From, To int
	// Numbered asks for columns as dictionaries where the file has them so; Workers is how many columns are read at a time.
	Numbered bool
	Workers  int
	// Skipped counts what was passed over unread, where it is not nil.
	Skipped *Skipped
}

// Skipped is what was passed over unread.
type Skipped struct {
	Groups, Pages int
	Rows          int64
}

// Groups returns how many rows each row group has, -1 for the only one of a file that does not tell.
func (f *File) Groups() []int64 {
	if f.reader == nil {
		return []int64{f.other.rows()}
	}
	out := make([]int64, f.reader.NumRowGroups())
	for g := range out {
		out[g] = f.reader.MetaData().RowGroup(g).NumRows()
	}
	return out
}

// Select reads rows that may be wanted, in order, with the number of the first of each batch, from 0. emit returns io.EOF to
// stop early. A batch has the wanted columns in the order of the selection, and is valid until emit returns.
func (f *File) Select(ctx context.Context, s Selection, emit func(b arrow.RecordBatch, first int64) error) (err error) {
	g := guard{location: f.location}
	defer g.end(&err)
	columns := s.Columns
	if columns == nil {
		columns = f.all()
	}
	if f.reader != nil {
		if groups, ok := newGroupReader(f, columns); ok {
			groups.workers = s.Workers
			if s.Numbered {
				groups.number()
			}
			return f.selectGroups(ctx, groups, s, g.emitAt(emit))
		}
	}
	first := int64(0)
	return f.Batches(ctx, func(b arrow.RecordBatch) error {
		at := first
		first += b.NumRows()
		if s.Columns != nil {
			b = projected(b, columns)
		}
		return emit(b, at)
	})
}

// projected is some columns of a batch.
func projected(b arrow.RecordBatch, columns []int) arrow.RecordBatch {
	fields, list := make([]arrow.Field, len(columns)), make([]arrow.Array, len(columns))
	for i, at := range columns {
		fields[i], list[i] = b.Schema().Field(at), b.Column(at)
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), list, b.NumRows())
}

// selectGroups reads what is wanted of a Parquet file.
func (f *File) selectGroups(ctx context.Context, groups *groupReader, s Selection, emit func(arrow.RecordBatch, int64) error) error {
	bounds := f.leafBounds(s.Bounds)
	before := int64(0)
	for g := range f.reader.NumRowGroups() {
		rows := f.reader.MetaData().RowGroup(g).NumRows()
		if g >= s.From && (s.To == 0 || g < s.To) {
			spans := f.wanted(g, rows, bounds, s.Skipped)
			if s.Positions != nil {
				spans = intersection(spans, around(s.Positions, before, rows))
			}
			var taken error // of those who take the batches
			err := groups.group(ctx, g, spans, func(b arrow.RecordBatch, at int64) error {
				taken = emit(b, before+at)
				return taken
			})
			switch {
			case errors.Is(taken, io.EOF):
				return nil
			case taken != nil:
				return taken
			case err != nil:
				return wrapped(f.location, err)
			}
		}
		before += rows
	}
	return nil
}

// leafBound is a bound on a leaf column.
type leafBound struct {
	expr.Bound
	leaf   int
	column *pqschema.Column
	kind   schema.Type
}

// leafBounds finds the leaf columns of bounds. Those of lists are left out: a bound holds for a row, not for its elements.
func (f *File) leafBounds(bounds []expr.Bound) []leafBound {
	var out []leafBound
	tree := f.reader.MetaData().Schema
	leaf := 0
	f.Schema.Walk(func(path string, field *schema.Field) {
		if field.Type.Nested() {
			return
		}
		for _, b := range bounds {
			if leaf < tree.NumColumns() && strings.EqualFold(b.Column, path) && tree.Column(leaf).MaxRepetitionLevel() == 0 {
				out = append(out, leafBound{b, leaf, tree.Column(leaf), field.Type})
			}
		}
		leaf++
	})
	return out
}

// wanted returns the rows of a row group that bounds may hold for.
func (f *File) wanted(g int, rows int64, bounds []leafBound, skipped *Skipped) []span {
	out := []span{{0, rows}}
	if rows == 0 {
		return nil
	}
	if skipped == nil {
		skipped = &Skipped{}
	}
	for _, b := range bounds {
		if !f.groupMayHold(g, b) {
			skipped.Groups++
			skipped.Rows += rows
			return nil
		}
	}
	for _, b := range bounds {
		pages, all := f.pagesThatMayHold(g, rows, b)
		if all > len(pages) {
			skipped.Pages += all - len(pages)
			out = intersection(out, pages)
		}
	}
	left := int64(0)
	for _, s := range out {
		left += s.to - s.from
	}
	skipped.Rows += rows - left
	return out
}

// nearRows is how many rows may lie between two that are wanted, for those between them to be read rather than passed over.
const nearRows = 2000

// around are the rows of a row group, which so many rows come before, that hold those at some positions.
func around(positions []int64, before, rows int64) (out []span) {
	from, _ := slices.BinarySearch(positions, before)
	for _, p := range positions[from:] {
		at := p - before
		if at >= rows {
			break
		}
		if n := len(out); n > 0 && at-out[n-1].to < nearRows {
			out[n-1].to = at + 1
		} else {
			out = append(out, span{at, at + 1})
		}
	}
	return out
}

// intersection is the rows that are in both of two lists in order; neighbours are joined.
func intersection(a, b []span) []span {
	var out []span
	for len(a) > 0 && len(b) > 0 {
		if s := (span{max(a[0].from, b[0].from), min(a[0].to, b[0].to)}); s.from < s.to {
			if n := len(out); n > 0 && out[n-1].to == s.from {
				out[n-1].to = s.to
			} else {
				out = append(out, s)
			}
		}
		if a[0].to < b[0].to {
			a = a[1:]
		} else {
			b = b[1:]
		}
	}
	return out
}

// groupMayHold asks the statistics of a column chunk, its Bloom filter and its dictionary.
func (f *File) groupMayHold(g int, b leafBound) bool {
	chunk, err := f.reader.MetaData().RowGroup(g).ColumnChunk(b.leaf)
	if err != nil {
		return true
	}
	if stats, err := chunk.Statistics(); err == nil && stats != nil {
		nulls, values := true, true
		if stats.HasNullCount() {
			nulls, values = stats.NullCount() > 0, stats.NullCount() < chunk.NumValues()
		}
		if (b.Unvalued() || !values) && !b.MayHold(expr.Value{}, expr.Value{}, nulls, values) {
			return false
		}
		if stats.HasMinMax() && !b.Unvalued() {
			low, ok := valueOf(b.column, b.kind, stats.EncodeMin())
			high, ok2 := valueOf(b.column, b.kind, stats.EncodeMax())
			if ok && ok2 && !b.MayHold(low, high, nulls, values) {
				return false
			}
		}
	}
	if b.Op != expr.Equal {
		return true
	}
	return f.bloomMayHold(g, b) && f.dictionaryMayHold(g, b)
}

// pagesThatMayHold returns the rows of the pages of a column chunk that a bound may hold for, and how many pages there are;
// without a page index there are none.
func (f *File) pagesThatMayHold(g int, rows int64, b leafBound) (wanted []span, all int) {
	index, err := f.reader.GetPageIndexReader().RowGroup(g)
	if err != nil || index == nil {
		return nil, 0
	}
	columns, err := index.GetColumnIndex(b.leaf)
	if err != nil || columns == nil {
		return nil, 0
	}
	offsets, err := index.GetOffsetIndex(b.leaf)
	if err != nil || offsets == nil {
		return nil, 0
	}
	pages, empty := offsets.GetPageLocations(), columns.GetNullPages()
	low, high := columns.GetMinValues(), columns.GetMaxValues()
	if len(empty) != len(pages) || len(low) != len(pages) || len(high) != len(pages) {
		return nil, 0
	}
	for i, page := range pages {
		to := rows
		if i+1 < len(pages) {
			to = pages[i+1].FirstRowIndex
		}
		nulls, holds := true, true
		if columns.IsSetNullCounts() && len(columns.GetNullCounts()) == len(pages) {
			nulls = columns.GetNullCounts()[i] > 0
		}
		if empty[i] || b.Unvalued() {
			holds = b.MayHold(expr.Value{}, expr.Value{}, nulls, !empty[i])
		} else if fixedWidth(b.column, low[i]) && fixedWidth(b.column, high[i]) {
			least, ok := valueOf(b.column, b.kind, low[i])
			most, ok2 := valueOf(b.column, b.kind, high[i])
			holds = !ok || !ok2 || b.MayHold(least, most, nulls, true)
		}
		if holds {
			wanted = append(wanted, span{page.FirstRowIndex, to})
		}
	}
	return wanted, len(pages)
}

// valueOf reads a value in plain encoding, of a column of a type; ok is false where it is in no order that expressions know.
func valueOf(column *pqschema.Column, t schema.Type, plain []byte) (v expr.Value, ok bool) {
	if !fixedWidth(column, plain) {
		return v, false
	}
	var whole int64
	switch column.PhysicalType() {
	case parquet.Types.Int32:
		whole = int64(int32(binary.LittleEndian.Uint32(plain)))
	case parquet.Types.Int64:
		whole = int64(binary.LittleEndian.Uint64(plain))
	case parquet.Types.Float:
		return expr.Value{Kind: schema.Double, Double: float64(math.Float32frombits(binary.LittleEndian.Uint32(plain)))},
			t.Kind == schema.Float
	case parquet.Types.Double:
		return expr.Value{Kind: schema.Double, Double: math.Float64frombits(binary.LittleEndian.Uint64(plain))}, t.Kind == schema.Double
	case parquet.Types.Boolean:
		return expr.Value{Kind: schema.Boolean, Flag: plain[0] != 0}, t.Kind == schema.Boolean
	case parquet.Types.Int96:
		return v, false
	default:
		if t.Kind == schema.Decimal && len(plain) > 0 && len(plain) <= 16 {
			return expr.Value{Kind: schema.Decimal, Decimal: bigEndian(plain), Scale: int32(t.Scale)}, true
		}
		return expr.Value{Kind: schema.String, Text: string(plain)}, t.Kind == schema.String
	}
	return wholeValue(t, whole, perMicro(column))
}

// wholeValue is a value of a type that is kept as a whole number, of which so many are a microsecond or, below 0, so many
// microseconds are one.
func wholeValue(t schema.Type, whole, perMicro int64) (expr.Value, bool) {
	switch t.Kind {
	case schema.Int, schema.Long:
		return expr.Value{Kind: schema.Long, Long: whole}, true
	case schema.Date:
		return expr.Value{Kind: schema.Date, Long: whole}, true
	case schema.Decimal:
		return expr.Value{Kind: schema.Decimal, Decimal: decimal128.FromI64(whole), Scale: int32(t.Scale)}, true
	case schema.Time, schema.Timestamp, schema.TimestampTz:
		if perMicro < 0 {
			whole *= -perMicro
		}
		return expr.Value{Kind: t.Kind, Long: whole}, perMicro != 1000 && perMicro != 0
	}
	return expr.Value{}, false
}

// perMicro tells the unit of times: 1 for microseconds, -1000 for milliseconds, 1000 for nanoseconds, 0 where it is not known.
func perMicro(column *pqschema.Column) int64 {
	unit := pqschema.TimeUnitUnknown
	switch t := column.LogicalType().(type) {
	case pqschema.TimestampLogicalType:
		unit = t.TimeUnit()
	case pqschema.TimeLogicalType:
		unit = t.TimeUnit()
	}
	switch unit {
	case pqschema.TimeUnitMicros:
		return 1
	case pqschema.TimeUnitMillis:
		return -1000
	case pqschema.TimeUnitNanos:
		return 1000
	}
	return 0
}

// plainOf writes a value as a column has it in plain encoding; ok is false for one that it cannot have as it is.
func plainOf(column *pqschema.Column, v expr.Value) (plain []byte, ok bool) {
	whole := func() (int64, bool) {
		switch v.Kind {
		case schema.Long, schema.Date:
			return v.Long, true
		case schema.Time, schema.Timestamp, schema.TimestampTz:
			return v.Long, perMicro(column) == 1
		}
		return 0, false
	}
	switch column.PhysicalType() {
	case parquet.Types.Int32:
		n, ok := whole()
		return binary.LittleEndian.AppendUint32(nil, uint32(n)), ok && n == int64(int32(n)) && !isDecimal(column)
	case parquet.Types.Int64:
		n, ok := whole()
		return binary.LittleEndian.AppendUint64(nil, uint64(n)), ok && !isDecimal(column)
	case parquet.Types.ByteArray:
		return []byte(v.Text), v.Kind == schema.String
	}
	return nil, false
}

// sameKind reports whether a value is of the type of a column, so that equal ones are written alike.
func (b leafBound) sameKind(v expr.Value) bool {
	return v.Kind == b.kind.Kind || v.Kind == schema.Long && b.kind.Kind == schema.Int
}

// seekable reports whether the file tells where the pages of a column of a row group begin.
func (f *File) seekable(g, leaf int) bool {
	index, err := f.reader.GetPageIndexReader().RowGroup(g)
	if err != nil || index == nil {
		return false
	}
	offsets, err := index.GetOffsetIndex(leaf)
	return err == nil && offsets != nil && len(offsets.GetPageLocations()) > 0
}
