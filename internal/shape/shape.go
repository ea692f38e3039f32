// Package shape changes the form of rows: it leaves some out, makes rows of the elements of lists, columns of the members of
// objects, and columns of expressions.
//
// What comes in are the schema that records are read with and record batches of it; what goes out are the schema and the
// batches of the new form, and for each row the one it came of. Batches are worked on column by column, independently of each
// other.
package shape

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/schema"
)

// Spec says what becomes of rows. Things are done in this order: Where, Unnest, Flatten, Derive, Nest, NestRows.
type Spec struct {
	// Where keeps the rows for which an expression is true; empty for all.
	Where string
	// Unnest makes rows of the elements of lists, one entry after the other; the lists of one entry go side by side.
	Unnest [][]string
	// Index adds the position of each element, from 0, and Count how many elements each list has, which is null for one that is
	// absent; DropEmpty leaves out rows whose lists are empty or absent, which otherwise stay as one row each.
	Index, Count, DropEmpty bool
	// Flatten makes a column of every member of an object, named by its path with Separator between; below Depth objects, 0 for
	// any number, they stay.
	Flatten   bool
	Separator string
	Depth     int
	// ListsAsJSON makes JSON text of lists, maps and objects that Flatten leaves.
	ListsAsJSON bool
	// Nest makes objects of columns.
	Nest []Nest
	// Derive adds columns of expressions, each of which may name those before it.
	Derive []Derivation
	// Without takes lists away, whose elements are counted; Child makes the rows of one list and nothing else. Both come after Where.
	Without []string
	Child   Child
	// NestRows makes one row of consecutive ones that agree in all columns but these, which become a list; without a name there
	// is none. Where there are columns in NestKey, rows that agree in them are brought next to each other before that, and come
	// in their order.
	NestRows Nest
	NestKey  []string
}

// Nest is an object to be made of columns, in their order.
type Nest struct {
	Name    string
	Columns []string
}

// Derivation is a column to be added, or to take the place of one of that name.
type Derivation struct{ Name, Text string }

// DefaultSeparator stands between the parts of a path in a column's name.
const DefaultSeparator = "_"

// Empty reports whether nothing is to be changed.
func (s Spec) Empty() bool {
	return s.Where == "" && len(s.Unnest) == 0 && !s.Flatten && len(s.Nest) == 0 && len(s.Derive) == 0 && s.NestRows.Name == "" &&
		len(s.Without) == 0 && s.Child.List == ""
}

// Multiplies reports whether several rows may come of a record, or one of several.
func (s Spec) Multiplies() bool {
	return len(s.Unnest) > 0 || s.Child.List != "" || s.NestRows.Name != ""
}

// Lists are the members of records that lists to be taken apart are, or lie in.
func (s Spec) Lists() (names []string) {
	for _, entry := range append(slices.Clone(s.Unnest), s.Without, []string{s.Child.List}) {
		for _, list := range entry {
			if name, _, _ := strings.Cut(list, "."); name != "" {
				names = append(names, name)
			}
		}
	}
	return names
}

// Plan is a Spec settled for a schema. It can be used by several goroutines at a time.
type Plan struct {
	// Schema is that of the new form.
	Schema schema.Schema
	steps  []step
	arrow  *arrow.Schema
	chains []chain
	group  *group        // nil where rows are not brought together
	before *arrow.Schema // of the rows before that
	// ungrouped is what before is for.
	ungrouped schema.Schema
}

// Bounds are what holds for a column of every record that makes a row.
func (p *Plan) Bounds() []expr.Bound {
	if len(p.steps) == 0 {
		return nil
	}
	if w, ok := p.steps[0].(*where); ok {
		return w.condition.Bounds()
	}
	return nil
}

// step is one change of form.
type step interface {
	// settle returns the fields after the step.
	settle(fields []schema.Field) ([]schema.Field, error)
	apply(ctx context.Context, f *frame) error
}

// New settles what is to be done to rows of a schema.
func New(s schema.Schema, spec Spec) (*Plan, error) {
	p := &Plan{}
	if spec.Where != "" {
		p.steps = append(p.steps, &where{text: spec.Where})
	}
	separator := spec.Separator
	if separator == "" {
		separator = DefaultSeparator
	}
	if spec.Child.List != "" {
		p.steps = append(p.steps, &child{Child: spec.Child})
	}
	for _, list := range spec.Without {
		p.steps = append(p.steps, &without{name: list})
	}
	for _, lists := range spec.Unnest {
		p.steps = append(p.steps, &unnest{lists: lists, index: spec.Index, count: spec.Count, dropEmpty: spec.DropEmpty,
			separator: separator, flag: "--unnest"})
	}
	if spec.Flatten {
		p.steps = append(p.steps, &flatten{separator: separator, depth: spec.Depth, asJSON: spec.ListsAsJSON})
	}
	for _, d := range spec.Derive {
		p.steps = append(p.steps, &derive{Derivation: d})
	}
	for _, n := range spec.Nest {
		p.steps = append(p.steps, &nest{Nest: n, separator: separator})
	}
	fields := s.Clone().Fields
	var err error
	for _, step := range p.steps {
		if fields, err = step.settle(fields); err != nil {
			return nil, err
		}
	}
	if p.chains, err = chains(s.Fields, spec); err != nil {
		return nil, err
	}
	p.ungrouped = schema.Schema{Fields: fields}
	p.before = p.ungrouped.Arrow()
	if spec.NestRows.Name != "" {
		if p.group, fields, err = newGroup(spec.NestRows, spec.NestKey, separator, fields); err != nil {
			return nil, err
		}
	}
	p.Schema = schema.Schema{Fields: fields}
	p.arrow = p.Schema.Arrow()
	return p, nil
}

