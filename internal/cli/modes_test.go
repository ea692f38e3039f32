package cli

import (
	"fmt"
	"math/rand"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// TestModes does what the modes say, with the account of each, and refuses what they do not go with.
func TestModes(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,v,op\n1,A,1,I\n2,A,1,I\n3,B,1,I\n",
		"b.csv": "id,area,v,op\n2,A,2,U\n3,B,1,D\n4,C,1,I\n4,C,3,U\n9,C,1,D\n", "nokey.csv": "id,area\n,A\n5,B\n",
		"part.csv": "id,area,v,op\n7,A,7,I\n", "empty.csv": "id,area,v,op\n"})
	into := []string{"--into", "ops.t", "--partition", "area"}
	load := func(file string, args ...string) []string {
		return append(append([]string{"load", file}, into...), args...)
	}
	must(t, load("a.csv", "--mode", "upsert", "--key", "id"), "3 inserted")
	must(t, load("b.csv", "--mode", "upsert", "--delete-where", "op = 'D'", "--dry-run"), "1 inserted, 1 updated", "1 deleted")
	must(t, load("b.csv", "--mode", "upsert", "--delete-where", "op = 'D'"), "1 inserted, 1 updated, 0 unchanged, 1 deleted",
		"1 deleting nothing", "1 with a key that another row of the load has", "5 read = 5 held against the table")
	rows := func(want string) {
		t.Helper()
		lines := strings.Split(strings.TrimSpace(must(t, []string{"convert", "ops.t", "--to", "-", "--format", "csv", "--only", "id,v"}, "").out), "\n")
		slices.Sort(lines)
		if got := strings.Join(lines[:len(lines)-1], " "); got != want {
			t.Errorf("rows are %s, not %s", got, want)
		}
	}
	rows("1,1 2,2 4,3")
	must(t, load("b.csv", "--mode", "upsert", "--delete-where", "op = 'D'"), "nothing new")
	must(t, load("a.csv", "--mode", "upsert", "--again", "--newest-by", "v"), "1 inserted, 0 updated, 1 unchanged", "1 older than the table's")
	rows("1,1 2,2 3,1 4,3")
	must(t, load("b.csv", "--mode", "missing", "--again"), "1 inserted", "3 known and left alone")
	must(t, load("part.csv", "--mode", "replace", "--touching"), "2 rows of the table")
	rows("3,1 4,3 7,7 9,1")
	refused(t, 3, load("nokey.csv", "--mode", "upsert"), `column "id"`)
	refused(t, 3, load("empty.csv", "--mode", "replace"), "so that the table ops.t would be empty")
	must(t, load("a.csv", "--mode", "replace", "--again"), "4 rows of the table")
	must(t, load("a.csv", "--mode", "replace"), "nothing new")
	// The objects of the ledger are not all that a table has, where the last load did not replace the rest.
	must(t, []string{"delete", "ops.t", "--where", "id = 2"}, "1 of 3")
	must(t, load("a.csv", "--mode", "replace"), "2 rows of the table")
	rows("1,1 2,1 3,1")
	for args, want := range map[string]string{"--mode sideways": "--mode sideways is not known", "--touching": "--touching has no effect in the mode append",
		"--mode upsert --key v": "has the key id", "--mode missing --delete-where true": "has no effect in the mode missing",
		"--mode upsert --newest-by area": "does not tell which of two rows is newer", "--mode upsert --update-only id": "which is part of the key",
		"--mode upsert --split x=a.b": "--split has no effect in the mode upsert"} {
		refused(t, 2, load("part.csv", append(strings.Fields(args), "--again")...), want)
	}
	refused(t, 2, []string{"load", "a.csv", "--into", "ops.u", "--mode", "upsert"}, "needs a key, and the table ops.u has none")
	refused(t, 2, []string{"load", "a.csv", "--into", "ops.u", "--mode", "replace", "--touching"}, "and the table ops.u has none")
}

// TestUpsertOfRecordsThatLackMembers has rows keep what no record of a load has, and update what some have.
func TestUpsertOfRecordsThatLackMembers(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.ndjson": `{"id":1,"n":{"c":"x"},"t":"one","u":5}` + "\n" + `{"id":2,"n":{"c":"y"},"t":"two"}` + "\n",
		"b.ndjson": `{"id":2,"n":{"c":"z"}}` + "\n" + `{"id":1,"n":{"c":"x"}}` + "\n" + `{"id":3}` + "\n"})
	must(t, []string{"load", "a.ndjson", "--into", "ops.t", "--mode", "upsert", "--key", "id"}, "2 inserted")
	must(t, []string{"load", "b.ndjson", "--into", "ops.t", "--mode", "upsert"}, "1 inserted, 1 updated, 1 unchanged",
		"updated rows keep their t, u, which no object has")
	got := must(t, []string{"convert", "ops.t", "--to", "-", "--format", "ndjson"}, "").out
	for _, line := range []string{`{"id":1,"n":{"c":"x"},"t":"one","u":5}`, `{"id":2,"n":{"c":"z"},"t":"two","u":null}`, `{"id":3,"n":null,"t":null,"u":null}`} {
		if !strings.Contains(got, line) {
			t.Errorf("%s is not in:\n%s", line, got)
		}
	}
}

