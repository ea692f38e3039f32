package infer

import (
	"context"
	"errors"
	"fmt"

	"trevak/internal/fault"
	"trevak/internal/parse/geojson"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/shape"
	"trevak/internal/source"
	"trevak/internal/table"
	"trevak/internal/wording"
)

// Reading is what the user says about a source, its columns, and the form of its rows.
type Reading struct {
	source.Reading
	// Table is read in the place of the sources; nil for these.
	Table *table.Table
	// Corrections are what is fixed about the columns.
	Corrections schema.Corrections
	// Scan says how much is looked at before the schema is settled.
	Scan Scan
	// Shape is what becomes of the form of rows.
	Shape shape.Spec
	// Formed takes rows as ones in another form even where that is their own.
	Formed bool
	// Confirmed lets rows become very many more than records.
	Confirmed bool
}

// UseWKB has features of GeoJSON read as rows of their properties, with their geometries as WKB.
func (r *Reading) UseWKB() {
	r.WKB = true
	types := map[string]schema.Stated{geojson.GeometryColumn: {Type: schema.Type{Kind: schema.Binary},
		Notation: schema.Notation{Format: "base64"}}}
	for path, stated := range r.Corrections.Types {
		types[path] = stated
	}
	r.Corrections.Types = types
}

// Data is the rows of a source in the form that they are to have.
type Data struct {
	*source.Source
	// Rows is what has the rows, Table the name of the table that they are of; empty for files.
	Rows  scan.Source
	Table string

	form *form // nil where rows have the form of the records
}

// form is how the rows of a source get another form, and what is said of them.
type form struct {
	base    *Data
	records Reading // of the records as they are
	rows    Reading
	// inference is that of the records.
	inference *Inference
	plan      *shape.Plan
}

// Survey finds the objects of a source, and settles the form that its rows get. What is then said of columns in the reading is
// of those of the rows.
func Survey(ctx context.Context, r *Reading, b run.Budget) (*Data, error) {
	r.Stated.Lists = r.Shape.Lists()
	found, from, err := r.survey(ctx)
	if err != nil {
		return nil, err
	}
	d := &Data{Source: found, Rows: from}
	if r.Table != nil {
		d.Table = r.Table.Name.String()
	}
	if r.Shape.Empty() && !r.Formed {
		return d, nil
	}
	if _, declared := d.Rows.Declared(); declared && r.Shape.Empty() {
		return nil, fault.New(fault.Usage, "the rows of columnar files are shown as they are").Try("leave out what is said of " +
			"columns, or convert the files first")
	}
	c := r.Corrections
	// What is said of columns in the source holds before the rows change, names and keys after.
	records, rows := c, schema.Corrections{Renames: c.Renames, Required: c.Required, Key: c.Key, Names: c.Names}
	records.Renames, records.Required, records.Key = nil, nil, nil
	d.form = &form{base: &Data{Source: found, Rows: d.Rows}, records: *r}
	d.form.records.Corrections = records
	r.Corrections = rows
	d.form.rows = *r
	return d, d.shape(ctx, b, false)
}

// survey finds the objects that rows come from, and what reads them.
func (r *Reading) survey(ctx context.Context) (*source.Source, scan.Source, error) {
	if r.Table == nil {
		found, err := source.Survey(ctx, r.Reading)
		if err != nil {
			return nil, nil, err
		}
		return found, scan.Of(found), nil
	}
	rows, err := scan.OfTableWhere(ctx, r.Table, r.Shape.Where)
	if err != nil {
		return nil, nil, err
	}
	found := &source.Source{Inputs: rows.Objects(), Bytes: rows.Bytes()}
	if len(found.Inputs) == 0 {
		return nil, nil, fault.New(fault.Input, "the table %s has no rows", r.Table.Name).Try("name a table with rows")
	}
	return found, rows, nil
}

