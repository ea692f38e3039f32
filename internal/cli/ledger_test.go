package cli

import (
	"encoding/json"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// csvOf is the rows of a table as delimited text.
func csvOf(t *testing.T, name string) string {
	t.Helper()
	return must(t, []string{"convert", name, "--to", "-", "--format", "csv"}, "").out
}

// TestChangedObjects has objects that have changed take the place of their rows, and goes on with those that have grown.
func TestChangedObjects(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.csv": "id,v\n1,a\n2,b\n", "2.csv": "id,v\n3,c\n4,d\n", "3.ndjson": "{\"id\":7,\"v\":\"x\"}\n"})
	load := []string{"load", "1.csv", "2.csv", "--into", "ops.t", "--sort", "v desc", "--lineage"}
	must(t, load, "4 read")
	keep(t, "2.csv", "id,v\n3,cc\n")
	refused(t, 3, load, "2.csv: was loaded into ops.t at ")
	before := listing(t, "warehouse")
	must(t, append(load, "--changed", "replace", "--dry-run"), "2 rows of the table")
	if listing(t, "warehouse") != before {
		t.Error("a dry run changed something")
	}
	must(t, append(load, "--changed", "replace"), "1 known, 0 new, 1 changed", "2 rows of the table")
	rows := func(want string) {
		t.Helper()
		if got := must(t, []string{"convert", "ops.t", "--to", "-", "--format", "csv", "--only", "id,v,_lineage_row"}, "").out; got != want {
			t.Errorf("rows:\n%s", got)
		}
	}
	rows("id,v,_lineage_row\n3,cc,1\n2,b,2\n1,a,1\n")
	must(t, append(load, "--changed", "replace"), "nothing new")
	keep(t, "2.csv", "id,v\n3,cc\n5,e\n\"6\",\"f\ng\"\n")
	must(t, append(load, "--changed", "grown"), "2 read = 2 written")
	keep(t, "2.csv", "id,v\n3,cc\n5,e\n\"6\",\"f\ng\"\n7,h\nbad,line,of,fields\n")
	refused(t, 3, append(load, "--changed", "grown"), "2.csv:7: the record has 4 fields")
	keep(t, "2.csv", "id,v\n3,cc\n5,e\n\"6\",\"f\ng\"\n7,h")
	must(t, append(load, "--changed", "grown"), "1 read = 1 written")
	keep(t, "2.csv", "id,v\n3,cc\n5,e\n\"6\",\"f\ng\"\n7,h\n8,i\n")
	must(t, append(load, "--changed", "grown"), "1 read = 1 written")
	must(t, load, "nothing new")
	if n := rowsOf(t, "ops.t"); n != 7 {
		t.Errorf("%d rows", n)
	}
	keep(t, "2.csv", "id,v\n9,cc\n5,e\n\"6\",\"f\ng\"\n7,h\n8,i\n9,j\n")
	refused(t, 3, append(load, "--changed", "grown"), "what it had is not as it was")
	must(t, append(load, "--changed", "replace"), "5 rows of the table") // of all loads that took the file in
	if got := csvOf(t, "ops.t"); strings.Count(got, "\n") != 10 || !strings.Contains(got, "9,j") {
		t.Errorf("rows:\n%s", got)
	}
	must(t, []string{"load", "3.ndjson", "--into", "ops.n"}, "1 read")
	keep(t, "3.ndjson", "{\"id\":7,\"v\":\"x\"}\n{\"id\":8}\n")
	must(t, []string{"load", "3.ndjson", "--into", "ops.n", "--changed", "grown"}, "1 read = 1 written")
	refused(t, 2, []string{"load", "3.ndjson", "--into", "ops.n", "--changed", "grown", "--mode", "upsert", "--key", "id"}, "a key decides")
}

// rowsOf counts the rows of a table.
func rowsOf(t *testing.T, name string) int {
	t.Helper()
	var d struct{ Rows int }
	decode(t, must(t, []string{"describe", name, "-o", "json"}, "").out, &d)
	return d.Rows
}

