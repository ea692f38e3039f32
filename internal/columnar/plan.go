package columnar

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/extensions"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"
	"github.com/apache/thrift/lib/go/thrift"

	"trevak/internal/columnar/footer"
	"trevak/internal/schema"
)

// plan is what all Parquet files of a schema and of options share.
type plan struct {
	schema *arrow.Schema
	tree   *pqschema.Schema
	// columns, codecs and bloomed are by leaf column; bloomed says that it gets a Bloom filter.
	columns []footer.Column
	// first is the first leaf column of each column.
	first   []int
	codecs  []Codec
	bloomed []bool
	// elements is the schema as it stands in footers, count how many elements that are.
	elements []byte
	count    int
}

func newPlan(s schema.Schema, o Options) (*plan, error) {
	p := &plan{schema: s.Arrow()}
	props := parquet.NewWriterProperties(parquet.WithVersion(parquet.V2_LATEST), parquet.WithStoreDecimalAsInteger(true))
	var err error
	p.tree, err = pqarrow.ToParquet(arrow.NewSchema(annotated(p.schema.Fields(), s.Fields), nil), props, pqarrow.DefaultWriterProps())
	if err != nil {
		return nil, fmt.Errorf("the schema has no Parquet form: %w", err)
	}
	for i, path := range leafPaths(s) {
		codec, column := o.codecOf(path), p.tree.Column(i)
		p.codecs = append(p.codecs, codec)
		p.bloomed = append(p.bloomed, slices.Contains(o.Bloom, path))
		p.columns = append(p.columns, footer.Column{Type: int32(column.PhysicalType()), Codec: int32(codec.parquet()),
			Path: column.ColumnPath()})
	}
	leaf := 0
	for _, f := range p.schema.Fields() {
		p.first = append(p.first, leaf)
		leaf += len(leafTypes([]arrow.Field{f}))
	}
	p.elements, p.count, err = elements(p.tree)
	return p, err
}

// elements writes a schema as the elements of a footer.
func elements(tree *pqschema.Schema) ([]byte, int, error) {
	list := pqschema.ToThrift(tree.Root())
	buffer := thrift.NewTMemoryBuffer()
	protocol := thrift.NewTCompactProtocolConf(buffer, nil)
	for _, e := range list {
		if err := e.Write(context.Background(), protocol); err != nil {
			return nil, 0, fmt.Errorf("the schema cannot be written: %w", err)
		}
	}
	return buffer.Bytes(), len(list), nil
}

// codecOf returns the codec of a leaf column: its own, that of the nearest column it is a part of, or that of all.
func (o Options) codecOf(path string) Codec {
	for at := path; at != ""; {
		if c, ok := o.Codecs[at]; ok {
			return c
		}
		last := strings.LastIndexByte(at, '.')
		if last < 0 {
			break
		}
		at = at[:last]
	}
	return o.Codec
}

// leafPaths lists the legal paths of the leaf columns in the order of a Parquet schema.
func leafPaths(s schema.Schema) []string {
	var out []string
	s.Walk(func(path string, f *schema.Field) {
		if !f.Type.Nested() {
			out = append(out, path)
		}
	})
	return out
}

// annotated gives uuid columns the type by which the library annotates them in a Parquet schema.
func annotated(fields []arrow.Field, of []schema.Field) []arrow.Field {
	out := slices.Clone(fields)
	for i := range out {
		out[i].Type = annotatedType(out[i].Type, of[i].Type)
	}
	return out
}

func annotatedType(dt arrow.DataType, of schema.Type) arrow.DataType {
	switch of.Kind {
	case schema.UUID:
		return extensions.NewUUIDType()
	case schema.Struct:
		return arrow.StructOf(annotated(dt.(*arrow.StructType).Fields(), of.Fields)...)
	case schema.List:
		return arrow.ListOfField(annotated([]arrow.Field{dt.(*arrow.ListType).ElemField()}, []schema.Field{*of.Element})[0])
	case schema.Map:
		t := dt.(*arrow.MapType)
		parts := annotated([]arrow.Field{t.KeyField(), t.ItemField()}, []schema.Field{*of.Key, *of.Element})
		return arrow.MapOfFields(parts[0], parts[1])
	}
	return dt
}

// leafTypes lists the types of the leaf columns in the order of a Parquet schema.
func leafTypes(fields []arrow.Field) []arrow.DataType {
	var out []arrow.DataType
	for _, f := range fields {
		switch t := f.Type.(type) {
		case *arrow.MapType:
			out = append(out, leafTypes([]arrow.Field{t.KeyField(), t.ItemField()})...)
		case arrow.NestedType:
			out = append(out, leafTypes(t.Fields())...)
		default:
			out = append(out, t)
		}
	}
	return out
}
