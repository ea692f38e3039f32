package scan

import (
	"encoding/binary"
	"math"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/columnar"
	"trevak/internal/expr"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// wanted is what is to be read of a columnar file for a request: some of its columns, and where they then are.
type wanted struct {
	columns []int
	fields  []int // of the target's columns among those
	kept    []int // of the columns that no column is read from
	bounds  []expr.Bound
	// none says that the request holds for no row of the file.
	none bool
}

// want settles what is to be read of a file whose columns have some names; fields tells where the target's columns are, kept
// which others are wanted.
func want(r Request, names []string, fields []int, kept []int) wanted {
	var w wanted
	for _, at := range slices.Concat(fields, kept) {
		if at >= 0 && !slices.Contains(w.columns, at) {
			w.columns = append(w.columns, at)
		}
	}
	slices.Sort(w.columns)
	place := func(at int) int { return slices.Index(w.columns, at) }
	for _, at := range fields {
		w.fields = append(w.fields, place(at))
	}
	for _, at := range kept {
		w.kept = append(w.kept, place(at))
	}
	if w.columns == nil {
		// Without a column there are still rows to count.
		w.columns = []int{}
	}
	for _, b := range r.bounds() {
		column, rest, nested := strings.Cut(b.Column, ".")
		i := r.Target.Schema.Index(column)
		switch {
		case i < 0 || fields[i] == constantPlace:
		case fields[i] < 0:
			w.none = w.none || b.Op != expr.IsNull
		default:
			if b.Column = names[fields[i]]; nested {
				b.Column += "." + rest
			}
			w.bounds = append(w.bounds, b)
		}
	}
	return w
}

// selection is what is read of a file, or of a split of it.
func (w wanted) selection(r Request, s Split) columnar.Selection {
	return columnar.Selection{Columns: w.columns, Bounds: w.bounds, Positions: r.Positions, From: s.FirstGroup, To: s.EndGroup,
		Skipped: r.Skipped, Workers: r.Budget.Workers}
}

// MayHold asks the bounds of a data file in a table's manifest whether all of some bounds can hold for a row of it.
func MayHold(bounds []expr.Bound, fields []schema.Field, f table.File) bool {
	for _, b := range bounds {
		field := fieldOf(fields, b.Column)
		if field == nil {
			continue
		}
		values, counted := f.Values[field.ID]
		nulls, nullsCounted := f.Nulls[field.ID]
		some, null := true, true
		if counted && nullsCounted {
			some, null = nulls < values, nulls > 0
		}
		if b.Unvalued() || !some {
			if !b.MayHold(expr.Value{}, expr.Value{}, null, some) {
				return false
			}
			continue
		}
		low, ok := singleValue(field.Type, f.Lower[field.ID])
		high, ok2 := singleValue(field.Type, f.Upper[field.ID])
		if ok && ok2 && !b.MayHold(low, high, null, some) {
			return false
		}
	}
	return true
}

// Holds asks the bounds of a data file in a table's manifest whether all of some bounds hold for every row of it.
func Holds(bounds []expr.Bound, fields []schema.Field, f table.File) bool {
	for _, b := range bounds {
		field := fieldOf(fields, b.Column)
		if field == nil {
			return false
		}
		values, counted := f.Values[field.ID]
		nulls, nullsCounted := f.Nulls[field.ID]
		if !counted || !nullsCounted || values != f.Rows {
			return false
		}
		low, ok := singleValue(field.Type, f.Lower[field.ID])
		high, ok2 := singleValue(field.Type, f.Upper[field.ID])
		if !b.Unvalued() && (!ok || !ok2) || !b.Holds(low, high, nulls > 0, nulls < values) {
			return false
		}
	}
	return true
}

// fieldOf finds a field by its path; those of lists and maps have none.
func fieldOf(fields []schema.Field, path string) *schema.Field {
	name, rest, nested := strings.Cut(path, ".")
	for i := range fields {
		if fields[i].Name != name {
			continue
		}
		if !nested {
			return &fields[i]
		}
		return fieldOf(fields[i].Type.Fields, rest)
	}
	return nil
}

// singleValue reads a value in the table format's form (Iceberg specification, "Binary single-value serialization"); ok is
// false for one that is not there or in no order that expressions know.
func singleValue(t schema.Type, b []byte) (v expr.Value, ok bool) {
	var whole int64
	switch len(b) {
	case 4:
		whole = int64(int32(binary.LittleEndian.Uint32(b)))
	case 8:
		whole = int64(binary.LittleEndian.Uint64(b))
	}
	fixed := len(b) == 4 || len(b) == 8
	switch t.Kind {
	case schema.Int, schema.Long:
		return expr.Value{Kind: schema.Long, Long: whole}, fixed
	case schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return expr.Value{Kind: t.Kind, Long: whole}, fixed
	case schema.Float, schema.Double:
		if v.Kind = schema.Double; len(b) == 4 {
			v.Double = float64(math.Float32frombits(uint32(whole)))
		} else {
			v.Double = math.Float64frombits(uint64(whole))
		}
		return v, fixed
	case schema.Boolean:
		return expr.Value{Kind: schema.Boolean, Flag: len(b) == 1 && b[0] != 0}, len(b) == 1
	case schema.String:
		return expr.Value{Kind: schema.String, Text: string(b)}, b != nil
	case schema.Decimal:
		if len(b) == 0 || len(b) > 16 {
			return v, false
		}
		var high, low uint64
		if b[0]&0x80 != 0 {
			high, low = ^uint64(0), ^uint64(0)
		}
		for _, d := range b {
			high, low = high<<8|low>>56, low<<8|uint64(d)
		}
		return expr.Value{Kind: schema.Decimal, Decimal: decimal128.New(int64(high), low), Scale: int32(t.Scale)}, true
	}
	return v, false
}
