package upkeep_test

import (
	"context"
	"fmt"
	"math/rand"
	"slices"
	"strconv"
	"strings"
	"testing"

	"trevak/internal/amend"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
	"trevak/internal/upkeep"
	"trevak/internal/write"
)

// store is a warehouse with a table in a folder of its own.
type store struct {
	*testing.T
	w    *table.Warehouse
	name table.Name
	n    int
}

func newStore(t *testing.T) *store {
	t.Helper()
	testfolder.Make(t, map[string]string{})
	w, err := table.OpenWarehouse(storage.Disk{}, "store")
	if err != nil {
		t.Fatal(err)
	}
	name, err := table.ParseName("orrin.spots")
	if err != nil {
		t.Fatal(err)
	}
	return &store{T: t, w: w, name: name}
}

// load loads rows of id, area and note; options make changes to the request.
func (s *store) load(lines []string, options ...func(*load.Request)) {
	s.Helper()
	s.n++
	file := fmt.Sprintf("in%d.csv", s.n)
	if err := storage.WriteAll(s.Context(), storage.Disk{}, file, []byte("id,area,note\n"+strings.Join(lines, "\n")+"\n"), storage.Creation{}); err != nil {
		s.Fatal(err)
	}
	l := load.Request{Task: write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: []string{file}}}},
		Warehouse: s.w, Into: s.name, Layout: layout.DefaultOptions}
	for _, o := range options {
		o(&l)
	}
	if _, err := load.Load(s.Context(), l, run.DefaultBudget()); err != nil {
		s.Fatal(err)
	}
}

func (s *store) delete(where string, as amend.How) {
	s.Helper()
	d := amend.Deletion{Warehouse: s.w, Table: s.name, Where: where, As: as, Layout: layout.DefaultOptions}
	if _, err := amend.Delete(s.Context(), d, run.DefaultBudget()); err != nil {
		s.Fatal(err)
	}
}

func (s *store) table() *table.Table {
	s.Helper()
	t, err := s.w.Find(s.Context(), s.name)
	if err != nil {
		s.Fatal(err)
	}
	return t
}

// rows lists the rows of the table with the object that each came of, in an order of their own; of unsorted ones as they stand.
func (s *store) rows(sorted bool) []string {
	s.Helper()
	t := s.table()
	tasks, err := t.Plan(s.Context())
	if err != nil {
		s.Fatal(err)
	}
	from, err := scan.OfFiles(s.Context(), t, tasks)
	if err != nil {
		s.Fatal(err)
	}
	stored := write.Output{Schema: t.Schema, Origins: true}
	var out []string
	err = from.Read(s.Context(), scan.Request{Target: scan.Target{Schema: stored.Stored()}}, func(r *scan.Rows) error {
		for row := range int(r.Batch.NumRows()) {
			var cells []string
			for _, c := range r.Batch.Columns() {
				cells = append(cells, c.ValueStr(row))
			}
			out = append(out, strings.Join(cells, "|"))
		}
		return nil
	})
	if err != nil {
		s.Fatal(err)
	}
	if sorted {
		slices.Sort(out)
	}
	return out
}

func (s *store) compaction() upkeep.Compaction {
	return upkeep.Compaction{Warehouse: s.w, Table: s.name, Layout: layout.DefaultOptions, OnlyIf: upkeep.Pays}
}

func (s *store) compact(c upkeep.Compaction) *upkeep.Compacted {
	s.Helper()
	out, err := upkeep.Compact(s.Context(), c, run.DefaultBudget())
	if err != nil {
		s.Fatal(err)
	}
	return out
}

// partitioned and ordered lay out a table that is made.
func partitioned(by string) func(*load.Request) { return func(l *load.Request) { l.Partition = by } }

func spots(from, n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf("%d,%s,%s", from+i, []string{"Cairn Bay", "The Narrows", "Marrow Deep"}[i%3], []string{"calm", "fog"}[i%2]))
	}
	return out
}