// TestLoadedOnce does the same load again, with more files, with changed ones, and with copies.
func TestLoadedOnce(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/1.csv": "id,v\n1,a\n2,b\n", "in/2.csv": "id,v\n3,c\n"})
	load := []string{"load", "in", "--into", "ops.t"}
	must(t, load, "3 read = 3 written")
	must(t, load, "ops.t: nothing new, every object was loaded before", "2 known, 0 new, 0 changed; --again loads them all the same")
	later := time.Now().Add(time.Hour)
	if err := os.Chtimes("in/1.csv", later, later); err != nil {
		t.Fatal(err)
	}
	must(t, load, "nothing new") // it is told by its content
	keep(t, "in/3.csv", "id,v\n4,d\n")
	must(t, append(load, "--dry-run"), "2 known, 1 new, 0 changed", "1 read = 1 written")
	must(t, load, "2 known, 1 new, 0 changed", "1 read = 1 written")
	keep(t, "in/2.csv", "id,v\n3,c\n5,e\n")
	refused(t, 3, load, "in/2.csv: was loaded into ops.t at ")
	if n := rowsOf(t, "ops.t"); n != 4 {
		t.Errorf("%d rows", n)
	}
	must(t, append(load, "--changed", "append"), "2 known, 0 new, 1 changed", "2 read = 2 written")
	must(t, load, "3 known, 0 new, 0 changed")
	keep(t, "in/copy.csv", "id,v\n4,d\n")
	must(t, load, "3 known, 1 new, 0 changed", "in/copy.csv has the content of ", "in/3.csv, which was loaded before")
	must(t, append(load, "--again"), "6 read = 6 written")
	if n := rowsOf(t, "ops.t"); n != 13 {
		t.Errorf("%d rows", n)
	}
	must(t, []string{"ledger", "ops.t"}, "in/1.csv", "in/copy.csv", "9 objects")
	must(t, []string{"ledger", "ops.t", "copy.*"}, "2 objects")
	must(t, []string{"ledger", "ops.t", "nowhere"}, "ops.t has taken in no such object")
	var l struct {
		Objects []struct {
			Location, Hash string
			Snapshot       string `json:"snapshot_id"`
			Rows           int    `json:"rows_written"`
		}
	}
	decode(t, must(t, []string{"ledger", "ops.t", "-o", "json"}, "").out, &l)
	if o := l.Objects[0]; len(l.Objects) != 9 || !strings.HasSuffix(o.Location, "in/1.csv") || o.Rows != 2 || len(o.Hash) != 32 || o.Snapshot == "" {
		t.Errorf("%+v", l)
	}
	var r map[string]any
	decode(t, must(t, append(load, "-o", "json"), "").out, &r)
	if r["nothing_new"] != true || r["objects_known"] != 4.0 {
		t.Errorf("%v", r)
	}
	refused(t, 2, append(load, "--sort", "id"), "sorted by nothing, not by id")
	refused(t, 2, append(load, "--changed", "apend"), "--changed apend is not known")
}

// TestRacingLoadsTakeEachObjectOnce starts the same load many times at once, and kills some.
func TestRacingLoadsTakeEachObjectOnce(t *testing.T) {
	files := map[string]string{}
	for _, name := range []string{"a", "b", "c", "d"} {
		files["in/"+name+".csv"] = areas(2000)
	}
	testfolder.Make(t, files)
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if r := trevak(t, "load", "in", "--into", "ops.t", "-o", "json"); r.code != 0 || !json.Valid([]byte(r.out)) {
				t.Errorf("exit %d: %s", r.code, r.err)
			}
		})
	}
	all.Wait()
	if n := rowsOf(t, "ops.t"); n != 8000 {
		t.Errorf("%d rows, want 8000", n)
	}
	rounds := 8
	if testing.Short() {
		rounds = 3
	}
	for round := range rounds {
		killed(t, round, "load", "in", "--into", "ops.killed")
	}
	must(t, []string{"load", "in", "--into", "ops.killed"}, "")
	if n := rowsOf(t, "ops.killed"); n != 8000 {
		t.Errorf("%d rows after kills, want 8000", n)
	}
}
