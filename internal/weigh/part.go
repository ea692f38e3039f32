package weigh

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/schema"
)

// part is a column, or one part of a nested one, that trials are made on alone: in a Parquet file each is a column of its own.
type part struct {
	// path is its legal path, kind its own type.
	path string
	kind schema.Type
	// field is the top-level column with nothing else in it.
	field schema.Field
	// take leaves out of the top-level column what field does not have.
	take func(arrow.ArrayData) arrow.ArrayData
}

// partsOf lists the parts of a column in the order of a Parquet schema. A map is one part, since neither keys nor values can be
// without the others.
func partsOf(f schema.Field) []part {
	var children []schema.Field
	switch f.Type.Kind {
	case schema.Struct:
		children = f.Type.Fields
	case schema.List:
		children = []schema.Field{*f.Type.Element}
	default:
		return []part{wholeOf(f)}
	}
	var out []part
	for at, child := range children {
		for _, p := range partsOf(child) {
			whole := f
			if f.Type.Kind == schema.List {
				whole.Type.Element = &p.field
			} else {
				whole.Type.Fields = []schema.Field{p.field}
			}
			dt, take := whole.Type.Arrow(), p.take
			out = append(out, part{f.Name + "." + p.path, p.kind, whole, func(d arrow.ArrayData) arrow.ArrayData {
				return array.NewData(dt, d.Len(), d.Buffers(), []arrow.ArrayData{take(d.Children()[at])}, d.NullN(), d.Offset())
			}})
		}
	}
	return out
}

// wholeOf is a column with all of its parts.
func wholeOf(f schema.Field) part {
	return part{f.Name, f.Type, f, func(d arrow.ArrayData) arrow.ArrayData { return d }}
}

// schema is that of the part alone.
func (p part) schema() schema.Schema { return schema.Schema{Fields: []schema.Field{p.field}} }

// of takes the part out of a column of batches.
func (p part) of(batches []arrow.RecordBatch, column int) []arrow.RecordBatch {
	out := make([]arrow.RecordBatch, len(batches))
	s := p.schema().Arrow()
	for i, b := range batches {
		out[i] = array.NewRecordBatch(s, []arrow.Array{array.MakeFromData(p.take(b.Column(column).Data()))}, b.NumRows())
	}
	return out
}