// TestCompactKeepsRows makes a table with many files, deletes and partitions, and writes it anew in several ways: the rows stay what they
// were, and so do the objects that they came of, the count of rows and the ledger.
func TestCompactKeepsRows(t *testing.T) {
	for seed := range int64(6) {
		t.Run(strconv.Itoa(int(seed)), func(t *testing.T) {
			s, r := newStore(t), rand.New(rand.NewSource(seed))
			s.load(spots(0, 20), partitioned([]string{"", "area", "bucket(2,id)"}[seed%3]))
			for n := range 10 {
				switch r.Intn(4) {
				case 0:
					s.delete(fmt.Sprintf("id - id / 5 * 5 = %d", r.Intn(5)), amend.How(r.Intn(3)))
				case 1:
					s.load(spots(r.Intn(30), 8), func(l *load.Request) {
						l.Mode, l.As, l.Corrections.Key = load.Upsert, amend.How(r.Intn(3)), []string{"id"}
					})
				default:
					s.load(spots(100*n, 6))
				}
				if r.Intn(3) > 0 {
					continue
				}
				before, ledger := s.rows(true), s.table().Ledger()
				c := s.compaction()
				c.All = r.Intn(2) == 0
				c.OnlyIf.Deleted = float64(r.Intn(3)) / 10
				c.DryRun = true
				foreseen := s.compact(c)
				c.DryRun = false
				out := s.compact(c)
				after := s.rows(true)
				if !slices.Equal(before, after) {
					t.Fatalf("%+v:\n%s\nbefore:\n%s", out, strings.Join(after, "\n"), strings.Join(before, "\n"))
				}
				now := s.table()
				rows, known := now.Rows()
				if rows != int64(len(after)) || !known || !slices.Equal(ledger, now.Ledger()) {
					t.Errorf("%d rows are counted of %d, %v; ledger %v", rows, len(after), known, now.Ledger())
				}
				if foreseen.Rewritten != out.Rewritten || foreseen.Rows != out.Rows || foreseen.Dropped != out.Dropped ||
					out.Rewritten > 0 && foreseen.After.DeleteFiles != out.After.DeleteFiles {
					t.Errorf("foreseen %+v, came %+v", foreseen, out)
				}
				all, err := now.AllFiles(t.Context())
				if err != nil || len(all) != out.After.Files+out.After.DeleteFiles {
					t.Errorf("%d files, %+v, %v", len(all), out.After, err)
				}
				if again := s.compact(s.compaction()); again.Rewritten > 0 && c.All {
					t.Errorf("the same again: %+v", again)
				}
			}
		})
	}
}

// TestCompactTakesOnlyWhatPays leaves files alone that are large enough, few, or have few deletes.
func TestCompactTakesOnlyWhatPays(t *testing.T) {
	s := newStore(t)
	s.load(spots(0, 60))
	if out := s.compact(s.compaction()); out.Rewritten != 0 || out.SnapshotID != 0 {
		t.Errorf("one file: %+v", out)
	}
	s.load(spots(60, 3))
	c := s.compaction()
	if c.OnlyIf, _ = upkeep.ParseOnlyIf("files >= 3"); s.compact(c).Rewritten != 0 {
		t.Error("two files are taken where three were asked for")
	}
	c = s.compaction()
	if c.Layout.FileBytes = 1000; s.compact(c).Rewritten != 0 {
		t.Error("files are taken that are as large as they are to be")
	}
	s.delete("id = 3", amend.Deletes)
	c = s.compaction()
	if c.OnlyIf, _ = upkeep.ParseOnlyIf("deletes > 5%"); s.compact(c).Rewritten != 0 {
		t.Error("a file is taken for one deleted row of 60")
	}
	c.OnlyIf, _ = upkeep.ParseOnlyIf("deletes > 1%")
	if out := s.compact(c); out.Rewritten != 1 || out.Dropped != 1 || out.After.DeleteFiles != 0 {
		t.Errorf("%+v", out)
	}
	if out := s.compact(s.compaction()); out.Rewritten != 2 || out.Written != 1 || out.After.Files != 1 {
		t.Errorf("%+v", out)
	}
}