// shape settles the form of the rows, after a look at some records or, where that does not do, at all.
func (d *Data) shape(ctx context.Context, b run.Budget, whole bool) (err error) {
	f := d.form
	if whole {
		f.inference, err = f.base.All(ctx, f.records, b)
	} else {
		f.inference, err = f.base.First(ctx, f.records, b)
	}
	if err != nil {
		return err
	}
	if err = f.inference.Matched(); err == nil {
		if f.inference.Whole {
			SettleUnseen(&f.inference.Schema)
		}
		f.plan, err = shape.New(f.inference.Schema, f.rows.Shape)
	}
	if err != nil && !f.inference.Whole {
		// What is missing may be so only in the records that were looked at.
		return d.shape(ctx, b, true)
	}
	if err != nil {
		return err
	}
	shaped := scan.NewShaped(f.base.Rows, f.inference.Schema, f.plan)
	if shaped.Whole = f.inference.Whole; !shaped.Whole {
		shaped.AssumedStarts = f.inference.sample.AssumedStarts
	}
	d.Rows = shaped
	return nil
}

// Shaped reports whether rows have another form than records.
func (d *Data) Shaped() bool { return d.form != nil }

// Twins are the columns of rows in another form that had to be told apart from others.
func (d *Data) Twins() []shape.Twin {
	if d.form == nil {
		return nil
	}
	return d.form.plan.Twins()
}

// Learn has the form of the rows rest on all records; ok is false where it does already.
func (d *Data) Learn(ctx context.Context, b run.Budget) (ok bool, err error) {
	if d.form == nil || d.form.inference.Whole {
		return false, nil
	}
	return true, d.shape(ctx, b, true)
}

// Lesson looks at the error of a try, and tells whether it learned what may help another one. Its own error ends the tries.
type Lesson func(cause error) (learned bool, err error)

// Again has something tried until it succeeds or no lesson learned anything for another try.
func Again(try func() error, lessons ...Lesson) error {
	for {
		err := try()
		if err == nil {
			return nil
		}
		learned := false
		for _, lesson := range lessons {
			var failed error
			if learned, failed = lesson(err); failed != nil {
				return failed
			}
			if learned {
				break
			}
		}
		if !learned {
			return err
		}
	}
}

// WiderForm is the lesson of a value that the form of the rows has no room for: it is settled on all records.
func (d *Data) WiderForm(ctx context.Context, b run.Budget) Lesson {
	return func(err error) (bool, error) {
		if !errors.Is(err, scan.ErrWider) {
			return false, nil
		}
		return d.Learn(ctx, b)
	}
}

// mostMultiplied is how many rows a record may become, on average, where several lists multiply and nothing was confirmed.
const mostMultiplied = 10

// ForeseeRows tells how many rows lists that multiply make, before any is made, and refuses very many that were not confirmed.
func (d *Data) ForeseeRows(ctx context.Context, r Reading, b run.Budget) error {
	if d.form == nil || !d.form.plan.Multiplies() {
		return nil
	}
	var before, after, most int64
	var where string
	err := Again(func() error {
		before, after, most = 0, 0, -1
		return d.Rows.(*scan.Shaped).Count(ctx, b, func(c scan.Counted) {
			for record, n := range c.Counts {
				if n < 0 {
					continue
				}
				before++
				if after += n; n > most {
					most, where = n, fmt.Sprintf("%s:%d", d.Inputs[c.Rows.Block.Object].Location, c.Line(record))
				}
			}
		})
	}, d.WiderForm(ctx, b))
	if err != nil || before == 0 {
		return err
	}
	text := fmt.Sprintf("lists that have nothing to do with each other make %s of %s, at most %s of one record (%s)",
		wording.Count(after, true, "row", "rows"),
		wording.Count(before, true, "record", "records"), wording.Count(most, true, "row", "rows"), where)
	if after > mostMultiplied*before && !r.Confirmed {
		return fault.New(fault.Usage, "%s", text).Try("go through the lists side by side with --unnest a,b, or confirm it with " +
			"--confirm-multiply")
	}
	b.Warned(text)
	return nil
}
