package flow

import (
	"context"
	"io"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/schema"
	"trevak/internal/sniff"
)

// columnar reports whether the source is columnar files, which bring their schemas with them.
func (s *Source) columnar() bool { return s.reshaped != nil || family(s.Format()) == sniff.Parquet }

// named reports whether the objects name their columns before the first record.
func (s *Source) named() bool { return s.columnar() || s.Format() == sniff.Delimited }

// lookInto reads the schema of a columnar file.
func (in *Input) lookInto(ctx context.Context) error {
	if !in.AtHand() {
		return fault.New(fault.Input, "is a columnar file, which is read from the disk only").In(in.Location).Try("save it to a file first")
	}
	f, err := in.openColumns(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	in.Own = f.Schema
	for _, field := range f.Schema.Fields {
		in.Rules.Names = append(in.Rules.Names, field.Name)
	}
	return nil
}

// openColumns opens a columnar file that is still what was listed.
func (in Input) openColumns(ctx context.Context) (*columnar.File, error) {
	file, err := in.File(ctx)
	if err != nil {
		return nil, err
	}
	return columnar.OpenFile(in.Location, file, in.Size)
}

// declared brings the schemas of all files together: fields by name, in any letter case, types as wide as holds all.
func (s *Source) declared() []schema.Field {
	var out []schema.Field
	for _, in := range s.Inputs {
		out = unite(out, in.Own.Clone().Fields)
	}
	pin := schema.Schema{Fields: out}
	pin.Walk(func(_ string, f *schema.Field) { f.ID, f.Required, f.Pinned = 0, false, true })
	for _, f := range out {
		restoreKeys(f.Type)
	}
	return out
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

// inferColumns settles the schema of columnar files: it is their own, with corrections.
func (s *Source) inferColumns(r Reading) (*Inference, error) {
	seen := &schema.Observed{}
	own := s.declared()
	for i, in := range s.Inputs {
		seen.Declare(i, in.Own.Fields)
	}
	c := r.Corrections
	if len(c.Columns) == 0 {
		c.Columns = own
	} else {
		c.Columns = append(slices.Clone(c.Columns), fieldsBesides(own, c.Columns)...)
	}
	settled, unmatched := seen.Settle(c)
	if err := distinctNames("", settled.Fields); err != nil {
		return nil, err
	}
	return &Inference{Source: s, Schema: settled, Observed: seen, Whole: true, Own: true, unmatched: unmatched}, nil
}

// fieldsBesides returns the fields that others do not declare already.
func fieldsBesides(fields, others []schema.Field) []schema.Field {
	index := schema.NewIndex(others, schema.SafeNames)
	var out []schema.Field
	for _, f := range fields {
		if index.Find(f.Name) < 0 {
			out = append(out, f)
		}
	}
	return out
}

// columns writes the rows of columnar files, one file after the other.
func (w *writing) columnFiles(ctx context.Context, p pass) error {
	for i, in := range w.source.Inputs {
		if err := w.columnFile(ctx, p, i, in); err != nil {
			return err
		}
		if p.hashes != nil {
			hash, err := hashOf(ctx, in)
			if err != nil {
				return err
			}
			p.hashes[i] = hash
		}
		w.report.BytesUnpacked += in.Size
	}
	return nil
}

func (w *writing) columnFile(ctx context.Context, p pass, i int, in Input) error {
	f, err := in.openColumns(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	fitter := fit.NewBatches(w.out.schema, false)
	row := int64(0)
	var read int64
	for _, before := range w.source.Inputs[:i] {
		read += before.Size
	}
	err = f.Batches(ctx, func(b arrow.RecordBatch) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		b.Retain()
		result, err := fitter.Fit(ctx, b, w.columns.fields[i], w.columns.kept[i])
		if err != nil {
			return fault.New(fault.Schema, "%s", err).In(in.Location).Try("leave the column out of --required and --key")
		}
		out := fitted{Result: result, rows: true, before: row}
		if len(out.Misfits) > 0 {
			slices.SortStableFunc(out.Misfits, func(a, b fit.Misfit) int { return a.Row - b.Row })
			out.misfits = misfitTexts(out.Misfits, int(b.NumRows()))
		}
		row += b.NumRows()
		p.tell(i, read)
		return w.take(ctx, parse.Block{Object: i}, out)
	})
	if err != nil {
		return err
	}
	return in.Unchanged(ctx)
}

// hashOf reads an object once more for its hash.
func hashOf(ctx context.Context, in Input) (string, error) {
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

// sampleColumns writes the first rows of the first file to nowhere, and returns the size of that to the file's own for as many rows.
func (i *Inference) sampleColumns(ctx context.Context, r Reading, b Budget) error {
	if i.Source.reshaped != nil {
		err := i.Source.eachFormed(ctx, b, func(object int, batch arrow.RecordBatch) error {
			i.Records += batch.NumRows()
			i.Observed.Measure(batch)
			return nil
		})
		i.Observed.SetLongest(&i.Schema)
		return err
	}
	for _, in := range i.Source.Inputs {
		f, err := in.openColumns(ctx)
		if err != nil {
			return err
		}
		err = f.Batches(ctx, func(b arrow.RecordBatch) error {
			i.Records += b.NumRows()
			i.Observed.Measure(b)
			return nil
		})
		f.Close()
		if err != nil {
			return err
		}
	}
	i.Observed.SetLongest(&i.Schema)
	return nil
}