// TestCompactPutsRowsInOrder writes files anew that are not in the order which the table has now.
func TestCompactPutsRowsInOrder(t *testing.T) {
	s := newStore(t)
	s.load([]string{"3,Cairn Bay,calm", "1,Cairn Bay,fog"})
	s.load([]string{"2,Cairn Bay,calm", "0,Cairn Bay,fog"})
	order := "id"
	if _, err := s.w.Alter(t.Context(), s.name, table.Alteration{Sort: &order}, false); err != nil {
		t.Fatal(err)
	}
	s.compact(s.compaction())
	var ids []string
	for _, r := range s.rows(false) {
		ids = append(ids, r[:1])
	}
	if strings.Join(ids, "") != "0123" {
		t.Errorf("%v", ids)
	}
}

// meanwhile is a store in which something is done before a file is made.
type meanwhile struct {
	storage.Store
	do func()
}

func (m *meanwhile) Create(ctx context.Context, uri string, c storage.Creation) (storage.Writer, error) {
	if do := m.do; do != nil && strings.Contains(uri, "/data/") {
		m.do = nil
		do()
	}
	return m.Store.Create(ctx, uri, c)
}

// TestCompactBesideLoads leaves partitions as they are of which another commit changed files meanwhile, and does the others.
func TestCompactBesideLoads(t *testing.T) {
	s := newStore(t)
	s.load(spots(0, 9), partitioned("area"))
	s.load(spots(9, 9))
	between := &meanwhile{Store: storage.Disk{}}
	w, err := table.OpenWarehouse(between, "store")
	if err != nil {
		t.Fatal(err)
	}
	between.do = func() {
		s.load([]string{"100,Marrow Deep,calm"})
		s.delete("id = 0", amend.Deletes) // of Cairn Bay
	}
	c := s.compaction()
	c.Warehouse = w
	out := s.compact(c)
	if len(out.Overtaken) != 1 || !strings.Contains(out.Overtaken[0], "Cairn Bay") || out.Partitions != 2 || out.Rewritten != 4 {
		t.Errorf("%+v", out)
	}
	if rows := s.rows(true); len(rows) != 18 {
		t.Errorf("%d rows: %v", len(rows), rows)
	}
	swept, err := s.w.Sweep(t.Context(), s.name, 0, false)
	if err != nil || len(swept.Left) != 0 {
		t.Errorf("files are left that nothing names: %+v, %v", swept, err)
	}
	if out = s.compact(s.compaction()); len(out.Overtaken) != 0 || len(s.rows(true)) != 18 {
		t.Errorf("%+v", out)
	}
}

// TestUpkeepDoesWhatIsDue finds each work that is due, does it, and finds nothing then.
func TestUpkeepDoesWhatIsDue(t *testing.T) {
	s := newStore(t)
	for n := range 5 {
		s.load(spots(10*n, 5))
	}
	before := s.rows(true)
	p := upkeep.Plan{Warehouse: s.w, Table: s.name, Layout: layout.DefaultOptions, OnlyIf: upkeep.Pays, Keep: 2}
	due, err := p.Look(t.Context())
	if err != nil || len(due) != 2 || due[0].Kind != upkeep.CompactFiles || due[0].Files != 5 || due[0].Then != 1 || due[1].Kind != upkeep.ExpireStates ||
		due[1].States != 3 {
		t.Fatalf("%+v, %v", due, err)
	}
	for range 2 {
		for _, d := range due {
			if done, err := p.Do(t.Context(), d.Kind, run.DefaultBudget()); err != nil || !done.Done {
				t.Errorf("%+v, %v", done, err)
			}
		}
		if due, err = p.Look(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if len(due) != 0 || !slices.Equal(before, s.rows(true)) {
		t.Errorf("%+v", due)
	}
}

func TestParseOnlyIf(t *testing.T) {
	for text, want := range map[string]string{"files >= 5": "files >= 5", "files > 5": "files >= 6", "deletes > 10%": "deletes > 10%",
		"files>=3 or deletes>2.5%": "files >= 3 or deletes > 2.5%"} {
		if got, err := upkeep.ParseOnlyIf(text); err != nil || got.String() != want {
			t.Errorf("%s: %s, %v", text, got, err)
		}
	}
	for _, wrong := range []string{"", "files", "files >= 5%", "deletes > 5", "files >= 1.5", "files >= 5 and deletes > 1%"} {
		if _, err := upkeep.ParseOnlyIf(wrong); err == nil {
			t.Errorf("%q is a condition", wrong)
		}
	}
}
