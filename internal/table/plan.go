package table

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/apache/iceberg-go"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// ReadTask is a data file of a table, and the files of deletes that apply to its rows (Iceberg specification, "Scan Planning").
type ReadTask struct {
	File
	Deletes []Deletes
}

// Deletes is a file that deletes rows of others.
type Deletes struct {
	File
	// Equal are the ids of the columns by whose values rows are deleted; without any, the file lists rows by file and position.
	Equal []int
	// Location is the only data file that it lists rows of, empty where it may be any.
	Location string
	sequence int64
}

// Plan lists the data files of the current snapshot in the order they were added, each with its deletes. A table with what
// cannot be honoured is refused.
func (t *Table) Plan(ctx context.Context) ([]ReadTask, error) {
	tasks, _, err := t.PlanWithDeletes(ctx)
	return tasks, err
}

// PlanWhere is Plan for the files that may be wanted.
func (t *Table) PlanWhere(ctx context.Context, wanted func(File) bool) ([]ReadTask, error) {
	tasks, _, err := t.plan(ctx, wanted)
	return tasks, err
}

// PlanWithDeletes is Plan, and lists the files of deletes besides that delete nothing any more.
func (t *Table) PlanWithDeletes(ctx context.Context) (tasks []ReadTask, idle []File, err error) {
	return t.plan(ctx, func(File) bool { return true })
}

// planned is a file with rows or with deletes, and the sequence number of its rows.
type planned struct {
	file     File
	deletes  *Deletes
	sequence int64
}

func (t *Table) plan(ctx context.Context, wanted func(File) bool) (tasks []ReadTask, idle []File, err error) {
	return t.planOf(ctx, fileOf, wanted)
}

func (t *Table) planOf(ctx context.Context, describe func(iceberg.DataFile) File, wanted func(File) bool) (tasks []ReadTask, idle []File,
	err error) {
	var vector atomic.Pointer[string]
	all, err := gather(ctx, t, func(e iceberg.ManifestEntry) (planned, bool) {
		f := e.DataFile()
		switch {
		case f.ContentType() == iceberg.EntryContentData:
			file := describe(f)
			return planned{file: file, sequence: e.SequenceNum()}, wanted(file)
		case f.FileFormat() == iceberg.PuffinFile:
			path := f.FilePath()
			vector.Store(&path)
			return planned{}, false
		}
		d := Deletes{File: describe(f), sequence: e.SequenceNum()}
		if f.ContentType() == iceberg.EntryContentEqDeletes {
			d.Equal = f.EqualityFieldIDs()
		} else if only := f.ReferencedDataFile(); only != nil {
			d.Location = storage.Path(*only)
		}
		return planned{deletes: &d}, true
	})
	if path := vector.Load(); err == nil && path != nil {
		err = fault.New(fault.Schema, "the table %s has deletion vectors (%s), which are not read", t.Name, *path).
			Try("rewrite its files with the engine that deleted the rows")
	}
	if err != nil {
		return nil, nil, err
	}
	deletes := map[string][]Deletes{} // by partition; "" for those of all partitions
	for _, p := range all {
		if p.deletes == nil {
			continue
		}
		key := partitionKey(p.deletes.entry)
		if len(p.deletes.Equal) > 0 && len(p.deletes.entry.Partition()) == 0 {
			key = ""
		}
		deletes[key] = append(deletes[key], *p.deletes)
	}
	used := map[string]bool{}
	for _, p := range all {
		if p.deletes != nil {
			continue
		}
		task := ReadTask{File: p.file}
		if len(deletes) > 0 {
			for _, key := range []string{partitionKey(p.file.entry), ""} {
				for _, d := range deletes[key] {
					if d.applies(p.file.URI, p.sequence) {
						task.Deletes = append(task.Deletes, d)
						used[d.URI] = true
					}
				}
			}
		}
		tasks = append(tasks, task)
	}
	for _, list := range deletes {
		for _, d := range list {
			if !used[d.URI] {
				idle = append(idle, d.File)
			}
		}
	}
	return tasks, idle, nil
}

// applies reports whether deletes of a partition are for a data file of it: those by position for files of their own commit and
// before, those by values for files of commits before theirs.
func (d Deletes) applies(uri string, sequence int64) bool {
	if len(d.Equal) > 0 {
		return sequence < d.sequence
	}
	return sequence <= d.sequence && (d.Location == "" || d.Location == uri)
}