// TestModesRace has loads of all modes at work on one table at once, some with new columns: each does all that it is to do.
func TestModesRace(t *testing.T) {
	files := map[string]string{"seed.csv": "id,owner,v\n1,seed,0\n"}
	const loads, rows = 3, 15
	modes := []string{"append", "upsert", "upsert", "missing", "replace --touching", "append", "append", "upsert"}
	want := []string{"1,seed,0"}
	for k, mode := range modes {
		for n := range loads {
			text := "id,owner,v"
			if n == 1 && k%2 == 0 {
				text += fmt.Sprintf(",x%d", k)
			}
			for i := range rows {
				id := 10_000*(k+1) + i
				if mode == "append" {
					id += n * rows
				}
				line := fmt.Sprintf("%d,w%d,%d", id, k, n)
				if mode == "append" || mode == "missing" && n == 0 || mode != "missing" && n == loads-1 {
					want = append(want, line)
				}
				if text += "\n" + line; n == 1 && k%2 == 0 {
					text += ",1"
				}
			}
			files[fmt.Sprintf("%d-%d.csv", k, n)] = text + "\n"
		}
	}
	testfolder.Make(t, files)
	must(t, []string{"load", "seed.csv", "--into", "ops.t", "--partition", "owner"}, "1 read")
	var all sync.WaitGroup
	for k, mode := range modes {
		all.Go(func() {
			for n := range loads {
				args := append([]string{"load", fmt.Sprintf("%d-%d.csv", k, n), "--into", "ops.t", "--mode"}, strings.Fields(mode)...)
				if mode == "upsert" || mode == "missing" {
					args = append(args, "--key", "id")
				}
				if r := trevak(t, args...); r.code != 0 {
					t.Errorf("%v: %d %s", args, r.code, r.err)
				}
			}
		})
	}
	all.Wait()
	got := strings.Split(strings.TrimSpace(must(t, []string{"convert", "ops.t", "--to", "-", "--format", "csv", "--only", "id,owner,v"}, "").out), "\n")[1:]
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("%d rows, %d are wanted:\n%v\n%v", len(got), len(want), got, want)
	}
}

// TestModesKilled kills loads that change rows at random moments, and does each again: the rows are what they would be without.
func TestModesKilled(t *testing.T) {
	files := map[string]string{"seed.csv": "id,area,v\n"}
	r := rand.New(rand.NewSource(3))
	model := map[int]string{}
	for i := range 400 {
		model[i] = fmt.Sprintf("%d,a%d,0", i, i%4)
		files["seed.csv"] += model[i] + "\n"
	}
	testfolder.Make(t, files)
	must(t, []string{"load", "seed.csv", "--into", "ops.t", "--partition", "area"}, "400 read")
	for n := range 12 {
		text := "id,area,v\n"
		for range 60 {
			id := r.Intn(500)
			model[id] = fmt.Sprintf("%d,a%d,%d", id, r.Intn(4), n+1)
			text += model[id] + "\n"
		}
		keep(t, fmt.Sprintf("%d.csv", n), text)
		args := []string{"load", fmt.Sprintf("%d.csv", n), "--into", "ops.t", "--mode", "upsert", "--key", "id", "--upsert-as",
			[]string{"deletes", "rewrite"}[n%2]}
		cmd := exec.Command(program, args...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(10+r.Intn(120)) * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
		must(t, args, "ops.t")
		got := strings.Split(strings.TrimSpace(csvOf(t, "ops.t")), "\n")[1:]
		var want []string
		for _, line := range model {
			want = append(want, line)
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Fatalf("after load %d: %d rows, %d are wanted", n, len(got), len(want))
		}
	}
}

// TestOldStatesExpire loads more often than states are kept: the ledger stays whole, and metadata small.
func TestOldStatesExpire(t *testing.T) {
	testfolder.Make(t, map[string]string{"0.csv": "id\n0\n"})
	must(t, []string{"load", "0.csv", "--into", "ops.t"}, "1 read")
	must(t, []string{"alter", "ops.t", "--property", "history.expire.min-snapshots-to-keep=3"}, "is 3")
	for n := range 30 {
		name := fmt.Sprintf("%d.csv", n+1)
		keep(t, name, fmt.Sprintf("id\n%d\n", n+1))
		must(t, []string{"load", name, "--into", "ops.t"}, "1 read")
	}
	var d struct{ Snapshots []struct{} }
	decode(t, must(t, []string{"describe", "ops.t", "-o", "json"}, "").out, &d)
	if len(d.Snapshots) != 3 {
		t.Errorf("%d states", len(d.Snapshots))
	}
	must(t, []string{"ledger", "ops.t"}, "31 objects")
	must(t, []string{"load", "0.csv", "7.csv", "--into", "ops.t"}, "2 known")
	if n := rowsOf(t, "ops.t"); n != 31 {
		t.Errorf("%d rows", n)
	}
	count := func(part string) int { return strings.Count(listing(t, "warehouse/ops/t/metadata"), part) }
	if versions, lists, segments := count(".metadata.json"), count("snap-"), count("ledger-"); versions > 22 || lists > 4 || segments > 12 {
		t.Errorf("%d versions, %d manifest lists, %d segments of the ledger", versions, lists, segments)
	}
}