// KeepsDictionaries reports whether columns of Arrow dictionaries may come in: they go out as such then.
func (p *Plan) KeepsDictionaries() bool {
	for _, s := range p.steps {
		switch s := s.(type) {
		case *unnest:
		case *flatten:
			if s.asJSON {
				return false
			}
		default:
			return false
		}
	}
	return p.group == nil
}

// frame is columns under change.
type frame struct {
	fields []schema.Field
	arrays []arrow.Array
	rows   int
	// origin is for each row the one of the batch that it came of; nil while none has moved.
	origin []int32
	// kept is how many rows of the batch the condition kept, elements how many the lists have that were taken away.
	kept     int
	elements []int64
}

// Result is a batch in its new form.
type Result struct {
	Batch arrow.RecordBatch
	// Origin is for each row the one that it came of; nil where all are in their places.
	Origin []int32
	// Kept is how many rows Where kept.
	Kept int
	// Elements are how many elements the lists have that Without took away.
	Elements []int64
}

// Apply changes the form of a batch of the schema that the plan was made for. Where rows are brought together, Group follows.
func (p *Plan) Apply(ctx context.Context, fields []schema.Field, batch arrow.RecordBatch) (Result, error) {
	f := &frame{fields: fields, arrays: batch.Columns(), rows: int(batch.NumRows()), kept: int(batch.NumRows())}
	for _, step := range p.steps {
		if err := step.apply(ctx, f); err != nil {
			return Result{}, f.of(err)
		}
	}
	types := p.before.Fields()
	for i, a := range f.arrays {
		types[i].Type = a.DataType()
	}
	return Result{array.NewRecordBatch(arrow.NewSchema(types, nil), f.arrays, int64(f.rows)), f.origin, f.kept, f.elements}, nil
}

// of makes the row that an error of an expression tells the one of the batch that it came of.
func (f *frame) of(err error) error {
	var e *expr.Error
	if errors.As(err, &e) && e.Row >= 0 && f.origin != nil {
		e.Row = int(f.origin[e.Row])
	}
	return err
}

// take moves rows: those at the positions stay, in that order.
func (f *frame) take(ctx context.Context, rows []int32) (err error) {
	arrays := make([]arrow.Array, len(f.arrays))
	for i, a := range f.arrays {
		if arrays[i], err = takeArray(ctx, a, rows, nil); err != nil {
			return err
		}
	}
	f.arrays = arrays
	f.moved(rows)
	return nil
}

// moved notes where rows came of.
func (f *frame) moved(rows []int32) {
	origin := make([]int32, len(rows))
	for i, at := range rows {
		origin[i] = at
		if f.origin != nil {
			origin[i] = f.origin[at]
		}
	}
	f.origin, f.rows = origin, len(rows)
}

// find returns the position of the column that a name means, -1 where there is none.
func find(fields []schema.Field, name string) int {
	return schema.NewIndex(fields, schema.SafeNames).Find(name)
}

// unknown says that there is no column of a name.
func unknown(flag, name string, fields []schema.Field) error {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	return fault.New(fault.Usage, "%s names %q, which the rows do not have", flag, name).Try("%s", schema.Choices(name, names))
}

// where keeps the rows for which a condition is true.
type where struct {
	text      string
	condition *expr.Expression
}

func (w *where) settle(fields []schema.Field) (_ []schema.Field, err error) {
	if w.condition, err = expr.Parse(w.text, fields); err != nil {
		return nil, fault.New(fault.Usage, "--where: %s", err)
	}
	if t := w.condition.Type(); t.Kind != schema.Boolean {
		return nil, fault.New(fault.Usage, "--where '%s' is %s, not a condition", w.text, t).Try("compare it with something")
	}
	return fields, nil
}

func (w *where) apply(ctx context.Context, f *frame) error {
	rows, err := w.condition.Rows(f.arrays, f.rows)
	if err != nil {
		return fmt.Errorf("--where: %w", err)
	}
	f.kept = len(rows)
	if len(rows) == f.rows {
		return nil
	}
	return f.take(ctx, rows)
}

// derive adds a column.
type derive struct {
	Derivation
	value *expr.Expression
	at    int // of the column that it takes the place of, -1 for none
}

func (d *derive) settle(fields []schema.Field) (_ []schema.Field, err error) {
	if d.value, err = expr.Parse(d.Text, fields); err != nil {
		return nil, fault.New(fault.Usage, "--derive %s: %s", d.Name, err)
	}
	out := schema.Field{Name: d.Name, Type: d.value.Type()}
	if d.at = find(fields, d.Name); d.at >= 0 {
		fields[d.at] = out
		return fields, nil
	}
	return append(fields, out), nil
}

func (d *derive) apply(_ context.Context, f *frame) error {
	a, err := d.value.Column(f.arrays, f.rows)
	if err != nil {
		return fmt.Errorf("--derive %s: %w", d.Name, err)
	}
	arrays := append([]arrow.Array(nil), f.arrays...)
	if d.at >= 0 {
		arrays[d.at] = a
	} else {
		arrays = append(arrays, a)
	}
	f.arrays = arrays
	return nil
}
