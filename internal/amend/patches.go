package amend

import (
	"context"
	"iter"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/layout"
	"trevak/internal/scan"
	"trevak/internal/schema"
)

// patches is what updated rows keep of those that they take the place of: some columns, with the number of the row of the load behind
// them, in the order of these.
type patches struct {
	columns []int // of the rows
	target  schema.Schema
	rows    *layout.Arranger
	// next yields them once all are there; batch is the current one, of which at is the next row.
	next  func() (arrow.RecordBatch, error, bool)
	stop  func()
	batch arrow.RecordBatch
	at    int
}

const rowColumn = "_row"

// newPatches prepares for some columns; nil is for none.
func newPatches(s schema.Schema, columns []int, o layout.Options) *patches {
	if len(columns) == 0 {
		return nil
	}
	p := &patches{columns: columns}
	s = s.Bare()
	p.target.Omission = s.Omission
	for _, c := range columns {
		p.target.Fields = append(p.target.Fields, s.Fields[c])
	}
	rows := p.target.Clone()
	rows.Fields = append(rows.Fields, schema.Field{Name: rowColumn, Type: schema.Type{Kind: schema.Long}})
	p.rows = layout.NewArranger(rows, layout.Sort{{Column: rowColumn}}, o)
	return p
}

// read takes the columns of rows of a split, each of which is for a row of the load.
func (p *patches) read(ctx context.Context, from scan.Source, split scan.Split, of []met, row func(met) int64) error {
	if p == nil || len(of) == 0 {
		return nil
	}
	positions := make([]int64, len(of))
	for i, m := range of {
		positions[i] = m.position
	}
	request := scan.Request{Target: scan.Target{Schema: p.target}, Positions: positions, Splits: []scan.Split{split}}
	at := 0
	return from.Read(ctx, request, func(r *scan.Rows) error {
		var kept []int32
		numbers := array.NewInt64Builder(memory.DefaultAllocator)
		at = each(r, positions, at, func(i, at int) {
			kept = append(kept, int32(i))
			numbers.Append(row(of[at]))
		})
		if len(kept) == 0 {
			return nil
		}
		b, err := scan.Taken(ctx, r.Batch, kept)
		if err != nil {
			return err
		}
		fields := append(slices.Clone(b.Schema().Fields()), arrow.Field{Name: rowColumn, Type: arrow.PrimitiveTypes.Int64})
		columns := append(slices.Clone(b.Columns()), numbers.NewArray())
		return p.rows.Add(ctx, array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows()))
	})
}

// begin has the patches come in the order of the rows of the load.
func (p *patches) begin(ctx context.Context) error {
	if p == nil {
		return nil
	}
	p.next, p.stop = iter.Pull2(func(yield func(arrow.RecordBatch, error) bool) {
		err := p.rows.Each(ctx, func(b arrow.RecordBatch) error {
			if !yield(b, nil) {
				return context.Canceled
			}
			return nil
		})
		if err != nil {
			yield(nil, err)
		}
	})
	return p.load()
}

// load makes the next batch the current one, nil behind the last.
func (p *patches) load() (err error) {
	p.batch, p.at = nil, 0
	b, err, ok := p.next()
	if ok {
		p.batch = b
	}
	return err
}

func (p *patches) end() {
	if p != nil && p.stop != nil {
		p.stop()
		p.stop = nil
	}
}

func (p *patches) close() {
	if p != nil {
		p.end()
		p.rows.Close()
	}
}

// patch gives rows of the load what they keep of the old ones. kept are their places among the rows from first on, whose outcomes tell
// which of them are updated.
func (p *patches) patch(ctx context.Context, b arrow.RecordBatch, first int64, kept []int32,
	outcomes []outcome) (arrow.RecordBatch, error) {
	if p == nil {
		return b, nil
	}
	parts := []arrow.RecordBatch{b}
	rows := int(b.NumRows()) // of all parts
	order := make([]int32, len(kept))
	for i, place := range kept {
		order[i] = int32(i)
		row := first + int64(place)
		if outcomes[row] != updated {
			continue
		}
		for p.batch != nil {
			if parts[len(parts)-1] != p.batch {
				rows += int(p.batch.NumRows())
				parts = append(parts, p.batch)
			}
			numbers := p.batch.Column(len(p.columns)).(*array.Int64)
			for p.at < numbers.Len() && numbers.Value(p.at) <= row {
				if numbers.Value(p.at) == row {
					// Of several rows of the table the last one holds.
					order[i] = int32(rows - numbers.Len() + p.at)
				}
				p.at++
			}
			if p.at < numbers.Len() {
				break
			}
			if err := p.load(); err != nil {
				return nil, err
			}
		}
	}
	return p.put(ctx, b, parts, order)
}

// put makes the patched columns of the rows of all parts, in an order.
func (p *patches) put(ctx context.Context, b arrow.RecordBatch, parts []arrow.RecordBatch, order []int32) (arrow.RecordBatch, error) {
	columns, fields := slices.Clone(b.Columns()), b.Schema().Fields()
	for i, c := range p.columns {
		all := []arrow.Array{b.Column(c)}
		for _, part := range parts[1:] {
			all = append(all, part.Column(i))
		}
		joined, err := array.Concatenate(all, memory.DefaultAllocator)
		if err != nil {
			return nil, err
		}
		if columns[c], err = compute.TakeArray(ctx, joined, indices(order)); err != nil {
			return nil, err
		}
		fields[c].Type = columns[c].DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows()), nil
}

func indices(rows []int32) arrow.Array {
	return array.MakeFromData(array.NewData(arrow.PrimitiveTypes.Int32, len(rows),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(rows))}, nil, 0, 0))
}
