package scan

import (
	"context"
	"errors"
	"io"
	"slices"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/table"
)

// OfTable returns the rows of a table as it is now, without those that are deleted. Columns are found by their ids, whatever
// names they had when the files were written; a column that a file is older than is null there.
func OfTable(ctx context.Context, t *table.Table) (Source, error) { return OfTableWhere(ctx, t, "") }

// OfTableWhere is OfTable without what a condition over the columns of the table holds for none of, as far as bounds tell; the rows still
// have to be held against it. A condition that is none for the table leaves out nothing.
func OfTableWhere(ctx context.Context, t *table.Table, where string) (Source, error) {
	fields := t.Schema.Bare().Fields
	e, err := expr.Parse(where, fields)
	if where == "" || err != nil || len(e.Bounds()) == 0 {
		tasks, err := t.Plan(ctx)
		if err != nil {
			return nil, err
		}
		return OfFiles(ctx, t, tasks)
	}
	bounds := e.Bounds()
	tasks, err := t.PlanWhere(ctx, func(f table.File) bool { return MayHold(bounds, fields, f) })
	if err == nil && len(tasks) == 0 {
		// Who asks for rows is to learn that there are none, and not that there is no table.
		tasks, err = firstTask(ctx, t)
	}
	if err != nil {
		return nil, err
	}
	from, err := OfFiles(ctx, t, tasks)
	if err == nil {
		from.(*rowsOfTable).bounds = bounds
	}
	return from, err
}

// firstTask is one of the files of a table, where there is any.
func firstTask(ctx context.Context, t *table.Table) ([]table.ReadTask, error) {
	first, err := t.FirstFiles(ctx, 1)
	if err != nil || len(first) == 0 {
		return nil, err
	}
	return t.PlanWhere(ctx, func(f table.File) bool { return f.URI == first[0].URI })
}

// OfFiles is OfTable for some of the table's data files, which are the objects of the source in their order. Its rows tell their
// position in the file by Before and Rank, and it has table.OriginField besides, for those who ask for it.
func OfFiles(ctx context.Context, t *table.Table, tasks []table.ReadTask) (Source, error) {
	out := &rowsOfTable{table: t, fields: append(slices.Clone(t.Schema.Fields), table.OriginField), tasks: tasks, deleted: newDeleted(t)}
	own := t.Schema.Clone()
	own.Walk(func(_ string, f *schema.Field) { f.Origin = "" })
	for _, task := range tasks {
		object, err := locate.Stat(ctx, t.Store(), task.URI)
		if err != nil {
			return nil, err
		}
		if object.Size != task.Bytes {
			return nil, fault.New(fault.Storage, "has %d bytes, and the table %s says %d: it is not the file that the table was given", object.Size,
				t.Name, task.Bytes).In(task.URI).Try("put the file back as it was, from a copy")
		}
		in := source.Input{Object: object, Rules: sniff.Rules{Format: sniff.Parquet}, Own: own}
		for _, f := range out.fields {
			in.Rules.Names = append(in.Rules.Names, f.Name)
		}
		out.inputs = append(out.inputs, in)
		out.bytes += object.Size
	}
	return out, nil
}

// rowsOfTable is the data files of a table with their deletes.
type rowsOfTable struct {
	table   *table.Table
	fields  []schema.Field // of the table, and the origin of rows behind them
	tasks   []table.ReadTask
	inputs  []source.Input
	bytes   int64
	deleted *deleted
	// bounds hold for all rows that are wanted, whoever asks for them.
	bounds []expr.Bound
}

// Declared returns the table's columns, none of which need have values: what they do not have was settled when they were written.
func (r *rowsOfTable) Declared() ([]schema.Field, bool) {
	s := r.table.Schema.Clone()
	for i := range s.Fields {
		s.Fields[i].Required = false
	}
	// The names that columns had in some source are none that they have here.
	s.Walk(func(_ string, f *schema.Field) { f.Origin = "" })
	return s.Fields, true
}

func (r *rowsOfTable) Named() bool { return true }

func (r *rowsOfTable) Objects() []source.Input { return r.inputs }

func (r *rowsOfTable) Bytes() int64 { return r.bytes }

// Plan divides the data files between their row groups.
func (r *rowsOfTable) Plan(ctx context.Context, bytes int64) ([]Split, error) {
	return (&files{&source.Source{Inputs: r.inputs}}).Plan(ctx, bytes)
}

