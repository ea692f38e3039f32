package cli

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// commits are the lines of a table's history.
func commits(t *testing.T, table string) (list []struct {
	ID        string   `json:"snapshot_id"`
	Operation string   `json:"operation"`
	Source    string   `json:"source"`
	Objects   int      `json:"objects_taken_in"`
	Added     int64    `json:"rows_added"`
	Removed   int64    `json:"rows_removed"`
	Rows      *int64   `json:"rows"`
	State     string   `json:"state"`
	Names     []string `json:"names"`
	Changes   []string `json:"changes"`
}) {
	t.Helper()
	var out struct {
		Commits json.RawMessage `json:"commits"`
	}
	if err := json.Unmarshal([]byte(must(t, []string{"history", table, "-o", "json"}, "").out), &out); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(out.Commits, &list); err != nil {
		t.Fatal(err)
	}
	return list
}

// rowsAt counts the rows of a table in a state.
func rowsAt(t *testing.T, table string, at ...string) int {
	t.Helper()
	args := []string{"convert", table, "--to", "-"}
	if len(at) > 0 {
		args = append(args, "--at", at[0])
	}
	return strings.Count(must(t, args, "").out, "\n")
}

// TestHistoryTellsWhatEachCommitDid goes through commits of each kind.
func TestHistoryTellsWhatEachCommitDid(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area\n1,Cairn Bay\n2,Cairn Bay\n", "b.csv": "id,area,swell\n2,The Narrows,3\n3,Cairn Bay,4\n",
		"in/c.csv": "id,area\n8,Cairn Bay\n", "in/d.csv": "id,area\n9,Cairn Bay\n"})
	must(t, []string{"load", "a.csv", "--into", "o.t"}, "")
	must(t, []string{"load", "b.csv", "--into", "o.t", "--mode", "upsert", "--key", "id"}, "")
	must(t, []string{"load", "in", "--into", "o.t"}, "")
	must(t, []string{"delete", "o.t", "--where", "id = 8"}, "")
	must(t, []string{"alter", "o.t", "--rename", "swell=height"}, "")
	must(t, []string{"compact", "o.t"}, "in the place of")
	var lines []string
	for _, c := range commits(t, "o.t") {
		rows := int64(-1)
		if c.Rows != nil {
			rows = *c.Rows
		}
		lines = append(lines, fmt.Sprintf("%s %s %d +%d -%d =%d %s %d", c.Operation, c.Source, c.Objects, c.Added, c.Removed, rows, c.State, len(c.Changes)))
	}
	want := []string{"compact  0 +0 -0 =4 current 0", "alter  0 +0 -0 =-1  1", "delete where id = 8 0 +0 -1 =4 past 0", "append in 2 +2 -0 =5 past 0",
		"upsert b.csv 1 +2 -1 =3 past 1", "append a.csv 1 +2 -0 =2 past 0"}
	if strings.Join(lines, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s\nwanted:\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	must(t, []string{"history", "o.t", "-n", "2"}, "4 commits before these", "-n 6")
	must(t, []string{"describe", "o.t"}, "rows            4\n")
	refused(t, 2, []string{"history", "o.t", "-n", "0"}, "below 1")
}

