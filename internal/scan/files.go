package scan

import (
	"context"
	"io"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/schema"
	"trevak/internal/source"
)

// files is the rows of columnar files, which declare their columns.
type files struct{ source *source.Source }

func (f *files) Named() bool { return true }

func (f *files) Objects() []source.Input { return f.source.Inputs }

func (f *files) Bytes() int64 { return f.source.Bytes }

// Declared brings the schemas of all files together: fields by name, in any letter case, types as wide as holds all.
func (f *files) Declared() ([]schema.Field, bool) { return Declared(f.source.Inputs), true }

// Declared brings the schemas of some objects together.
func Declared(inputs []source.Input) []schema.Field {
	var out []schema.Field
	for _, in := range inputs {
		out = unite(out, in.Own.Clone().Fields)
	}
	pin := schema.Schema{Fields: out}
	pin.Walk(func(_ string, f *schema.Field) { f.ID, f.Required, f.Pinned = 0, false, true })
	for _, f := range out {
		restoreKeys(f.Type)
	}
	return out
}

// rowsOfSample is how many rows of a file a sample has at most.
const rowsOfSample = 200_000

func (f *files) Read(ctx context.Context, r Request, take func(*Rows) error) error {
	if len(r.Target.Schema.Fields) == 0 {
		r.Target.Schema = schema.Schema{Fields: Declared(f.source.Inputs)}
		r.Target.Style = schema.SafeNames
	}
	columns, fitter, each := r.columns(f), fit.NewBatches(r.Target.Schema, false), r.each()
	p := pass{source: f.source, budget: r.Budget, stage: r.Stage}
	chosen := Choose(len(f.source.Inputs), len(f.source.Inputs))
	if r.Sample != nil {
		chosen = Choose(len(f.source.Inputs), sampleSpots)
	}
	var read int64
	for _, i := range chosen {
		in, before := f.source.Inputs[i], int64(0)
		err := f.file(ctx, in, func(b arrow.RecordBatch) error {
			if r.Sample != nil && before > rowsOfSample {
				return io.EOF
			}
			b.Retain()
			result, err := fitter.Fit(ctx, b, columns.Fields[i], columns.Kept[i])
			if err != nil {
				return fault.New(fault.Schema, "%s", err).In(in.Location).Try("leave the column out of --required and --key")
			}
			rows := &Rows{Result: result, Block: parse.Block{Object: i}, Numbered: true, Before: before, Records: b.NumRows()}
			if r.starts {
				rows.starts = make([]int, b.NumRows())
			}
			rows.tellMisfits(rows.Misfits)
			before += b.NumRows()
			p.tell(i, read)
			if err := each(rows); err != nil {
				return err
			}
			if err = take(rows); err == io.EOF {
				return errEnough
			}
			return err
		})
		if err == errEnough {
			return nil
		}
		if err == nil && r.Hashes != nil {
			r.Hashes[i], err = hashOf(ctx, in)
		}
		if err != nil {
			return err
		}
		read += in.Size
	}
	return nil
}

// file hands over the batches of a file, which must still be what was listed when all were taken.
func (f *files) file(ctx context.Context, in source.Input, take func(arrow.RecordBatch) error) error {
	opened, err := in.OpenColumns(ctx)
	if err != nil {
		return err
	}
	defer opened.Close()
	err = opened.Batches(ctx, func(b arrow.RecordBatch) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return take(b)
	})
	if err != nil {
		return err
	}
	return in.Unchanged(ctx)
}

func (f *files) Texts(ctx context.Context, n int, visit func(Record) error) error {
	left := n
	for _, in := range f.source.Inputs {
		err := f.file(ctx, in, func(b arrow.RecordBatch) error {
			return eachRow(b, in.Rules.Names, func(r Record) error {
				if left--; left < 0 {
					return io.EOF
				}
				return visit(r)
			})
		})
		if err != nil || left <= 0 && n > 0 {
			return err
		}
	}
	return nil
}

// restoreKeys makes the keys of maps required again, as they always are.
func restoreKeys(t schema.Type) {
	if t.Key != nil {
		t.Key.Required = true
	}
	if t.Element != nil {
		restoreKeys(t.Element.Type)
	}
	for _, f := range t.Fields {
		restoreKeys(f.Type)
	}
}

// unite adds fields to others.
func unite(all, more []schema.Field) []schema.Field {
	index := schema.NewIndex(all, schema.SafeNames)
	for _, f := range more {
		if at := index.Find(f.Name); at >= 0 {
			all[at].Type = uniteTypes(all[at].Type, f.Type)
		} else {
			index.Add(len(all), &f)
			all = append(all, f)
		}
	}
	return all
}

// uniteTypes returns the narrowest type that holds the values of two.
func uniteTypes(a, b schema.Type) schema.Type {
	whole := func(k schema.Kind) bool { return k == schema.Int || k == schema.Long }
	number := func(k schema.Kind) bool { return whole(k) || k == schema.Float || k == schema.Double }
	switch {
	case a.Equal(b):
		return a
	case a.Kind == schema.Struct && b.Kind == schema.Struct:
		a.Fields = unite(a.Fields, b.Fields)
		return a
	case a.Kind == b.Kind && (a.Kind == schema.List || a.Kind == schema.Map):
		a.Element.Type = uniteTypes(a.Element.Type, b.Element.Type)
		return a
	case whole(a.Kind) && whole(b.Kind):
		return schema.Type{Kind: schema.Long}
	case number(a.Kind) && number(b.Kind):
		return schema.Type{Kind: schema.Double}
	case a.Kind == schema.Decimal && b.Kind == schema.Decimal:
		scale := max(a.Scale, b.Scale)
		if digits := max(a.Precision-a.Scale, b.Precision-b.Scale) + scale; digits <= 38 {
			return schema.Type{Kind: schema.Decimal, Precision: digits, Scale: scale}
		}
	case a.Kind == schema.Date && b.Kind == schema.Timestamp, a.Kind == schema.Timestamp && b.Kind == schema.Date:
		return schema.Type{Kind: schema.Timestamp}
	}
	return schema.Type{Kind: schema.String}
}

// hashOf reads an object once more for its hash.
func hashOf(ctx context.Context, in source.Input) (string, error) {
	in.Hashed = true
	stream, err := in.Open(ctx)
	if err != nil {
		return "", err
	}
	defer stream.Close()
	if _, err := io.Copy(io.Discard, stream); err != nil {
		return "", err
	}
	return stream.Hash()
}
