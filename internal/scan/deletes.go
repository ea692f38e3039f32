package scan

import (
	"context"
	"encoding/binary"
	"slices"
	"sync"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/rowtext"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// mostDeleted bounds how many deletes of rows are held at a time, by position and by value together.
const mostDeleted = 32 << 20

// The ids of the fields of files that delete rows by their positions (Iceberg specification, "Position Delete Files").
const (
	DeletedFileID     = 2147483546
	DeletedPositionID = 2147483545
)

// PositionFields are the columns of a file that lists deleted rows (Iceberg specification, "Position Delete Files").
var PositionFields = schema.Schema{Fields: []schema.Field{
	{ID: DeletedFileID, Name: "file_path", Type: schema.Type{Kind: schema.String}, Required: true},
	{ID: DeletedPositionID, Name: "pos", Type: schema.Type{Kind: schema.Long}, Required: true},
}}

// deleted is what the files of deletes of a table say, each of which is read once.
type deleted struct {
	sync.Mutex
	table     *table.Table
	positions map[string]map[string][]int64 // by file of deletes and data file
	equal     map[string]*equalities        // by file of deletes
	held      int
}

func newDeleted(t *table.Table) *deleted {
	return &deleted{table: t, positions: map[string]map[string][]int64{}, equal: map[string]*equalities{}}
}

// equalities is the values by which rows are deleted.
type equalities struct {
	fields []schema.Field
	keys   map[string]bool
}

// gone tells which rows of a data file are deleted.
type gone struct {
	positions []int64 // in order
	equal     []*equalities
}

// of reads the deletes of a data file.
func (d *deleted) of(ctx context.Context, task table.ReadTask) (*gone, error) {
	d.Lock()
	defer d.Unlock()
	out := &gone{}
	for _, file := range task.Deletes {
		if len(file.Equal) > 0 {
			e, err := d.equalitiesOf(ctx, file)
			if err != nil {
				return nil, err
			}
			out.equal = append(out.equal, e)
			continue
		}
		byFile, err := d.positionsOf(ctx, file)
		if err != nil {
			return nil, err
		}
		out.positions = append(out.positions, byFile[task.URI]...)
	}
	slices.Sort(out.positions)
	return out, nil
}

// hold counts deletes that are held.
func (d *deleted) hold(n int) error {
	if d.held += n; d.held > mostDeleted {
		return fault.New(fault.Schema, "the table %s has more than %d deletes of rows in files of their own", d.table.Name, mostDeleted).
			Try("rewrite its files with the engine that deleted the rows")
	}
	return nil
}

// read hands over the batches of a file of deletes, with its fields.
func (d *deleted) read(ctx context.Context, file table.Deletes, take func([]schema.Field, arrow.RecordBatch) error) error {
	opened, err := columnar.Open(ctx, d.table.Store(), file.URI)
	if err != nil {
		return err
	}
	defer opened.Close()
	own := opened.Schema
	d.table.GiveIDs(&own)
	return opened.Batches(ctx, func(b arrow.RecordBatch) error {
		if err := d.hold(int(b.NumRows())); err != nil {
			return err
		}
		return take(own.Fields, b)
	})
}

func (d *deleted) positionsOf(ctx context.Context, file table.Deletes) (map[string][]int64, error) {
	if known, ok := d.positions[file.URI]; ok {
		return known, nil
	}
	out := map[string][]int64{}
	err := d.read(ctx, file, func(fields []schema.Field, b arrow.RecordBatch) error {
		paths, ok := column(fields, b, DeletedFileID, "file_path").(*array.String)
		rows, numbers := column(fields, b, DeletedPositionID, "pos").(*array.Int64)
		if !ok || !numbers {
			return fault.New(fault.Schema, "is no file of deletes by position").In(file.URI)
		}
		for i := range rows.Len() {
			uri := storage.Path(paths.Value(i))
			out[uri] = append(out[uri], rows.Value(i))
		}
		return nil
	})
	d.positions[file.URI] = out
	return out, err
}

// column returns the column with a field id, or that of a name where fields have no ids.
func column(fields []schema.Field, b arrow.RecordBatch, id int, name string) arrow.Array {
	for i, f := range fields {
		if f.ID == id || f.ID == 0 && f.Name == name {
			return b.Column(i)
		}
	}
	return nil
}

func (d *deleted) equalitiesOf(ctx context.Context, file table.Deletes) (*equalities, error) {
	if known, ok := d.equal[file.URI]; ok {
		return known, nil
	}
	fields, err := d.table.ColumnsByID(file.Equal)
	if err != nil {
		return nil, err
	}
	out := &equalities{fields: fields, keys: map[string]bool{}}
	err = d.read(ctx, file, func(own []schema.Field, b arrow.RecordBatch) error {
		keys, err := out.keysOf(ctx, own, b)
		for _, k := range keys {
			out.keys[k] = true
		}
		return err
	})
	d.equal[file.URI] = out
	return out, err
}

// keysOf writes the values of the columns of each row, as the types of the table have them, so that equal ones are equal texts.
// A column that the batch does not have is null.
func (e *equalities) keysOf(ctx context.Context, own []schema.Field, b arrow.RecordBatch) ([]string, error) {
	at := make([]int, len(e.fields))
	of := schema.Schema{Fields: make([]schema.Field, len(e.fields))}
	for i, f := range e.fields {
		at[i] = slices.IndexFunc(own, func(o schema.Field) bool { return o.ID == f.ID })
		of.Fields[i] = schema.Field{ID: f.ID, Name: f.Name, Type: f.Type}
	}
	fitted, err := fit.NewBatches(of, false).Fit(ctx, b, at, nil)
	if err != nil {
		return nil, err
	}
	keys := make([]string, b.NumRows())
	var key []byte
	for row := range keys {
		key = key[:0]
		for _, c := range fitted.Batch.Columns() {
			if c.IsNull(row) {
				key = append(key, 0)
				continue
			}
			text := rowtext.AppendText(nil, c, row)
			key = append(binary.AppendUvarint(append(key, 1), uint64(len(text))), text...)
		}
		keys[row] = string(key)
	}
	return keys, nil
}

// keep returns the rows of a batch that are not deleted, nil where all are left. before is how many rows of the file came before it.
func (g *gone) keep(ctx context.Context, b arrow.RecordBatch, own []schema.Field, before int64) ([]int32, error) {
	n := int(b.NumRows())
	from, _ := slices.BinarySearch(g.positions, before)
	to, _ := slices.BinarySearch(g.positions, before+int64(n))
	if from == to && len(g.equal) == 0 {
		return nil, nil
	}
	out := make([]bool, n)
	for _, position := range g.positions[from:to] {
		out[position-before] = true
	}
	for _, e := range g.equal {
		keys, err := e.keysOf(ctx, own, b)
		if err != nil {
			return nil, err
		}
		for row, k := range keys {
			out[row] = out[row] || e.keys[k]
		}
	}
	kept := make([]int32, 0, n)
	for row, is := range out {
		if !is {
			kept = append(kept, int32(row))
		}
	}
	return kept, nil
}

// DeletedByFile counts the rows that a file of deletes by position lists, by the URI of their data file.
func DeletedByFile(ctx context.Context, t *table.Table, file table.Deletes) (map[string]int64, error) {
	out := map[string]int64{}
	err := newDeleted(t).read(ctx, file, func(fields []schema.Field, b arrow.RecordBatch) error {
		paths, ok := column(fields, b, DeletedFileID, "file_path").(*array.String)
		if !ok {
			return fault.New(fault.Schema, "is no file of deletes by position").In(file.URI)
		}
		last, n := "", int64(0)
		for i := range paths.Len() {
			if path := paths.Value(i); path != last {
				out[storage.Path(last)] += n
				last, n = path, 0
			}
			n++
		}
		out[storage.Path(last)] += n
		return nil
	})
	delete(out, "")
	return out, err
}

// RowsIn reads a columnar file through, and returns how many rows it has.
func RowsIn(ctx context.Context, s storage.Store, uri string) (n int64, err error) {
	f, err := columnar.Open(ctx, s, uri)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	err = f.Batches(ctx, func(b arrow.RecordBatch) error {
		n += b.NumRows()
		return nil
	})
	return n, err
}
