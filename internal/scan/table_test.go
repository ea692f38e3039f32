package scan_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/expr"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// loaded loads files, one after the other, into a table.
func loaded(t testing.TB, partition string, contents ...string) (*table.Warehouse, table.Name) {
	t.Helper()
	files := map[string]string{}
	for i, text := range contents {
		files[fmt.Sprintf("%d.csv", i)] = text
	}
	testfolder.Make(t, files)
	w, err := table.OpenWarehouse(storage.Disk{}, "store")
	if err != nil {
		t.Fatal(err)
	}
	name, err := table.ParseName("ops.readings")
	if err != nil {
		t.Fatal(err)
	}
	for i := range contents {
		l := load.Request{Task: write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{},
			Sources: []string{fmt.Sprintf("%d.csv", i)}}}},
			Warehouse: w, Into: name, Partition: partition, Layout: layout.DefaultOptions}
		if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
			t.Fatal(err)
		}
	}
	return w, name
}

// tableRows reads the rows of a table as it is now.
func tableRows(t testing.TB, w *table.Warehouse, name table.Name, r scan.Request) string {
	t.Helper()
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	s, err := scan.OfTable(t.Context(), now)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(read(t, s, r), " ")
}

// deletes commits a file of deletes beside the data files: of ids, or of rows by their positions in the first data file.
func deletes(t testing.TB, w *table.Warehouse, name table.Name, equal []int, s schema.Schema, rows func(*array.RecordBuilder)) {
	t.Helper()
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	a, err := w.Append(now, now.Schema)
	if err != nil {
		t.Fatal(err)
	}
	r := layout.NewRouter(s, nil, layout.DefaultOptions, a.CreateFile)
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	rows(build)
	if err := r.Write(t.Context(), build.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Commit(t.Context(), name, "deletes",
		table.Change{Format: columnar.Parquet, Deletes: []table.DeleteFile{{DataFile: files[0], Equal: equal}}}); err != nil {
		t.Fatal(err)
	}
}

// TestDeletesAreHonoured deletes rows by values and by positions; rows that come after a delete by values stay.
func TestDeletesAreHonoured(t *testing.T) {
	w, name := loaded(t, "", "id,area\n1,Cairn Bay\n2,The Narrows\n3,Cairn Bay\n4,Marrow Deep\n")
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	ids := schema.Schema{Fields: []schema.Field{now.Schema.Fields[0]}}
	deletes(t, w, name, []int{1}, ids, func(b *array.RecordBuilder) { b.Field(0).(*array.Int64Builder).AppendValues([]int64{3, 9}, nil) })
	if got := tableRows(t, w, name, scan.Request{}); got != "0|1|Cairn Bay 0|2|The Narrows 0|4|Marrow Deep" {
		t.Errorf("deleted by value: %s", got)
	}
	files, err := now.Files(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	positions := schema.Schema{Fields: []schema.Field{{ID: 2147483546, Name: "file_path", Type: schema.Type{Kind: schema.String},
		Required: true},
		{ID: 2147483545, Name: "pos", Type: schema.Type{Kind: schema.Long}, Required: true}}}
	deletes(t, w, name, nil, positions, func(b *array.RecordBuilder) {
		b.Field(0).(*array.StringBuilder).AppendValues([]string{files[0].URI, files[0].URI, "/elsewhere"}, nil)
		b.Field(1).(*array.Int64Builder).AppendValues([]int64{0, 3, 1}, nil)
	})
	if got := tableRows(t, w, name, scan.Request{}); got != "0|2|The Narrows" {
		t.Errorf("deleted by position too: %s", got)
	}
	// The same ids again, in a file that is younger than the deletes.
	again := load.Request{Task: write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{},
		Sources: []string{"0.csv"}}}}, Again: true, Warehouse: w, Into: name, Layout: layout.DefaultOptions}
	if _, err := load.Load(t.Context(), again, run.DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	some := scan.Request{Target: scan.Target{Schema: schema.Schema{Fields: now.Schema.Fields[1:],
		Omission: schema.Omission{OmitRest: true}}}}
	if got := tableRows(t, w, name, some); got != "0|The Narrows 1|Cairn Bay 1|The Narrows 1|Cairn Bay 1|Marrow Deep" {
		t.Errorf("with younger rows, without the column of the deletes: %s", got)
	}
	if files, err := now.Files(t.Context()); err != nil || len(files) != 1 {
		t.Errorf("%d files as they were, %v", len(files), err)
	}
	if now, _ = w.Find(t.Context(), name); now != nil {
		if _, err := now.Files(t.Context()); !errors.Is(err, table.ErrDeletes) {
			t.Errorf("%v", err)
		}
	}
}

// TestColumnsGoByIDs renames columns so that one has the name that another had, and adds one that older files do not have.
func TestColumnsGoByIDs(t *testing.T) {
	w, name := loaded(t, "", "a,b\n1,x\n2,y\n")
	_, err := w.Alter(t.Context(), name, table.Alteration{Columns: func(now *table.Table) (schema.Schema, []string, error) {
		s := now.Schema.Clone()
		s.Fields[0].Name, s.Fields[1].Name = "b", "c"
		s.Fields = append(s.Fields, schema.Field{ID: now.LastColumnID() + 1, Name: "a", Type: schema.Type{Kind: schema.Double}})
		return s, []string{"renamed"}, nil
	}}, false)
	if err != nil {
		t.Fatal(err)
	}
	if got := tableRows(t, w, name, scan.Request{}); got != "0|1|x|(null) 0|2|y|(null)" {
		t.Errorf("%s", got)
	}
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	where, err := expr.Parse("b = 2 and a is null", now.Schema.Fields)
	if err != nil {
		t.Fatal(err)
	}
	target := scan.Target{Schema: now.Schema}
	if got := tableRows(t, w, name, scan.Request{Target: target, Where: where}); got != "0|2|y|(null)" {
		t.Errorf("%s", got)
	}
	if where, err = expr.Parse("a > 1", now.Schema.Fields); err != nil {
		t.Fatal(err)
	}
	var skipped columnar.Skipped
	if got := tableRows(t, w, name, scan.Request{Target: target, Where: where, Skipped: &skipped}); got != "" || skipped.Rows != 2 {
		t.Errorf("%q, %+v", got, skipped)
	}
}

// TestFilesArePassedOver asks for rows that are in one data file alone.
func TestFilesArePassedOver(t *testing.T) {
	w, name := loaded(t, "area", "id,area,day\n1,Cairn Bay,2031-05-01\n2,The Narrows,2031-05-02\n",
		"id,area,day\n3,Cairn Bay,2031-05-03\n4,The Narrows,2031-05-04\n")
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{"area = 'Cairn Bay' and day > date '2031-05-02'": "3", "id = 4": "4",
		"day < date '2031-05-02'": "1"} {
		where, err := expr.Parse(text, now.Schema.Fields)
		if err != nil {
			t.Fatal(err)
		}
		var skipped columnar.Skipped
		got := tableRows(t, w, name, scan.Request{Target: scan.Target{Schema: now.Schema}, Where: where, Skipped: &skipped})
		if parts := strings.Split(got, "|"); len(parts) != 4 || parts[1] != want || skipped.Rows != 3 {
			t.Errorf("%s: %q, %+v", text, got, skipped)
		}
	}
}
