package table

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

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

// PlanWithDeletes is Plan, and lists the files of deletes besides that delete nothing any more.
func (t *Table) PlanWithDeletes(ctx context.Context) (tasks []ReadTask, idle []File, err error) {
	type data struct {
		task     ReadTask
		sequence int64
	}
	var files []data
	deletes := map[string][]Deletes{} // by partition; "" for those of all partitions
	var refused error
	err = t.entries(ctx, func(e iceberg.ManifestEntry) {
		f := e.DataFile()
		switch {
		case f.ContentType() == iceberg.EntryContentData:
			files = append(files, data{ReadTask{File: fileOf(f)}, e.SequenceNum()})
		case f.FileFormat() == iceberg.PuffinFile:
			refused = fault.New(fault.Schema, "the table %s has deletion vectors (%s), which are not read", t.Name, f.FilePath()).
				Try("rewrite its files with the engine that deleted the rows")
		default:
			d := Deletes{File: fileOf(f), sequence: e.SequenceNum()}
			if f.ContentType() == iceberg.EntryContentEqDeletes {
				d.Equal = f.EqualityFieldIDs()
			} else if only := f.ReferencedDataFile(); only != nil {
				d.Location = storage.Path(*only)
			}
			key := partitionKey(f)
			if len(d.Equal) > 0 && len(f.Partition()) == 0 {
				key = ""
			}
			deletes[key] = append(deletes[key], d)
		}
	})
	if err != nil || refused != nil {
		return nil, nil, firstOf(err, refused)
	}
	out, used := make([]ReadTask, len(files)), map[string]bool{}
	for i, f := range files {
		out[i] = f.task
		keys := []string{partitionKey(f.task.entry), ""}
		for _, key := range keys {
			for _, d := range deletes[key] {
				if d.applies(f.task.URI, f.sequence) {
					out[i].Deletes = append(out[i].Deletes, d)
					used[d.URI] = true
				}
			}
		}
	}
	for _, list := range deletes {
		for _, d := range list {
			if !used[d.URI] {
				idle = append(idle, d.File)
			}
		}
	}
	return out, idle, nil
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
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