// partitionKey tells partitions from each other, those of different partitionings too.
func partitionKey(f iceberg.DataFile) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d", f.SpecID())
	values := f.Partition()
	for _, id := range slices.Sorted(maps.Keys(values)) {
		fmt.Fprintf(&b, " %d=%s", id, valueKey(values[id]))
	}
	return b.String()
}

// valueKey writes a partition value so that equal ones are alike, whether they were read or are to be written.
func valueKey(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return strconv.Quote(v)
	case []byte:
		return strconv.Quote(string(v))
	case iceberg.Decimal:
		return v.String()
	}
	switch r := reflect.ValueOf(v); r.Kind() {
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return strconv.FormatInt(r.Int(), 10)
	}
	return fmt.Sprint(v)
}

// ColumnsByID returns the columns with some ids, as they are now or, of those that are gone, were in the newest schema that had
// them. Parts of columns are no columns.
func (t *Table) ColumnsByID(ids []int) ([]schema.Field, error) {
	var out []schema.Field
	for _, id := range ids {
		f, err := t.columnByID(id)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

func (t *Table) columnByID(id int) (schema.Field, error) {
	for _, f := range t.Schema.Fields {
		if f.ID == id {
			return f, nil
		}
	}
	schemas := t.table.Metadata().Schemas()
	for i := len(schemas) - 1; i >= 0; i-- {
		s, err := fromIceberg(schemas[i], nil)
		if err != nil {
			continue
		}
		for _, f := range s.Fields {
			if f.ID == id {
				return f, nil
			}
		}
	}
	return schema.Field{}, fault.New(fault.Schema, "the table %s has deletes by the values of field %d, which is no column", t.Name, id).
		Try("rewrite its files with the engine that deleted the rows")
}

// GiveIDs gives the columns of a file that has no field ids those that the table's name mapping has for their names (Iceberg
// specification, "Column Projection"). A file with ids keeps them.
func (t *Table) GiveIDs(s *schema.Schema) {
	some := false
	s.Walk(func(_ string, f *schema.Field) { some = some || f.ID != 0 })
	if !some {
		giveIDs(s.Fields, t.table.NameMapping())
	}
}

func giveIDs(fields []schema.Field, mapping []iceberg.MappedField) {
	for i := range fields {
		f := &fields[i]
		for _, m := range mapping {
			if m.FieldID == nil || !slices.Contains(m.Names, f.Name) {
				continue
			}
			f.ID = *m.FieldID
			giveIDs(f.Type.Fields, m.Fields)
			for _, part := range []*schema.Field{f.Type.Key, f.Type.Element} {
				if part != nil {
					one := []schema.Field{*part}
					giveIDs(one, m.Fields)
					*part = one[0]
				}
			}
		}
	}
}

// PlanSlim is PlanWithDeletes without what is known of the values in files, which takes most of the memory that a plan does.
func (t *Table) PlanSlim(ctx context.Context) (tasks []ReadTask, idle []File, err error) {
	specs := map[int]iceberg.PartitionSpec{}
	for _, s := range t.table.Metadata().PartitionSpecs() {
		specs[s.ID()] = s
	}
	return t.planOf(ctx, func(f iceberg.DataFile) File { return slim(specs[int(f.SpecID())], f) }, func(File) bool { return true })
}

// slim is a file without counts and bounds.
func slim(spec iceberg.PartitionSpec, f iceberg.DataFile) File {
	out := File{URI: storage.Path(f.FilePath()), Format: strings.ToLower(string(f.FileFormat())), Rows: f.Count(),
		Bytes: f.FileSizeBytes(), entry: f}
	b, err := iceberg.NewDataFileBuilder(spec, f.ContentType(), f.FilePath(), f.FileFormat(), f.Partition(), nil, nil, f.Count(),
		f.FileSizeBytes())
	if err != nil {
		return out
	}
	if order := f.SortOrderID(); order != nil {
		b.SortOrderID(*order)
	}
	if only := f.ReferencedDataFile(); only != nil {
		b.ReferencedDataFile(*only)
	}
	if ids := f.EqualityFieldIDs(); len(ids) > 0 {
		b.EqualityFieldIDs(ids)
	}
	if row := f.FirstRowID(); row != nil {
		b.FirstRowID(*row)
	}
	out.entry = b.Build()
	return out
}
