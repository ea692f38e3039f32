package table

import (
	"context"
	"errors"
	"slices"
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

// inMemory opens an empty warehouse in memory.
func inMemory(t testing.TB) (*Warehouse, Name) {
	t.Helper()
	w, err := OpenWarehouse(storage.NewMemory(), "mem://harbour/store")
	if err != nil {
		t.Fatal(err)
	}
	name, err := ParseName("ops.readings")
	if err != nil {
		t.Fatal(err)
	}
	return w, name
}

func found(t testing.TB, w *Warehouse, name Name) *Table {
	t.Helper()
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return now
}

func filesOf(t testing.TB, now *Table) []File {
	t.Helper()
	files, err := now.Files(t.Context())
	if err != nil && !errors.Is(err, ErrDeletes) {
		t.Fatal(err)
	}
	return files
}

// deletesOf writes a file that deletes the rows of some ids.
func deletesOf(t testing.TB, a *Append, ids ...int64) DeleteFile {
	t.Helper()
	s := schema.Schema{Fields: []schema.Field{a.Schema.Fields[0]}}
	r := layout.NewRouter(s, nil, layout.DefaultOptions, a.CreateFile)
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	build.Field(0).(*array.Int64Builder).AppendValues(ids, nil)
	if err := r.Write(t.Context(), build.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return DeleteFile{DataFile: files[0], Equal: []int{s.Fields[0].ID}}
}

// TestChanges makes each sort of change to a table in a store that is no disk.
func TestChanges(t *testing.T) {
	w, name := inMemory(t)
	a, err := w.Create(name, columns(), nil, nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	first, err := a.Commit(t.Context(), write(t, a, 10))
	if err != nil || first.AddedRows != 10 {
		t.Fatal(first, err)
	}
	if _, err := load(t, w, name, 5); err != nil {
		t.Fatal(err)
	}
	if names, err := w.Names(t.Context()); err != nil || len(names) != 1 || names[0].String() != "ops.readings" {
		t.Errorf("%v, %v", names, err)
	}
	// Rows of all files in one: what compaction and replace do.
	now := found(t, w, name)
	a = appended(t, w, now, now.Schema)
	s, err := w.Commit(t.Context(), name, "c1", Change{Add: write(t, a, 3), Format: columnar.Parquet, Remove: filesOf(t, now),
		Summary: map[string]string{"why": "replaced"}})
	if err != nil || s.Rows != 3 || s.Files != 1 || s.Operation != "overwrite" {
		t.Errorf("%+v, %v", s, err)
	}
	if now = found(t, w, name); rows(t, now) != 3 {
		t.Errorf("%d rows", rows(t, now))
	}
	// Deletes by the values of a column, beside new rows: what upsert does.
	a = appended(t, w, now, now.Schema)
	if s, err = w.Commit(t.Context(), name, "c2", Change{Deletes: []DeleteFile{deletesOf(t, a, 1)}, Add: write(t, a, 2),
		Format: columnar.Parquet}); err != nil || s.AddedRows != 2 {
		t.Errorf("%+v, %v", s, err)
	}
	if _, err := found(t, w, name).Files(t.Context()); !errors.Is(err, ErrDeletes) {
		t.Errorf("deletes are not seen: %v", err)
	}
	// The state after the first commit again.
	if s, err = w.Commit(t.Context(), name, "c3", Change{Quiet: true, Moves: []Move{{Name: Main, To: first.ID}}}); err != nil || s.ID != first.ID {
		t.Errorf("%+v, %v", s, err)
	}
	if now = found(t, w, name); rows(t, now) != 10 {
		t.Errorf("%d rows after going back", rows(t, now))
	}
	// Properties alone.
	if _, err = w.Commit(t.Context(), name, "c4",
		Change{Quiet: true, Properties: map[string]string{"owner": "the harbour office"}}); err != nil {
		t.Error(err)
	}
	snapshots := len(found(t, w, name).Snapshots())
	if _, err = w.Commit(t.Context(), name, "c5", Change{Quiet: true, Unset: []string{"owner"}}); err != nil {
		t.Error(err)
	}
	if now = found(t, w, name); now.table.Properties()["owner"] != "" || len(now.Snapshots()) != snapshots {
		t.Errorf("%v, %d snapshots", now.table.Properties(), len(now.Snapshots()))
	}
	stop := errors.New("no")
	if _, err := w.Commit(t.Context(), name, "c6", Change{Check: func(*Table) error { return stop }}); !errors.Is(err, stop) ||
		len(found(t, w, name).Snapshots()) != snapshots {
		t.Errorf("a change that its check refuses: %v", err)
	}
	gone, _ := ParseName("ops.none")
	if _, err := w.Commit(t.Context(), gone, "c7", Change{Quiet: true}); fault.KindOf(err) != fault.Conflict {
		t.Errorf("a table that is not there: %v", err)
	}
}

// TestNotesOfOthersStay changes what is known of a column while a load that knows nothing of it is under way.
func TestNotesOfOthersStay(t *testing.T) {
	w, name := inMemory(t)
	if _, err := load(t, w, name, 4); err != nil {
		t.Fatal(err)
	}
	now := found(t, w, name)
	grown := now.Schema.Clone()
	grown.Fields[1].Longest = 40
	grown.Fields[0].Notation.Nulls = []string{"n/a"}
	a := appended(t, w, now, grown)
	files := write(t, a, 2)
	if _, err := w.Alter(t.Context(), name, Alteration{Columns: func(now *Table) (schema.Schema, []string, error) {
		s := now.Schema.Clone()
		s.Fields[0].Notation.Nulls, s.Fields[0].Pinned = []string{"-"}, true
		s.Fields[1].Notation.Format = "hex"
		return s, []string{"noted"}, nil
	}}, false); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Commit(t.Context(), files); err != nil {
		t.Fatal(err)
	}
	f := found(t, w, name).Schema.Fields
	if !slices.Equal(f[0].Notation.Nulls, []string{"-", "n/a"}) || !f[0].Pinned || f[1].Notation.Format != "hex" || f[1].Longest != 40 {
		t.Errorf("%+v", f)
	}
}

// racing is a store in which another program commits before each of the first commits here.
type racing struct {
	storage.Store
	mutex sync.Mutex
	left  int
	other func()
}

func (r *racing) Create(ctx context.Context, uri string, c storage.Creation) (storage.Writer, error) {
	r.mutex.Lock()
	now := r.left > 0 && strings.HasSuffix(uri, ".metadata.json")
	if now {
		r.left--
	}
	r.mutex.Unlock()
	if now {
		r.other()
	}
	return r.Store.Create(ctx, uri, c)
}

// TestCommitsThatWereOvertaken has programs without our lock commit first, as other engines do.
func TestCommitsThatWereOvertaken(t *testing.T) {
	memory := storage.NewMemory()
	open := func(s storage.Store) *Warehouse {
		w, err := OpenWarehouse(s, "mem://harbour/store")
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	theirs := open(struct{ storage.Store }{memory}) // without locks
	name, _ := ParseName("ops.readings")
	if _, err := load(t, theirs, name, 4); err != nil {
		t.Fatal(err)
	}
	store := &racing{Store: memory, left: 3, other: func() {
		if _, err := load(t, theirs, name, 1); err != nil {
			t.Error(err)
		}
	}}
	if _, err := load(t, open(store), name, 2); err != nil {
		t.Fatal(err)
	}
	if now := found(t, theirs, name); rows(t, now) != 9 || len(now.Snapshots()) != 5 {
		t.Errorf("%d rows in %d snapshots", rows(t, now), len(now.Snapshots()))
	}
}
