package scan

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/fit"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// gathered holds the rows of one object until all are there, and then hands them on in an order. Behind their columns it keeps
// the record that each came of and, where that is kept, its text.
type gathered struct {
	rows    *layout.Arranger
	columns int
	records int64 // of the object so far
	misfits map[int64][]fit.Misfit
}

// The columns behind those of the rows.
const (
	recordColumn = "_record"
	textColumn   = "_text"
)

func newGathered(rows schema.Schema, order []string, o layout.Options) *gathered {
	rows = rows.Clone()
	columns := len(rows.Fields)
	rows.Fields = append(rows.Fields, schema.Field{Name: recordColumn, Type: schema.Type{Kind: schema.Long}},
		schema.Field{Name: textColumn, Type: schema.Type{Kind: schema.String}})
	var by layout.Sort
	for _, name := range order {
		by = append(by, layout.SortField{Column: name})
	}
	return &gathered{rows: layout.NewArranger(rows, by, o), columns: columns, misfits: map[int64][]fit.Misfit{}}
}

// add takes the rows of a block of so many records.
func (a *gathered) add(ctx context.Context, batch arrow.RecordBatch, origins []origin, records int64) error {
	numbers, texts := array.NewInt64Builder(memory.DefaultAllocator), array.NewStringBuilder(memory.DefaultAllocator)
	for _, o := range origins {
		record := a.records + o.rank
		numbers.Append(record)
		texts.Append(o.raw)
		if len(o.misfits) > 0 {
			a.misfits[record] = o.misfits
		}
	}
	a.records += records
	fields := append(slices.Clone(batch.Schema().Fields()), arrow.Field{Name: recordColumn, Type: arrow.PrimitiveTypes.Int64},
		arrow.Field{Name: textColumn, Type: arrow.BinaryTypes.String})
	columns := append(slices.Clone(batch.Columns()), numbers.NewArray(), texts.NewArray())
	return a.rows.Add(ctx, array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, batch.NumRows()))
}

// each hands on the rows of the object in their order, as rows after its last record, and is ready for the next object.
func (a *gathered) each(ctx context.Context, emit func(arrow.RecordBatch, []origin) error) error {
	err := a.rows.Each(ctx, func(batch arrow.RecordBatch) error {
		numbers, texts := batch.Column(a.columns).(*array.Int64), batch.Column(a.columns+1).(*array.String)
		origins := make([]origin, batch.NumRows())
		for i := range origins {
			record := numbers.Value(i)
			origins[i] = origin{rank: record - a.records, raw: texts.Value(i), misfits: a.misfits[record]}
		}
		fields := batch.Schema().Fields()[:a.columns]
		return emit(array.NewRecordBatch(arrow.NewSchema(fields, nil), batch.Columns()[:a.columns], batch.NumRows()), origins)
	})
	a.records = 0
	clear(a.misfits)
	return err
}