func (r *rowsOfTable) Read(ctx context.Context, request Request, take func(*Rows) error) error {
	take = request.limited(ctx, take)
	declared, _ := r.Declared()
	request.Bounds = append(slices.Clone(request.Bounds), r.bounds...)
	if len(request.Target.Schema.Fields) == 0 {
		request.Target = Target{Schema: schema.Schema{Fields: declared}, Style: schema.SafeNames}
	}
	columns, fitter, each := request.columns(r), fit.NewBatches(request.Target.Schema, false), request.each(ctx)
	p := pass{source: &source.Source{Inputs: r.inputs, Bytes: r.bytes}, budget: request.Budget, stage: request.Stage}
	var read int64
	for _, s := range request.parts(r.inputs) {
		i := s.Object
		if !MayHold(request.bounds(), request.Target.Schema.Fields, r.tasks[i].File) {
			request.skip(r.tasks[i].Rows)
			continue
		}
		err := r.file(ctx, s, request, columns.Fields[i], func(rows *Rows) error {
			fitted, err := fitter.Fit(ctx, rows.Batch, columns.Fields[i], nil)
			if err != nil {
				return fault.New(fault.Schema, "%s", err).In(r.inputs[i].Location)
			}
			rows.Result = fitted
			rows.tellMisfits(rows.Misfits)
			p.tell(i, read)
			if err := each(rows); err != nil {
				return err
			}
			return take(rows)
		})
		if errors.Is(err, errEnough) {
			return nil
		}
		if err != nil {
			return err
		}
		read += r.inputs[i].Size
	}
	return nil
}

// skip counts the rows of a file that is passed over.
func (r *Request) skip(rows int64) {
	if r.Skipped != nil {
		r.Skipped.Rows += rows
	}
}

func (r *rowsOfTable) Texts(ctx context.Context, n int, visit func(Record) error) error {
	names := make([]string, len(r.table.Schema.Fields))
	for i, f := range r.table.Schema.Fields {
		names[i] = f.Name
	}
	return r.Read(ctx, Request{}, func(rows *Rows) error {
		return eachRow(rows.Batch, names, func(record Record) error {
			if n--; n < 0 {
				return io.EOF
			}
			return visit(record)
		})
	})
}

// file hands over the rows of a data file, or of a split of it, that are not deleted, under the table's columns; columns that
// are not asked for are null. The error is errEnough when nothing more is wanted.
func (r *rowsOfTable) file(ctx context.Context, s Split, request Request, fields []int, take func(*Rows) error) error {
	in, task := r.inputs[s.Object], r.tasks[s.Object]
	opened, err := in.OpenColumns(ctx)
	if err != nil {
		return err
	}
	defer opened.Close()
	own := opened.Schema
	r.table.GiveIDs(&own)
	gone, err := r.deleted.of(ctx, task)
	if err != nil {
		return err
	}
	ids := newByID(r.fields, own.Fields, r.table.Constants(task.File))
	w := r.want(request, ids, own.Fields, fields, gone)
	if w.none {
		request.skip(task.Rows)
		return nil
	}
	ids.only(w.columns)
	read := pick(own.Fields, w.columns)
	enough, sampled := false, int64(0)
	err = opened.Select(ctx, w.selection(request, s), func(b arrow.RecordBatch, first int64) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if sampled += b.NumRows(); request.Sample != nil && sampled > rowsOfSample+b.NumRows() {
			return io.EOF
		}
		rows := &Rows{Block: parse.Block{Object: s.Object}, Numbered: true, Before: first, Records: b.NumRows()}
		kept, err := gone.keep(ctx, b, read, first)
		if err != nil {
			return err
		}
		rows.Batch = ids.batch(b)
		if request.starts {
			rows.starts = make([]int, b.NumRows())
		}
		if kept != nil {
			if err := rows.only(ctx, kept); err != nil {
				return err
			}
			rows.Records = int64(len(kept))
		}
		err = take(rows)
		enough = errors.Is(err, io.EOF)
		return err
	})
	if enough {
		return errEnough
	}
	return err
}

// want settles what is read of a file: the columns that are asked for, and those by which rows are deleted.
func (r *rowsOfTable) want(request Request, ids *byID, own []schema.Field, fields []int, gone *gone) wanted {
	at := make([]int, len(fields)) // of the target's columns in the file
	for i, column := range fields {
		if at[i] = -1; column >= 0 {
			if at[i] = ids.columns[column]; at[i] < 0 && ids.constants[column] != nil {
				at[i] = constantPlace
			}
		}
	}
	var deleting []int
	for _, e := range gone.equal {
		for _, f := range e.fields {
			if i := slices.IndexFunc(own, func(o schema.Field) bool { return o.ID == f.ID }); i >= 0 {
				deleting = append(deleting, i)
			}
		}
	}
	names := make([]string, len(own))
	for i, f := range own {
		names[i] = f.Name
	}
	return want(request, names, at, deleting)
}

// pick returns some of a list.
func pick[T any](list []T, at []int) []T {
	out := make([]T, len(at))
	for i, n := range at {
		out[i] = list[n]
	}
	return out
}

