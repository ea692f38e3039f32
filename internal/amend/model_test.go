package amend_test

import (
	"fmt"
	"maps"
	"math/rand"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"trevak/internal/amend"
	"trevak/internal/columnar"
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

// row is a row of the model: texts by column, absent for null.
type row map[string]string

// model is what a table is to hold, in a plain list, and the files that it has taken in.
type model struct {
	rows    []row
	columns []string
}

// step is one load, with what the model makes of it.
type step struct {
	load.Merge
	rows    []row
	columns []string
}

func (m *model) has(id string) bool {
	return slices.ContainsFunc(m.rows, func(r row) bool { return r["id"] == id })
}

// repeats reports whether a key stands in several rows.
func (m *model) repeats() bool {
	seen := map[string]bool{}
	for _, r := range m.rows {
		if seen[r["id"]] {
			return true
		}
		seen[r["id"]] = true
	}
	return false
}

// apply does to the model what a load is to do to the table, one record after the other.
func (m *model) apply(s step) {
	for _, c := range s.columns {
		if !slices.Contains(m.columns, c) {
			m.columns = append(m.columns, c)
		}
	}
	rows := s.rows
	if s.Mode == load.Upsert || s.Mode == load.Missing {
		rows = winners(s)
	}
	switch s.Mode {
	case load.Replace:
		touched := map[string]bool{}
		for _, r := range rows {
			touched[r["area"]] = true
		}
		m.rows = slices.DeleteFunc(m.rows, func(r row) bool { return !s.Touching || touched[r["area"]] })
		fallthrough
	case load.Append:
		m.rows = append(m.rows, rows...)
	case load.Missing:
		for _, r := range rows {
			if !m.has(r["id"]) {
				m.rows = append(m.rows, r)
			}
		}
	case load.Upsert:
		for _, r := range rows {
			m.upsert(s, r)
		}
	}
}

// winners are the rows of a load that hold for their keys.
func winners(s step) []row {
	last := map[string]int{}
	for i, r := range s.rows {
		before, ok := last[r["id"]]
		switch {
		case !ok:
		case s.NewestBy != "" && version(r) < version(s.rows[before]):
			continue
		case s.Mode == load.Missing && (s.NewestBy == "" || version(r) == version(s.rows[before])):
			continue
		}
		last[r["id"]] = i
	}
	var out []row
	for _, i := range slices.Sorted(maps.Values(last)) {
		out = append(out, s.rows[i])
	}
	return out
}

func version(r row) int {
	n, err := strconv.Atoi(r["version"])
	if err != nil {
		return -1 << 30
	}
	return n
}

func (m *model) upsert(s step, r row) {
	var old row
	for _, o := range m.rows {
		if o["id"] == r["id"] {
			if s.NewestBy != "" && version(o) > version(r) {
				return
			}
			old = o
		}
	}
	m.rows = slices.DeleteFunc(m.rows, func(o row) bool { return o["id"] == r["id"] })
	if s.DeleteWhere != "" && r["note"] == "gone" {
		return
	}
	next := maps.Clone(r)
	if old != nil {
		for _, c := range m.columns {
			keeps := len(s.UpdateOnly) > 0 && !slices.Contains(s.UpdateOnly, c) || !slices.Contains(s.columns, c)
			if keeps && c != "id" {
				delete(next, c)
				if v, ok := old[c]; ok {
					next[c] = v
				}
			}
		}
	}
	m.rows = append(m.rows, next)
}

// deletions are conditions, and what they mean of a row.
var deletions = []struct {
	where string
	holds func(row) bool
}{
	{"level < 3", func(r row) bool { return r["level"] != "" && r["level"] < "3" }},
	{"area = 'Cairn Bay'", func(r row) bool { return r["area"] == "Cairn Bay" }},
	{"area is null or note = 'fog'", func(r row) bool { return r["area"] == "" || r["note"] == "fog" }},
	{"id >= 20 and not note = 'calm'", func(r row) bool {
		id, _ := strconv.Atoi(r["id"])
		return id >= 20 && r["note"] != "" && r["note"] != "calm"
	}},
	{"id between 3 and 6", func(r row) bool { id, _ := strconv.Atoi(r["id"]); return id >= 3 && id <= 6 }},
}

// deleteSome deletes by a condition, in the table and in the model.
func deleteSome(t *testing.T, r *rand.Rand, w *table.Warehouse, name table.Name, m *model) {
	t.Helper()
	d := deletions[r.Intn(len(deletions))]
	del := amend.Deletion{Warehouse: w, Table: name, Where: d.where, As: amend.How(r.Intn(3)), Layout: layout.DefaultOptions}
	del.DryRun = true
	foreseen, err := amend.Delete(t.Context(), del, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	del.DryRun = false
	got, err := amend.Delete(t.Context(), del, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	before := len(m.rows)
	m.rows = slices.DeleteFunc(m.rows, d.holds)
	if n := int64(before - len(m.rows)); got.Rows != n || foreseen.Rows != n {
		t.Errorf("%s: %d rows were to go, %d did, and %d were foreseen", d.where, n, got.Rows, foreseen.Rows)
	}
	if is, want := read(t, w, name).text(), m.text(); is != want {
		t.Fatalf("after %s, %+v:\n%s\nwanted:\n%s", d.where, got, is, want)
	}
}

// text lists the rows in an order of their own.
func (m *model) text() string {
	var lines []string
	for _, r := range m.rows {
		var cells []string
		for _, c := range slices.Sorted(slices.Values(m.columns)) {
			v, ok := r[c]
			if !ok {
				v = "(null)"
			}
			cells = append(cells, c+"="+v)
		}
		lines = append(lines, strings.Join(cells, " "))
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// randomStep makes a load that a table with some columns may get.
func randomStep(r *rand.Rand, columns []string, partitioned, repeats bool) step {
	s := step{columns: slices.Clone(columns)}
	s.Mode = []load.Mode{load.Append, load.Replace, load.Upsert, load.Upsert, load.Upsert, load.Missing}[r.Intn(6)]
	s.Touching = s.Mode == load.Replace && partitioned && r.Intn(3) > 0
	if s.Mode == load.Upsert {
		s.As = amend.How(r.Intn(3))
		if r.Intn(3) == 0 {
			s.DeleteWhere = "note = 'gone'"
		}
		// Of rows with the same key any may be the one that the others' columns are kept of.
		if r.Intn(4) == 0 && !repeats {
			s.UpdateOnly = []string{"level", "version"}
		}
		if r.Intn(5) == 0 && s.DeleteWhere == "" && !repeats {
			s.columns = slices.DeleteFunc(s.columns, func(c string) bool { return c == "note" })
		}
	}
	if s.Mode >= load.Upsert && r.Intn(2) == 0 {
		s.NewestBy = "version"
	}
	for range 1 + r.Intn(12) {
		x := row{}
		for _, c := range s.columns {
			switch c {
			case "id":
				x[c] = strconv.Itoa(r.Intn(25))
			case "area":
				x[c] = []string{"Cairn Bay", "The Narrows", "Marrow Deep"}[r.Intn(3)]
			case "note":
				x[c] = []string{"calm", "rough", "gone", "fog"}[r.Intn(4)]
			default:
				x[c] = strconv.Itoa(r.Intn(6))
			}
			if c != "id" && r.Intn(8) == 0 {
				delete(x, c)
			}
		}
		s.rows = append(s.rows, x)
	}
	return s
}

func (s step) csv() string {
	lines := []string{strings.Join(s.columns, ",")}
	for _, r := range s.rows {
		var cells []string
		for _, c := range s.columns {
			cells = append(cells, r[c])
		}
		lines = append(lines, strings.Join(cells, ","))
	}
	return strings.Join(lines, "\n") + "\n"
}

// loading loads a file.
func loading(w *table.Warehouse, name table.Name, file string, m load.Merge) load.Request {
	t := write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: []string{file}}}}
	l := load.Request{Task: t, Warehouse: w, Into: name, Merge: m, Layout: layout.DefaultOptions, Changed: load.ChangedAppend}
	if m.Mode >= load.Upsert {
		l.Corrections.Key = []string{"id"}
	}
	return l
}

// read lists the rows of a table as the model lists its own.
func read(t testing.TB, w *table.Warehouse, name table.Name) *model {
	t.Helper()
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	rows, err := scan.OfTable(t.Context(), now)
	if err != nil {
		t.Fatal(err)
	}
	m := &model{}
	for _, f := range now.Schema.Fields {
		m.columns = append(m.columns, f.Name)
	}
	err = rows.Read(t.Context(), scan.Request{Target: scan.Target{Schema: schema.Schema{Fields: now.Schema.Fields}}, Budget: run.DefaultBudget()},
		func(r *scan.Rows) error {
			for i := range int(r.Batch.NumRows()) {
				x := row{}
				for c, a := range r.Batch.Columns() {
					if a.IsValid(i) {
						x[m.columns[c]] = a.ValueStr(i)
					}
				}
				m.rows = append(m.rows, x)
			}
			return nil
		})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestModesAgainstAModel does random loads in every mode to tables and to a list of rows, which have to stay the same.
func TestModesAgainstAModel(t *testing.T) {
	for seed := range int64(9) {
		t.Run(strconv.Itoa(int(seed)), func(t *testing.T) {
			testfolder.Make(t, map[string]string{})
			r := rand.New(rand.NewSource(seed))
			w, err := table.OpenWarehouse(storage.Disk{}, "store")
			if err != nil {
				t.Fatal(err)
			}
			name, err := table.ParseName("orrin.spots")
			if err != nil {
				t.Fatal(err)
			}
			partition := []string{"", "area", "bucket(3,id)"}[seed%3]
			m := &model{}
			columns := []string{"id", "area", "level", "note", "version"}
			for n := range 14 {
				if n == 6 || n == 11 {
					partition = []string{"area", "", "truncate(2,note)"}[(seed+int64(n))%3]
					if _, err := w.Alter(t.Context(), name, table.Alteration{Partition: &partition}, false); err != nil {
						t.Fatal(err)
					}
				}
				if n == 7 {
					columns = append(columns, "swell")
				}
				s := randomStep(r, columns, partition == "area" && n < 6, m.repeats())
				if n == 0 {
					s.Merge = load.Merge{Mode: load.Upsert}
					s.columns = columns
				}
				file := fmt.Sprintf("%02d.csv", n)
				if err := os.WriteFile(file, []byte(s.csv()), 0o666); err != nil {
					t.Fatal(err)
				}
				l := loading(w, name, file, s.Merge)
				l.Format = []columnar.Format{"", "", columnar.ORC, columnar.Avro}[seed%4]
				l.Layout.Columnar.RowGroupRows = 3
				if n == 0 {
					l.Partition = partition
				}
				before := m.text()
				report, err := load.Load(t.Context(), l, run.DefaultBudget())
				if err != nil {
					t.Fatalf("load %d, %+v: %s\n%s", n, s.Merge, err, s.csv())
				}
				m.apply(s)
				if got, want := read(t, w, name).text(), m.text(); got != want {
					t.Fatalf("load %d, %+v of\n%s\nbefore:\n%s\n\nis:\n%s\n\nwanted:\n%s\n%+v", n, s.Merge, s.csv(), before, got, want, report.Merged)
				}
				if again, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil || !again.NothingNew {
					t.Fatalf("load %d once more: %+v, %v", n, again, err)
				}
				if n%4 == 3 {
					deleteSome(t, r, w, name, m)
				}
			}
		})
	}
}
