package scan

import (
	"context"
	"errors"
	"io"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

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
	take = r.limited(ctx, take)
	if len(r.Target.Schema.Fields) == 0 {
		r.Target.Schema = schema.Schema{Fields: Declared(f.source.Inputs)}
		r.Target.Style, r.Target.Fixed = schema.SafeNames, true
	}
	columns, each := r.columns(f), r.each(ctx)
	reader := fileReader{request: r, fitter: fit.NewBatches(r.Target.Schema, r.coded()),
		pass: pass{source: f.source, budget: r.Budget, stage: r.Stage},
		take: func(rows *Rows) error {
			if err := each(rows); err != nil {
				return err
			}
			return take(rows)
		}}
	for _, s := range r.parts(f.source.Inputs) {
		in := f.source.Inputs[s.Object]
		w := want(r, in.Rules.Names, columns.Fields[s.Object], keptFields(columns.Kept[s.Object]))
		if !w.none {
			err := reader.read(ctx, in, s, w, columns.Kept[s.Object])
			if errors.Is(err, errEnough) {
				return nil
			}
			if err != nil {
				return err
			}
		}
		if r.Hashes != nil {
			var err error
			if r.Hashes[s.Object], err = in.Hash(ctx); err != nil {
				return err
			}
		}
		reader.before += in.Size
	}
	return nil
}

// parts are the splits that are read: those that are asked for, some whole objects of a sample, or all.
func (r *Request) parts(inputs []source.Input) []Split {
	all := wholeObjects(inputs)
	switch {
	case r.Splits != nil:
		return r.Splits
	case r.Sample != nil:
		var out []Split
		for _, i := range Choose(len(all), sampleSpots) {
			out = append(out, all[i])
		}
		return out
	}
	return all
}

func keptFields(kept []fit.Kept) []int {
	out := make([]int, len(kept))
	for i, k := range kept {
		out[i] = k.Field
	}
	return out
}

// fileReader reads one columnar file after the other.
type fileReader struct {
	request Request
	fitter  *fit.Batches
	pass    pass
	before  int64 // stored bytes of the files before
	take    func(*Rows) error
}

// read takes what is wanted of a file, which must still be what was listed then. The error is errEnough when nothing more is wanted.
func (f *fileReader) read(ctx context.Context, in source.Input, s Split, w wanted, kept []fit.Kept) error {
	kept = slices.Clone(kept)
	for i := range kept {
		kept[i].Field = w.kept[i]
	}
	opened, err := in.OpenColumns(ctx)
	if err != nil {
		return err
	}
	defer opened.Close()
	enough := false
	sampled := int64(0)
	selection := w.selection(f.request, s)
	selection.Numbered = f.request.coded()
	err = opened.Select(ctx, selection, func(b arrow.RecordBatch, first int64) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if sampled += b.NumRows(); f.request.Sample != nil && sampled > rowsOfSample+b.NumRows() {
			return io.EOF
		}
		b.Retain()
		result, err := f.fitter.Fit(ctx, b, w.fields, kept)
		if err != nil {
			return fault.New(fault.Schema, "%s", err).In(in.Location).Try("leave the column out of --required and --key")
		}
		rows := &Rows{Result: result, Block: parse.Block{Object: s.Object}, Numbered: true, Before: first, Records: b.NumRows()}
		if f.request.starts {
			rows.starts = make([]int, b.NumRows())
		}
		rows.tellMisfits(rows.Misfits)
		f.pass.tell(s.Object, f.before)
		err = f.take(rows)
		enough = errors.Is(err, io.EOF)
		return err
	})
	switch {
	case enough:
		return errEnough
	case err != nil:
		return err
	}
	return in.Unchanged(ctx)
}

// Plan divides files between their row groups.
func (f *files) Plan(ctx context.Context, bytes int64) ([]Split, error) {
	var out []Split
	for i, in := range f.source.Inputs {
		opened, err := in.OpenColumns(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, divideGroups(i, opened.Groups(), in.Size, bytes)...)
		if err := opened.Close(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// divideGroups makes splits of row groups, which have as many bytes as they have rows of the file's.
func divideGroups(object int, groups []int64, size, bytes int64) []Split {
	if len(groups) < 2 || size <= bytes {
		return []Split{{Object: object}}
	}
	var rows, gathered int64
	for _, n := range groups {
		rows += n
	}
	var out []Split
	first := 0
	for g, n := range groups {
		gathered += n
		if last := g == len(groups)-1; last || float64(gathered)/float64(max(1, rows))*float64(size) >= float64(bytes) {
			out = append(out, Split{Object: object, FirstGroup: first, EndGroup: g + 1})
			first, gathered = g+1, 0
		}
	}
	return out
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
			// Files of tables have a column behind the others that is none of their rows.
			return eachRow(firstColumns(b, len(in.Rules.Names)), in.Rules.Names, func(r Record) error {
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

// firstColumns are the first columns of a batch.
func firstColumns(b arrow.RecordBatch, n int) arrow.RecordBatch {
	if int(b.NumCols()) <= n {
		return b
	}
	return array.NewRecordBatch(arrow.NewSchema(b.Schema().Fields()[:n], nil), b.Columns()[:n], b.NumRows())
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