// byID finds the columns of a table in a file by their field ids.
type byID struct {
	fields  []arrow.Field
	columns []int // of the file, -1 for one that it does not have
	types   []arrow.DataType
	// constants are the values of columns that the file does not have, which its partition tells; nil for others. absent are arrays for
	// columns that are not read, of which batches have slices.
	constants []any
	absent    []arrow.Array
}

// constantPlace stands for the place of a column that the file does not have and that its partition tells.
const constantPlace = -2

// without is a column that is not read, of one of the table's types: all rows have a value that the partition tells, or none.
func (m *byID) without(column, n int) arrow.Array {
	if m.absent == nil {
		m.absent = make([]arrow.Array, len(m.types))
	}
	if all := m.absent[column]; all == nil || all.Len() < n {
		m.absent[column] = nulls(m.types[column], n)
		if v := m.constants[column]; v != nil {
			m.absent[column] = constant(m.types[column], v, n)
		}
	}
	return array.NewSlice(m.absent[column], 0, int64(n))
}

// only makes the columns of the file those that are read of it.
func (m *byID) only(read []int) {
	for i, at := range m.columns {
		m.columns[i] = slices.Index(read, at)
	}
}

// newByID prepares for a file with some fields, and with the values of columns that its partition tells.
func newByID(table, file []schema.Field, constants map[int]any) *byID {
	out := &byID{}
	at := map[int]int{}
	for i, f := range file {
		if f.ID != 0 {
			at[f.ID] = i
		}
	}
	for _, f := range table {
		column, ok := at[f.ID]
		out.constants = append(out.constants, nil)
		if !ok {
			out.columns, out.types = append(out.columns, -1), append(out.types, f.Type.Arrow())
			out.constants[len(out.constants)-1] = constants[f.ID]
		} else {
			// The file's own type, under the names that the table has for its parts.
			named := renamed(file[column].Type, f.Type)
			out.columns, out.types = append(out.columns, column), append(out.types, named.Arrow())
		}
		out.fields = append(out.fields, arrow.Field{Name: f.Name, Nullable: true})
	}
	return out
}

// renamed gives the parts of a file's type the names that a table has for their ids. A part that the table does not have gets a
// name that none has.
func renamed(file, table schema.Type) schema.Type {
	switch {
	case file.Kind != table.Kind:
		return file
	case file.Kind == schema.Struct:
		fields := make([]schema.Field, len(file.Fields))
		for i, f := range file.Fields {
			fields[i] = f
			fields[i].Name = "\x00" + strconv.Itoa(i)
			for _, t := range table.Fields {
				if t.ID == f.ID && f.ID != 0 {
					fields[i].Name, fields[i].Type = t.Name, renamed(f.Type, t.Type)
				}
			}
		}
		file.Fields = fields
	case file.Kind == schema.List || file.Kind == schema.Map:
		element := *file.Element
		element.Type = renamed(element.Type, table.Element.Type)
		file.Element = &element
	}
	return file
}

// batch gives a batch of the file the table's columns.
func (m *byID) batch(b arrow.RecordBatch) arrow.RecordBatch {
	columns, fields := make([]arrow.Array, len(m.columns)), make([]arrow.Field, len(m.columns))
	for i, at := range m.columns {
		fields[i] = m.fields[i]
		if at < 0 {
			columns[i] = m.without(i, int(b.NumRows()))
		} else {
			columns[i] = b.Column(at)
			if d := columns[i].Data(); arrow.IsNested(d.DataType().ID()) {
				columns[i] = array.MakeFromData(relabelled(d, m.types[i]))
			}
			columns[i].Retain()
		}
		fields[i].Type = columns[i].DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows())
}

// relabelled is the same data under a type whose parts have other names.
func relabelled(d arrow.ArrayData, t arrow.DataType) arrow.ArrayData {
	var children []arrow.ArrayData
	switch t := t.(type) {
	case *arrow.StructType:
		for i, child := range d.Children() {
			children = append(children, relabelled(child, t.Field(i).Type))
		}
	case *arrow.ListType:
		children = []arrow.ArrayData{relabelled(d.Children()[0], t.Elem())}
	case *arrow.MapType:
		entries := d.Children()[0]
		parts := []arrow.ArrayData{relabelled(entries.Children()[0], t.KeyType()), relabelled(entries.Children()[1], t.ItemType())}
		children = []arrow.ArrayData{array.NewData(t.Elem(), entries.Len(), entries.Buffers(), parts, entries.NullN(), entries.Offset())}
	default:
		return d
	}
	return array.NewData(t, d.Len(), d.Buffers(), children, d.NullN(), d.Offset())
}