// TestStatesOfATable reads former states, goes back to one, and loads again what that forgot.
func TestStatesOfATable(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area\n1,Cairn Bay\n2,Cairn Bay\n", "b.csv": "id,area,swell\n3,Cairn Bay,4\n"})
	must(t, []string{"load", "a.csv", "--into", "o.t"}, "")
	must(t, []string{"tag", "o.t", "first"}, "2 rows")
	must(t, []string{"load", "b.csv", "--into", "o.t"}, "")
	if rowsAt(t, "o.t") != 3 || rowsAt(t, "o.t", "first") != 2 || rowsAt(t, "o.t", commits(t, "o.t")[1].ID) != 2 {
		t.Error("states have other rows")
	}
	if r := must(t, []string{"schema", "o.t", "--at", "first"}, "area"); strings.Contains(r.out, "swell") {
		t.Error(r.out)
	}
	must(t, []string{"describe", "o.t", "--at", "first"}, "as it was", "rows            2\n")
	must(t, []string{"preview", "o.t", "--at", "first"}, "Cairn Bay")
	if r := must(t, []string{"ledger", "o.t", "--at", "first"}, "a.csv"); strings.Contains(r.out, "b.csv") {
		t.Error(r.out)
	}
	must(t, []string{"compare", "o.t", "--at", "first"}, "added          1\n", "+ swell long", "1 in both states passed over")
	refused(t, 2, []string{"preview", "a.csv", "--at", "first"}, "--at has no effect")
	refused(t, 2, []string{"describe", "o.t", "--at", "frist"}, "first")
	must(t, []string{"rollback", "o.t", "--to", "first", "--dry-run"}, "nothing was changed", "b.csv", "- swell long")
	must(t, []string{"rollback", "o.t", "--to", "first"}, "comes back with")
	if rowsAt(t, "o.t") != 2 || commits(t, "o.t")[0].Operation != "rollback" || commits(t, "o.t")[1].State != "undone" {
		t.Errorf("%+v", commits(t, "o.t"))
	}
	must(t, []string{"rollback", "o.t", "--to", "first"}, "that is its state already")
	must(t, []string{"load", "b.csv", "--into", "o.t"}, "written")
	if rowsAt(t, "o.t") != 3 {
		t.Error("what was forgotten is not loaded again")
	}
	must(t, []string{"tag", "o.t", "first", "--remove"}, "taken away")
	refused(t, 2, []string{"tag", "o.t", "2031-05-01"}, "cannot be the name")
	refused(t, 2, []string{"rollback", "o.t"}, "--to is missing")
}

// TestBranchesOfATable tries loads on a branch, with rules that it has to keep when it is published.
func TestBranchesOfATable(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area\n1,Cairn Bay\n2,Cairn Bay\n", "b.csv": "id,area,swell\n3,Cairn Bay,4\n",
		"c.csv": "id,area\n3,The Narrows\n"})
	refused(t, 2, []string{"load", "a.csv", "--into", "o.t", "--branch", "trial"}, "there is no table o.t yet")
	must(t, []string{"load", "a.csv", "--into", "o.t"}, "")
	must(t, []string{"load", "b.csv", "--into", "o.t", "--branch", "trial"}, "o.t, branch trial")
	must(t, []string{"load", "b.csv", "--into", "o.t", "--branch", "trial"}, "nothing new")
	must(t, []string{"load", "c.csv", "--into", "o.t", "--branch", "trial", "--mode", "upsert", "--key", "id"}, "1 updated")
	if rowsAt(t, "o.t") != 2 || rowsAt(t, "o.t", "trial") != 3 {
		t.Error("the branch is not apart")
	}
	must(t, []string{"alter", "o.t", "--check", "area = 'Cairn Bay'"}, "")
	// A copy has the rules of the table, and none of its branches.
	must(t, []string{"copy", "o.t", "--to", "other"}, "verified")
	must(t, []string{"check", "o.t", "-w", "other"}, "area = 'Cairn Bay'")
	if r := must(t, []string{"tag", "o.t", "-w", "other"}, "main"); strings.Contains(r.out, "trial") {
		t.Error(r.out)
	}
	must(t, []string{"copy", "o.t", "--at", "trial", "--to", "third"}, "rows      3")
	if r := must(t, []string{"convert", "o.t", "--to", "-", "--format", "csv", "-w", "third"}, "swell"); strings.Count(r.out, "\n") != 4 {
		t.Error(r.out)
	}
	refused(t, 3, []string{"publish", "o.t", "--branch", "trial"}, "does not keep the check")
	must(t, []string{"alter", "o.t", "--uncheck", "area = 'Cairn Bay'"}, "")
	refused(t, 2, []string{"publish", "o.t", "--branch", "trail"}, "trial")
}
