package table

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

func columns() schema.Schema {
	part := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct,
		Fields: []schema.Field{{Name: "value", Type: schema.Type{Kind: schema.Double}}}}}
	return schema.Schema{Fields: []schema.Field{
		{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "sea_area", Origin: "Sea Area", Type: schema.Type{Kind: schema.String}, Doc: "named \"Sea Area\" in the source"},
		{Name: "readings", Type: schema.Type{Kind: schema.List, Element: &part}},
	}}
}

// write writes n rows through a load that was begun.
func write(t testing.TB, a *Append, n int) []layout.DataFile {
	t.Helper()
	r := layout.NewRouter(a.Schema, a.Spec, layout.DefaultOptions, a.CreateFile)
	build := array.NewRecordBuilder(memory.DefaultAllocator, a.Schema.Arrow())
	for i := range n {
		build.Field(0).(*array.Int64Builder).Append(int64(i))
		build.Field(1).(*array.StringBuilder).Append([]string{"Cairn Bay", "The Narrows"}[i%2])
		for more := 2; more < len(a.Schema.Fields); more++ {
			build.Field(more).AppendNull()
		}
	}
	if err := r.Write(t.Context(), build.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return files
}

func open(t testing.TB, dir string) (*Warehouse, Name) {
	t.Helper()
	w, err := OpenWarehouse(storage.Disk{}, dir)
	if err != nil {
		t.Fatal(err)
	}
	name, err := ParseName("ops.readings")
	if err != nil {
		t.Fatal(err)
	}
	return w, name
}

// load makes a table, or adds to it.
func load(t testing.TB, w *Warehouse, name Name, rows int) (Snapshot, error) {
	t.Helper()
	existing, err := w.Load(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	var a *Append
	if existing == nil {
		a, err = w.Create(name, columns(), layout.Spec{{Name: "identity", Column: "sea_area"}}, nil, columnar.Parquet)
		if err != nil {
			t.Fatal(err)
		}
	} else {
		a = appended(t, w, existing, existing.Schema)
	}
	s, err := a.Commit(t.Context(), write(t, a, rows))
	if err != nil {
		a.Rollback()
	}
	return s, err
}

func rows(t testing.TB, tbl *Table) (n int64) {
	t.Helper()
	files, err := tbl.Files(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		opened, err := columnar.Open(t.Context(), tbl.Store(), f.URI)
		if err != nil {
			t.Fatal(err)
		}
		if opened.Rows() != f.Rows {
			t.Errorf("%s holds %d rows, the manifest says %d", f.URI, opened.Rows(), f.Rows)
		}
		n += opened.Rows()
		opened.Close()
	}
	return n
}

func TestCreateAndAppend(t *testing.T) {
	for _, dir := range []string{"plain", "with spaces", "mit Ümlaut"} {
		t.Run(dir, func(t *testing.T) {
			w, name := open(t, filepath.Join(t.TempDir(), dir))
			for i := range 3 {
				s, err := load(t, w, name, 10)
				if err != nil {
					t.Fatal(err)
				}
				if want := int64(10 * (i + 1)); s.Rows != want || s.AddedRows != 10 || (s.Parent == nil) != (i == 0) {
					t.Errorf("load %d: %+v", i, s)
				}
			}
			got, err := w.Find(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			if n := rows(t, got); n != 30 || len(got.Snapshots()) != 3 || got.Spec.String() != "sea_area" {
				t.Errorf("%d rows, %d snapshots, partitioned by %s", n, len(got.Snapshots()), got.Spec)
			}
			want := columns()
			want.AssignIDs()
			if fmt.Sprintf("%+v", got.Schema.Fields[:2]) != fmt.Sprintf("%+v", want.Fields[:2]) ||
				got.Schema.Fields[2].Type.Element.Type.Fields[0].ID != 5 {
				t.Errorf("the schema came back as %+v", got.Schema)
			}
			names, err := w.Names(t.Context())
			if err != nil || len(names) != 1 || names[0].String() != "ops.readings" {
				t.Errorf("%v, %v", names, err)
			}
		})
	}
}

func TestNothingIsSeenBeforeTheCommit(t *testing.T) {
	dir := t.TempDir()
	w, name := open(t, dir)
	a, err := w.Create(name, columns(), nil, nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	write(t, a, 5)
	if found, err := w.Load(t.Context(), name); found != nil || err != nil {
		t.Errorf("the table is there before its commit: %v, %v", found, err)
	}
	if names, err := w.Names(t.Context()); len(names) != 0 || err != nil {
		t.Errorf("%v, %v", names, err)
	}
	a.Rollback()
	var left []string
	filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			left = append(left, path)
		}
		return nil
	})
	if len(left) > 0 {
		t.Errorf("a rollback leaves %v", left)
	}
}

func TestConcurrentLoadsAreAllKept(t *testing.T) {
	w, name := open(t, t.TempDir())
	if _, err := load(t, w, name, 1); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for range 6 {
		wait.Go(func() {
			for range 4 {
				if _, err := load(t, w, name, 10); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	got, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	if n := rows(t, got); n != 241 {
		t.Errorf("%d rows, want 241", n)
	}
}

func TestOneOfTwoCreationsWins(t *testing.T) {
	w, name := open(t, t.TempDir())
	first, err := w.Create(name, columns(), nil, nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	second, err := w.Create(name, columns(), nil, nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	a, b := write(t, first, 3), write(t, second, 4)
	if _, err := first.Commit(t.Context(), a); err != nil {
		t.Fatal(err)
	}
	if _, err := second.Commit(t.Context(), b); fault.KindOf(err) != fault.Conflict {
		t.Errorf("%v", err)
	}
	second.Rollback()
	got, err := w.Find(t.Context(), name)
	if err != nil || rows(t, got) != 3 {
		t.Errorf("%v, %v", got, err)
	}
}

func TestInterruptedCommitsDoNotBlock(t *testing.T) {
	w, name := open(t, t.TempDir())
	if _, err := load(t, w, name, 2); err != nil {
		t.Fatal(err)
	}
	// What a commit that was killed between its two steps leaves behind.
	claim := filepath.Join(w.Dir(), "ops", "readings", "metadata", "v2.metadata.json.claim")
	if err := os.WriteFile(claim, []byte("{}"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(w.Dir(), "ops", "readings", "metadata", "version-hint.text")); err != nil {
		t.Fatal(err)
	}
	if s, err := load(t, w, name, 2); err != nil || s.Rows != 4 {
		t.Errorf("%+v, %v", s, err)
	}
}

// TestPublishedFilesAreNeverRemoved lets the step after the publication of a commit fail.
func TestPublishedFilesAreNeverRemoved(t *testing.T) {
	w, name := open(t, t.TempDir())
	a, err := w.Create(name, columns(), nil, nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	files := write(t, a, 6)
	// The hint cannot be written where a folder has its name.
	if err := os.MkdirAll(filepath.Join(w.Dir(), "ops", "readings", "metadata", "version-hint.text"), 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := a.Commit(t.Context(), files)
	if err != nil || s.Rows != 6 {
		t.Errorf("%+v, %v", s, err)
	}
	a.Rollback()
	got, err := w.Find(t.Context(), name)
	if err != nil || rows(t, got) != 6 {
		t.Errorf("%v, %v", got, err)
	}
}

func TestManifestsHoldMetrics(t *testing.T) {
	w, name := open(t, t.TempDir())
	if _, err := load(t, w, name, 10); err != nil {
		t.Fatal(err)
	}
	got, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	disk, err := got.table.FS(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	manifests, err := got.table.CurrentSnapshot().Manifests(disk)
	if err != nil {
		t.Fatal(err)
	}
	entries, err := manifests[0].FetchEntries(disk, true)
	if err != nil || len(entries) != 2 {
		t.Fatalf("%d entries, %v", len(entries), err)
	}
	f := entries[0].DataFile()
	if f.Count() != 5 || f.ValueCounts()[1] != 5 || f.NullValueCounts()[5] != 5 || f.NaNValueCounts()[5] != 0 ||
		len(f.LowerBoundValues()[1]) != 8 ||
		string(f.UpperBoundValues()[2]) == "" || f.ColumnSizes()[1] == 0 || len(f.SplitOffsets()) != 1 ||
		fmt.Sprint(f.Partition()[1000]) != string(f.LowerBoundValues()[2]) {
		t.Errorf("%v", f)
	}
}

func TestParseName(t *testing.T) {
	for text, want := range map[string]string{"ops.readings": "ops.readings", "table:a.b.c-d": "a.b.c-d"} {
		if n, err := ParseName(text); err != nil || n.String() != want {
			t.Errorf("%s: %v, %v", text, n, err)
		}
	}
	for _, text := range []string{"", "readings", "a..b", "a.b/c", "..", "a. b", "a._b", "a.ü"} {
		if n, err := ParseName(text); err == nil || fault.KindOf(err) != fault.Usage {
			t.Errorf("%q: %v, %v", text, n, err)
		}
	}
}

func TestFindSuggests(t *testing.T) {
	w, name := open(t, t.TempDir())
	other, err := ParseName("ops.reading")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Find(t.Context(), other); err == nil || !strings.Contains(err.Error(), "holds no table yet") {
		t.Errorf("%v", err)
	}
	if _, err := load(t, w, name, 1); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Find(t.Context(), other); err == nil || !strings.Contains(err.Error(), "the nearest name is ops.readings") {
		t.Errorf("%v", err)
	}
	if _, err := OpenWarehouse(storage.Disk{}, "odd#place"); fault.KindOf(err) != fault.Usage {
		t.Errorf("%v", err)
	}
}

func BenchmarkCommit(b *testing.B) {
	w, name := open(b, b.TempDir())
	if _, err := load(b, w, name, 1); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := load(b, w, name, 1); err != nil {
			b.Fatal(err)
		}
	}
}

// appended begins a further load of a table.
func appended(t testing.TB, w *Warehouse, of *Table, s schema.Schema) *Append {
	t.Helper()
	a, err := w.Append(of, s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestPlacesOfWarehouses(t *testing.T) {
	for place, want := range map[string]string{
		"/lake/warehouse": "", "mem://lake/warehouse": "", "/lake/a b": "",
		`C:\lake\warehouse`: "a path of Windows", `\\host\lake`: "a path of Windows", "/lake/50%": "parts of a URL", "/lake/a#b": "parts of a URL",
	} {
		err := checkPlace(place)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v", place, err)
		}
	}
}
