package fit

import (
	"context"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// Batches fits rows that come as columns already, out of columnar files. It belongs to one worker.
type Batches struct {
	schema schema.Schema
	arrow  *arrow.Schema
	coded  bool
	// longest are the lengths of the longest texts so far, in characters.
	longest []int
}

// NewBatches prepares for a schema. Where coded is set, columns that come as Arrow dictionaries stay such.
func NewBatches(s schema.Schema, coded bool) *Batches {
	return &Batches{schema: s, arrow: s.Arrow(), coded: coded, longest: make([]int, len(s.Fields))}
}

// Fit gives the rows of a batch the schema's columns. fields is for each the number of the batch's column, or -1 where there is
// none and it is null; kept are columns of the batch without a place, whose values are misfits. Columns of the same type are
// taken as they are, others are converted; a value that cannot be is a misfit. A column that must have values and lacks one
// ends the work.
func (b *Batches) Fit(ctx context.Context, in arrow.RecordBatch, fields []int, kept []Kept) (Result, error) {
	var out Result
	rows := int(in.NumRows())
	columns := make([]arrow.Array, len(fields))
	for i, at := range fields {
		f := &b.schema.Fields[i]
		if at < 0 || f.Skip {
			columns[i] = array.MakeArrayOfNull(memory.DefaultAllocator, b.arrow.Field(i).Type, rows)
		} else {
			columns[i] = b.column(ctx, &out, f, in.Column(at))
		}
		if (f.Required || f.Demanded) && !f.Added && columns[i].NullN() > 0 {
			return out, fmt.Errorf("column %q has %d values that are null or do not fit, and is required", f.Source(), columns[i].NullN())
		}
		b.measure(&out, i, columns[i])
	}
	for _, k := range kept {
		a := in.Column(k.Field)
		isJSON := hasParts(a)
		for row := range rows {
			if !a.IsNull(row) {
				out.Misfits = append(out.Misfits, Misfit{Row: row, Column: k.Name, Of: k.Name,
					Text: string(rowtext.AppendText(nil, a, row)), JSON: isJSON})
			}
		}
	}
	types := b.arrow.Fields()
	for i, c := range columns {
		types[i].Type = c.DataType()
	}
	out.Batch = array.NewRecordBatch(arrow.NewSchema(types, nil), columns, int64(rows))
	return out, nil
}

// measure notes the longest text of a column, of this batch and those before.
func (b *Batches) measure(r *Result, at int, a arrow.Array) {
	c := column{longest: b.longest[at]}
	switch a := a.(type) {
	case *array.String:
		for row := range a.Len() {
			if a.IsValid(row) {
				c.measure([]byte(a.Value(row)))
			}
		}
	case *array.Dictionary:
		texts, isText := a.Dictionary().(*array.String)
		codes, numbered := a.Indices().(*array.Uint32)
		if !isText || !numbered {
			return
		}
		// Most batches have no text that is longer than those before, and then it does not matter which of them occur.
		if !longer(texts, c.longest) {
			break
		}
		used, all := make([]bool, texts.Len()), a.NullN() == 0
		for row, code := range codes.Uint32Values() {
			if all || a.IsValid(row) {
				used[code] = true
			}
		}
		for i := range used {
			if used[i] {
				c.measure([]byte(texts.Value(i)))
			}
		}
	default:
		return
	}
	if r.Longest == nil {
		r.Longest = map[string]int{}
	}
	b.longest[at] = c.longest
	r.Longest[b.schema.Fields[at].Name] = c.longest
}

// longer reports whether one of some texts has more than n bytes.
func longer(texts *array.String, n int) bool {
	offsets := texts.ValueOffsets()
	for i := range texts.Len() {
		if int(offsets[i+1]-offsets[i]) > n {
			return true
		}
	}
	return false
}

// column converts one column, value by value where nothing else will do.
func (b *Batches) column(ctx context.Context, out *Result, f *schema.Field, a arrow.Array) arrow.Array {
	if b.coded && arrow.TypeEqual(uncodedType(a.DataType()), f.Type.Arrow()) {
		return a
	}
	if converted, ok := convert(ctx, f.Type, a); ok {
		return converted
	}
	c := newColumn(*f, nil, a.Len())
	isJSON := hasParts(a)
	var text []byte
	for row := range a.Len() {
		if a.IsNull(row) {
			c.null()
			continue
		}
		text = rowtext.AppendText(text[:0], a, row)
		if f.Type.Nested() || !c.scalar(text) && !c.token(text) {
			out.Misfits = append(out.Misfits, Misfit{Row: row, Column: f.Name, Of: f.Name, Known: true, Text: string(text), JSON: isJSON})
			c.null()
		}
	}
	return array.MakeFromData(c.data())
}

// hasParts reports whether values of a column are written as JSON. A type that is built on another, as uuids are on bytes,
// counts as having parts by itself.
func hasParts(a arrow.Array) bool {
	if e, ok := a.(array.ExtensionArray); ok {
		a = e.Storage()
	}
	_, nested := a.DataType().(arrow.NestedType)
	return nested
}

// uncodedType returns the type of a column that codedType, or its parts, may have numbered.
func uncodedType(t arrow.DataType) arrow.DataType {
	switch t := t.(type) {
	case *arrow.DictionaryType:
		if t.IndexType.ID() == arrow.UINT32 {
			return t.ValueType
		}
	case *arrow.StructType:
		fields := t.Fields()
		for i := range fields {
			fields[i].Type = uncodedType(fields[i].Type)
		}
		return arrow.StructOf(fields...)
	case *arrow.ListType:
		element := t.ElemField()
		element.Type = uncodedType(element.Type)
		return arrow.ListOfField(element)
	}
	return t
}

// convert gives an array another type without loss; ok is false where some value would not survive it.
func convert(ctx context.Context, t schema.Type, a arrow.Array) (_ arrow.Array, ok bool) {
	if e, isExtension := a.(array.ExtensionArray); isExtension {
		a = e.Storage()
	}
	want := t.Arrow()
	if !t.Nested() {
		if arrow.TypeEqual(a.DataType(), want) {
			return a, true
		}
		return cast(ctx, a, want)
	}
	if a.Data().Offset() != 0 {
		whole, err := array.Concatenate([]arrow.Array{a}, memory.DefaultAllocator)
		if err != nil {
			return nil, false
		}
		a = whole
	}
	switch a := a.(type) {
	case *array.Struct:
		return convertStruct(ctx, t, a)
	case *array.Map:
		if t.Kind == schema.Map {
			return convertMap(ctx, t, a)
		}
	case *array.List:
		if t.Kind == schema.List {
			element, ok := convert(ctx, t.Element.Type, a.ListValues())
			if !ok {
				return nil, false
			}
			return array.MakeFromData(array.NewData(want, a.Len(), a.Data().Buffers(), []arrow.ArrayData{element.Data()}, a.NullN(), 0)),
				true
		}
	case *array.LargeList:
		if t.Kind == schema.List {
			if narrow, ok := cast(ctx, a, arrow.ListOfField(a.DataType().(*arrow.LargeListType).ElemField())); ok {
				return convert(ctx, t, narrow)
			}
		}
	}
	return nil, false
}

func convertStruct(ctx context.Context, t schema.Type, a *array.Struct) (arrow.Array, bool) {
	if t.Kind != schema.Struct {
		return nil, false
	}
	index := schema.NewIndex(t.Fields, schema.SafeNames)
	children := make([]arrow.ArrayData, len(t.Fields))
	for i, f := range a.DataType().(*arrow.StructType).Fields() {
		at := index.Find(f.Name)
		if at < 0 {
			continue
		}
		part, ok := convert(ctx, t.Fields[at].Type, a.Field(i))
		if !ok {
			return nil, false
		}
		children[at] = part.Data()
	}
	for i, child := range children {
		if child == nil {
			children[i] = array.MakeArrayOfNull(memory.DefaultAllocator, t.Fields[i].Type.Arrow(), a.Len()).Data()
		}
	}
	return array.MakeFromData(array.NewData(t.Arrow(), a.Len(), a.Data().Buffers(), children, a.NullN(), 0)), true
}

func convertMap(ctx context.Context, t schema.Type, a *array.Map) (arrow.Array, bool) {
	key, ok := convert(ctx, t.Key.Type, a.Keys())
	if !ok {
		return nil, false
	}
	value, ok := convert(ctx, t.Element.Type, a.Items())
	if !ok {
		return nil, false
	}
	want := t.Arrow().(*arrow.MapType)
	entries := array.NewData(want.Elem(), key.Len(), []*memory.Buffer{nil}, []arrow.ArrayData{key.Data(), value.Data()}, 0, 0)
	return array.MakeFromData(array.NewData(want, a.Len(), a.Data().Buffers(), []arrow.ArrayData{entries}, a.NullN(), 0)), true
}

// belowMicros reports whether points in time have nanoseconds that a column of microseconds has no room for.
func belowMicros(a arrow.Array, want arrow.DataType) bool {
	to, ok := want.(*arrow.TimestampType)
	from, isTime := a.DataType().(*arrow.TimestampType)
	if !ok || !isTime || from.Unit != arrow.Nanosecond || to.Unit == arrow.Nanosecond {
		return false
	}
	for i, v := range a.(*array.Timestamp).TimestampValues() {
		if v%1000 != 0 && a.IsValid(i) {
			return true
		}
	}
	return false
}

// cast converts values that have no parts.
func cast(ctx context.Context, a arrow.Array, want arrow.DataType) (arrow.Array, bool) {
	if !castable(a.DataType(), want) {
		return nil, false
	}
	if belowMicros(a, want) {
		return nil, false
	}
	options := compute.SafeCastOptions(want)
	options.AllowTimeTruncate = true
	out, err := compute.CastArray(ctx, a, options)
	return out, err == nil
}

// castable reports whether the library's conversion means what a reader of the column would.
func castable(from, want arrow.DataType) bool {
	if d, ok := from.(*arrow.DictionaryType); ok {
		return castable(d.ValueType, want) || arrow.TypeEqual(d.ValueType, want)
	}
	number := func(t arrow.DataType) bool { return arrow.IsInteger(t.ID()) || arrow.IsFloating(t.ID()) }
	textual := func(t arrow.DataType) bool {
		switch t.ID() {
		case arrow.STRING, arrow.LARGE_STRING, arrow.STRING_VIEW:
			return true
		}
		return false
	}
	bytes := func(t arrow.DataType) bool {
		switch t.ID() {
		case arrow.BINARY, arrow.LARGE_BINARY, arrow.FIXED_SIZE_BINARY, arrow.BINARY_VIEW:
			return true
		}
		return false
	}
	switch want.ID() {
	case arrow.INT32, arrow.INT64:
		return arrow.IsInteger(from.ID())
	case arrow.FLOAT32, arrow.FLOAT64:
		return number(from)
	case arrow.DECIMAL128:
		return arrow.IsDecimal(from.ID()) || arrow.IsInteger(from.ID())
	case arrow.STRING:
		return textual(from)
	case arrow.BINARY:
		return bytes(from) || textual(from)
	case arrow.DATE32:
		return from.ID() == arrow.DATE64
	case arrow.TIME64:
		return from.ID() == arrow.TIME32 || from.ID() == arrow.TIME64
	case arrow.TIMESTAMP:
		t, ok := from.(*arrow.TimestampType)
		if ok && t.Unit == arrow.Nanosecond && t.TimeZone == "UTC" {
			return true // so the library gives timestamps in the old form of 96 bits, which have no zone
		}
		return ok && (t.TimeZone == "") == (want.(*arrow.TimestampType).TimeZone == "") || from.ID() == arrow.DATE32 &&
			want.(*arrow.TimestampType).TimeZone == ""
	case arrow.LIST:
		return from.ID() == arrow.LARGE_LIST
	}
	return false
}
