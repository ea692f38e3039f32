package table

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// loaded adds rows to a table, or makes it.
func loaded(t testing.TB, w *Warehouse, name Name, n int) Snapshot {
	t.Helper()
	s, err := load(t, w, name, n)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// grown adds rows with a column more.
func grown(t testing.TB, w *Warehouse, on *Table, column string, n int) Snapshot {
	t.Helper()
	s := on.Schema.Clone()
	s.Fields = append(s.Fields, schema.Field{ID: on.LastColumnID() + 1, Name: column, Type: schema.Type{Kind: schema.Long}})
	a := appended(t, w, on, s)
	a.Cause, a.Changes = "load of more", []string{"column " + column + " is new, long"}
	a.Ledger = func(_ context.Context, _ *Table, load string) ([]string, error) {
		return []string{"ledger-1-" + load + ".parquet"}, nil
	}
	done, err := a.Commit(t.Context(), write(t, a, n))
	if err != nil {
		t.Fatal(err)
	}
	return done
}

func at(t testing.TB, on *Table, text string) *Table {
	t.Helper()
	then, err := on.At(text)
	if err != nil {
		t.Fatal(err)
	}
	return then
}

// TestStatesAreFound names states in each way, and each has the rows and columns that it had.
func TestStatesAreFound(t *testing.T) {
	w, name := open(t, t.TempDir())
	first := loaded(t, w, name, 4)
	time.Sleep(5 * time.Millisecond)
	second := grown(t, w, found(t, w, name), "swell", 6)
	if _, err := w.Tag(t.Context(), name, "before", formatID(first.ID), false); err != nil {
		t.Fatal(err)
	}
	now := found(t, w, name)
	for text, want := range map[string]int64{formatID(first.ID): 4, formatID(second.ID): 10, "before": 4, Main: 10,
		first.Committed.Format(time.RFC3339Nano): 4, second.Committed.Format(time.RFC3339Nano): 10,
		time.Now().Add(time.Hour).UTC().Format("2006-01-02 15:04"): 10} {
		then := at(t, now, text)
		n, known := then.Rows()
		if rows(t, then) != want || !known || n != want {
			t.Errorf("%s: %d rows, counted as %d, want %d", text, rows(t, then), n, want)
		}
		if has := then.Schema.Index("swell") >= 0; has != (want == 10) {
			t.Errorf("%s: %s", text, names(then.Schema))
		}
	}
	for text, want := range map[string]string{"befor": "before", "2000-01-01": "oldest state", "1234567890123": "has no snapshot", "": "no snapshot"} {
		if _, err := now.At(text); fault.KindOf(err) != fault.Usage || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	for _, wrong := range []string{"", "2031-05-03", "12345", "with space", "-x", ".x", "a/b"} {
		if CheckRef(wrong) == nil {
			t.Errorf("%q is a name", wrong)
		}
	}
	if _, err := w.Tag(t.Context(), name, "before", formatID(second.ID), false); fault.KindOf(err) != fault.Conflict {
		t.Errorf("a tag is moved without being asked for: %v", err)
	}
}

// TestRollbackBringsBackAll goes back to a state, whose columns and ledger come back with it, and forth again.
func TestRollbackBringsBackAll(t *testing.T) {
	w, name := inMemory(t)
	a, err := w.Create(name, columns(), nil, nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	a.Ledger = func(context.Context, *Table, string) ([]string, error) {
		return []string{"ledger-1-first.parquet"}, nil
	}
	first, err := a.Commit(t.Context(), write(t, a, 3))
	if err != nil {
		t.Fatal(err)
	}
	second := grown(t, w, found(t, w, name), "swell", 5)
	before := found(t, w, name)
	dry, err := w.Rollback(t.Context(), name, formatID(first.ID), false, true)
	if err != nil || len(dry.Undone) != 1 || dry.Undone[0].ID != second.ID || !slices.Equal(dry.Changes, []string{"- swell long"}) {
		t.Errorf("%+v, %v", dry, err)
	}
	if found(t, w, name).StateID() != second.ID {
		t.Error("a dry run changed the table")
	}
	if _, err := w.Rollback(t.Context(), name, formatID(first.ID), false, false); err != nil {
		t.Fatal(err)
	}
	now := found(t, w, name)
	if rows(t, now) != 3 || now.Schema.Index("swell") >= 0 || !slices.Equal(now.Ledger(), []string{"ledger-1-first.parquet"}) {
		t.Errorf("%d rows, %s, %v", rows(t, now), names(now.Schema), now.Ledger())
	}
	again, err := w.Rollback(t.Context(), name, formatID(first.ID), false, false)
	if err != nil || !again.Same {
		t.Errorf("the same again: %+v, %v", again, err)
	}
	back, err := w.Rollback(t.Context(), name, formatID(second.ID), false, false)
	if now = found(t, w, name); err != nil || rows(t, now) != 8 || names(now.Schema) != names(before.Schema) || len(back.Redone) != 1 ||
		!slices.Equal(now.Ledger(), before.Ledger()) {
		t.Errorf("%v: %d rows, %s, %v", err, rows(t, now), names(now.Schema), now.Ledger())
	}
	// The ids of columns are never given twice.
	if next := grown(t, w, now, "period", 1); next.Rows != 9 {
		t.Errorf("%+v", next)
	}
	if kept, err := w.Rollback(t.Context(), name, formatID(first.ID), true, false); err != nil || len(kept.Changes) != 0 {
		t.Errorf("%+v, %v", kept, err)
	}
	if now = found(t, w, name); now.Schema.Index("period") < 0 || rows(t, now) != 3 {
		t.Errorf("the schema was to stay: %s", names(now.Schema))
	}
	list, err := now.History()
	if err != nil || len(list) != 6 || list[0].Operation != RolledBackOperation || list[0].Of != first.ID {
		t.Errorf("%+v, %v", list, err)
	}
	standing := map[Standing]int{}
	for _, c := range list {
		standing[c.Standing]++
	}
	if standing[IsCurrent] != 1 || standing[Undone] != 2 || standing[NoState] != 3 {
		t.Errorf("%v", standing)
	}
}

// TestLoadsThatBeganBeforeARollback are begun anew, since what they found may not be there any more.
func TestLoadsThatBeganBeforeARollback(t *testing.T) {
	w, name := inMemory(t)
	first := loaded(t, w, name, 2)
	loaded(t, w, name, 2)
	a := appended(t, w, found(t, w, name), found(t, w, name).Schema)
	files := write(t, a, 3)
	if _, err := w.Rollback(t.Context(), name, formatID(first.ID), false, false); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Commit(t.Context(), files); !errors.Is(err, ErrChanged) {
		t.Errorf("%v", err)
	}
}

// TestBranchesAreApart has a branch with columns and a ledger of its own, of which the table sees nothing until it is published.
func TestBranchesAreApart(t *testing.T) {
	w, name := inMemory(t)
	loaded(t, w, name, 4)
	before := found(t, w, name)
	trial, err := before.NewBranch("trial")
	if err != nil {
		t.Fatal(err)
	}
	grown(t, w, trial, "swell", 3)
	now := found(t, w, name)
	if rows(t, now) != 4 || now.Schema.Index("swell") >= 0 || len(now.Ledger()) != 0 || now.Schema.Fields[1].Origin != "Sea Area" {
		t.Errorf("%d rows, %s, %v", rows(t, now), names(now.Schema), now.Ledger())
	}
	on, err := now.OnBranch("trial")
	if err != nil || rows(t, on) != 7 || on.Schema.Index("swell") < 0 || len(on.Ledger()) != 1 || on.Schema.Fields[1].Origin != "Sea Area" {
		t.Fatalf("%v: %d rows, %s", err, rows(t, on), names(on.Schema))
	}
	grown(t, w, on, "period", 2)
	on, _ = found(t, w, name).OnBranch("trial")
	refuse := fault.New(fault.Schema, "the rows break a rule")
	if _, err := w.Publish(t.Context(), name, "trial", false, func(then *Table) error {
		if rows(t, then) != 9 {
			t.Errorf("%d rows are checked", rows(t, then))
		}
		return refuse
	}); !errors.Is(err, refuse) || found(t, w, name).StateID() != before.StateID() {
		t.Errorf("published though it is refused: %v", err)
	}
	if _, err := w.Publish(t.Context(), name, "trial", false, nil); err != nil {
		t.Fatal(err)
	}
	now = found(t, w, name)
	if rows(t, now) != 9 || names(now.Schema) != names(on.Schema) || !slices.Equal(now.Ledger(), on.Ledger()) || len(now.Refs()) != 1 {
		t.Errorf("%d rows, %s, %v, %v", rows(t, now), names(now.Schema), now.Ledger(), now.Refs())
	}
	for key := range now.table.Properties() {
		if strings.HasPrefix(key, branchPrefix) {
			t.Errorf("%s is left", key)
		}
	}
	if list, err := now.History(); err != nil || list[0].Operation != PublishedOperation {
		t.Errorf("%+v, %v", list, err)
	}
	// A table that has gone on by itself is not undone.
	other, _ := now.NewBranch("other")
	grown(t, w, other, "later", 1)
	loaded(t, w, name, 1)
	if _, err := w.Publish(t.Context(), name, "other", false, nil); fault.KindOf(err) != fault.Conflict {
		t.Errorf("%v", err)
	}
	if _, err := w.Untag(t.Context(), name, "other"); err != nil || len(found(t, w, name).Refs()) != 1 {
		t.Errorf("%v, %v", err, found(t, w, name).Refs())
	}
}

// TestExpiryRemovesWhatNoStateNeeds ends states, and leaves what others have.
func TestExpiryRemovesWhatNoStateNeeds(t *testing.T) {
	dir := t.TempDir()
	w, name := open(t, dir)
	first := loaded(t, w, name, 4)
	if _, err := w.Tag(t.Context(), name, "kept", formatID(first.ID), false); err != nil {
		t.Fatal(err)
	}
	var last Snapshot
	for range 5 {
		now := found(t, w, name)
		a := appended(t, w, now, now.Schema)
		a.Remove = filesOf(t, now)
		a.Gain, a.Loss = new(int64(6)), new(int64(4))
		var err error
		if last, err = a.Commit(t.Context(), write(t, a, 6)); err != nil {
			t.Fatal(err)
		}
	}
	dry, err := w.Expire(t.Context(), name, Expiry{Keep: 2}, true)
	if err != nil || len(dry.Snapshots) != 3 || dry.All != 6 || dry.Files != 6 {
		t.Fatalf("%+v, %v", dry, err)
	}
	if none, err := w.Expire(t.Context(), name, Expiry{Before: time.Now().Add(-time.Hour)}, false); err != nil || len(none.Snapshots) != 0 {
		t.Errorf("young states expire: %+v, %v", none, err)
	}
	done, err := w.Expire(t.Context(), name, Expiry{Keep: 2}, false)
	if err != nil || done.Files != 6 || done.Bytes == 0 {
		t.Errorf("%+v, %v", done, err)
	}
	now := found(t, w, name)
	if now.StateID() != last.ID || rows(t, now) != 6 || rows(t, at(t, now, "kept")) != 4 || len(now.Snapshots()) != 3 {
		t.Errorf("%d rows, %d in the tag, %d states", rows(t, now), rows(t, at(t, now, "kept")), len(now.Snapshots()))
	}
	var left []string
	_ = filepath.WalkDir(filepath.Join(dir, "ops", "readings", "data"), func(path string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			left = append(left, path)
		}
		return err
	})
	if len(left) != 6 {
		t.Errorf("%d data files are left of three states of two each: %v", len(left), left)
	}
	swept, err := w.Sweep(t.Context(), name, 0, false)
	if err != nil || len(swept.Left) != 0 {
		t.Errorf("%+v, %v", swept, err)
	}
}

// TestSweep finds what a killed load leaves, and nothing else.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	w, name := open(t, dir)
	loaded(t, w, name, 4)
	now := found(t, w, name)
	lost := appended(t, w, now, now.Schema)
	files := write(t, lost, 4)
	folder := filepath.Join(dir, "ops", "readings")
	old := time.Now().Add(-48 * time.Hour)
	for path, is := range map[string]bool{"data/.0123456789abcdef.tmp": true, "metadata/ledger-3-0123456789ab.parquet": true,
		"data/notes.txt": false, "data/00000-0-8f6e.parquet": false} {
		place := filepath.Join(folder, path)
		if err := os.WriteFile(place, []byte("left"), 0o600); err != nil {
			t.Fatal(err)
		}
		_ = os.Chtimes(place, old, old)
		_ = is
	}
	if young, err := w.Sweep(t.Context(), name, 24*time.Hour, true); err != nil || len(young.Left) != 2 || young.Young < len(files) || young.Foreign != 2 {
		t.Errorf("%+v, %v", young, err)
	}
	// One old file of a load whose others are young is in use.
	first := storage.Path(files[0].URI)
	_ = os.Chtimes(first, old, old)
	if in, err := w.Sweep(t.Context(), name, 24*time.Hour, true); err != nil || len(in.Left) != 0 {
		t.Errorf("%+v, %v", in, err)
	}
	for _, f := range files {
		_ = os.Chtimes(storage.Path(f.URI), old, old)
	}
	done, err := w.Sweep(t.Context(), name, 24*time.Hour, true)
	if err != nil || len(done.Left) != len(files) {
		t.Errorf("%+v, %v", done, err)
	}
	// A load whose files were taken for left behind does not become part of the table without them.
	if _, err := lost.Commit(t.Context(), files); fault.KindOf(err) != fault.Storage {
		t.Errorf("files are named that are gone: %v", err)
	}
	if now := found(t, w, name); rows(t, now) != 4 {
		t.Errorf("%d rows", rows(t, now))
	}
	if _, err := os.Stat(filepath.Join(folder, "data", "notes.txt")); err != nil {
		t.Error("a file of somebody else is gone")
	}
	// What a table had that was dropped with its files kept is named by its last description.
	if _, err := w.Drop(t.Context(), name, true); err != nil {
		t.Fatal(err)
	}
	if kept, err := w.Sweep(t.Context(), name, 0, true); err != nil || len(kept.Left) != 0 || !kept.Dropped {
		t.Errorf("%+v, %v", kept, err)
	}
}

// TestManifestsAreBroughtTogether keeps the files, the count of rows and the ledger.
func TestManifestsAreBroughtTogether(t *testing.T) {
	w, name := inMemory(t)
	for range 12 {
		loaded(t, w, name, 2)
	}
	before, err := found(t, w, name).Manifests(t.Context())
	if err != nil || before.Data < 12 {
		t.Fatal(before, err)
	}
	if err := w.MergeManifests(t.Context(), name); err != nil {
		t.Fatal(err)
	}
	now := found(t, w, name)
	after, err := now.Manifests(t.Context())
	s, _ := now.Current()
	if err != nil || after.Data != 1 || rows(t, now) != 24 || s.Operation != ManifestsOperation || s.Rows != 24 || s.Open {
		t.Errorf("%+v, %+v, %v", after, s, err)
	}
}

func TestParseAge(t *testing.T) {
	for text, want := range map[string]time.Duration{"7d": 7 * 24 * time.Hour, "1.5d": 36 * time.Hour, "2w": 14 * 24 * time.Hour, "36h": 36 * time.Hour,
		"1h30m": 90 * time.Minute, "0s": 0} {
		if got, err := ParseAge("--older-than", text); err != nil || got != want {
			t.Errorf("%s: %v, %v", text, got, err)
		}
	}
	for _, wrong := range []string{"", "d", "-1d", "x", "7", "-3h", "1e9w"} {
		if _, err := ParseAge("--older-than", wrong); err == nil {
			t.Errorf("%q is an age", wrong)
		}
	}
}
