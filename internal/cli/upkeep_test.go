package cli

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// manyLoads makes a table of n loads.
func manyLoads(t *testing.T, n int) {
	t.Helper()
	files := map[string]string{}
	for i := range n {
		files[fmt.Sprintf("in/%02d.csv", i)] = fmt.Sprintf("id,area\n%d,Cairn Bay\n%d,The Narrows\n", 2*i, 2*i+1)
	}
	testfolder.Make(t, files)
	for i := range n {
		args := []string{"load", fmt.Sprintf("in/%02d.csv", i), "--into", "o.t"}
		if i == 0 {
			args = append(args, "--partition", "area")
		}
		must(t, args, "")
	}
}

// TestUpkeepCommands compacts, expires and sweeps a table, after having said what is due.
func TestUpkeepCommands(t *testing.T) {
	manyLoads(t, 5)
	must(t, []string{"upkeep", "o.t", "--older-than", "0s"}, "10 files are small", "they would be 2", "trevak expire o.t --older-than 0s --keep 3")
	must(t, []string{"compact", "o.t", "--dry-run"}, "nothing was changed", "in the place of 10")
	must(t, []string{"compact", "o.t", "--only-if", "files >= 9"}, "no file is worth writing anew")
	must(t, []string{"compact", "o.t"}, "2 files in the place of 10")
	must(t, []string{"compact", "o.t"}, "no file is worth writing anew")
	must(t, []string{"expire", "o.t", "--keep", "2", "--dry-run"}, "nothing was changed", "4 of 6")
	must(t, []string{"expire", "o.t", "--older-than", "1h", "--keep", "1"}, "none of 6 states is to end")
	must(t, []string{"expire", "o.t", "--keep", "1"}, "5 of 6", "10 data files")
	must(t, []string{"sweep", "o.t", "--older-than", "0s"}, "nothing was left behind")
	if rowsAt(t, "o.t") != 10 {
		t.Error("rows are lost")
	}
	must(t, []string{"upkeep", "o.t"}, "nothing is due")
	refused(t, 2, []string{"expire", "o.t"}, "neither --older-than nor --keep")
	refused(t, 2, []string{"expire", "o.t", "--keep", "0"}, "below 1")
	refused(t, 2, []string{"compact", "o.t", "--only-if", "small"}, "no condition")
	refused(t, 2, []string{"compact", "o.t", "--codec", "auto"}, "nothing is loaded here")
	refused(t, 2, []string{"sweep", "o.t", "--older-than", "tomorrow"}, "no length of time")
	refused(t, 1, []string{"sweep", "o.none"}, "there is no table")
}

// TestSweepAfterAKill removes what a load leaves that was killed, and nothing of one that runs.
func TestSweepAfterAKill(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": areas(60_000), "b.csv": "id,area\n1,x\n"})
	must(t, []string{"load", "b.csv", "--into", "o.t", "--partition", "area"}, "")
	left := 0
	for round := 0; round < 8 && left == 0; round++ {
		if killed(t, round, "load", "a.csv", "--into", "o.t", "--again") {
			continue
		}
		r := must(t, []string{"sweep", "o.t", "--older-than", "0s"}, "")
		if !strings.Contains(r.out, "nothing was left behind") {
			left++
		}
		must(t, []string{"sweep", "o.t"}, "nothing was left behind")
		must(t, []string{"sweep", "o.t", "--older-than", "0s", "--yes"}, "")
		must(t, []string{"sweep", "o.t", "--older-than", "0s"}, "nothing was left behind")
	}
	must(t, []string{"load", "a.csv", "--into", "o.t"}, "")
	if rowsAt(t, "o.t")%60_000 != 1 {
		t.Errorf("%d rows", rowsAt(t, "o.t"))
	}
}

// TestSweepOfFolders removes what an interrupted convert leaves beside its destination, once it is old.
func TestSweepOfFolders(t *testing.T) {
	testfolder.Make(t, nil)
	machine, err := os.Hostname()
	if err != nil {
		t.Skip(err)
	}
	folder := ".out.partial-" + machine + "-abc"
	if err := os.MkdirAll(filepath.Join(folder, "area=x"), 0o777); err != nil {
		t.Fatal(err)
	}
	for _, file := range []string{filepath.Join(folder, "area=x", "1.parquet"), ".0123456789abcdef.tmp", ".trevak-rows-123", ".notes.tmp"} {
		if err := os.WriteFile(file, []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	must(t, []string{"sweep", "."}, "nothing was left behind")
	old := time.Now().Add(-48 * time.Hour)
	for _, file := range []string{filepath.Join(folder, "area=x", "1.parquet"), filepath.Join(folder, "area=x"), folder, ".0123456789abcdef.tmp", ".trevak-rows-123", ".notes.tmp"} {
		if err := os.Chtimes(file, old, old); err != nil {
			t.Fatal(err)
		}
	}
	must(t, []string{"sweep", "."}, "3 files of", "--yes removes them")
	must(t, []string{"sweep", ".", "--yes"}, "are removed")
	must(t, []string{"sweep", "."}, "nothing was left behind")
	if _, err := os.Stat(".notes.tmp"); err != nil {
		t.Error("a file of somebody else is gone")
	}
}

// TestKillsOfUpkeep kills works of upkeep at some moment: the rows are what they were, and the same command again does the work.
func TestKillsOfUpkeep(t *testing.T) {
	manyLoads(t, 6)
	first := commits(t, "o.t")[4].ID
	must(t, []string{"tag", "o.t", "early", "--at", first}, "")
	for round, args := range [][]string{{"compact", "o.t", "--all"}, {"expire", "o.t", "--keep", "3"}, {"compact", "o.t", "--all"}, {"rollback", "o.t", "--to", "early"},
		{"compact", "o.t", "--manifests"}, {"upkeep", "o.t", "--older-than", "0s", "--keep", "2", "--left-for", "0s", "--yes"}} {
		before, want := rowsAt(t, "o.t"), rowsAt(t, "o.t")
		if args[0] == "rollback" {
			want = 4
		}
		cmd := exec.Command(program, args...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(4+7*round) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if got := rowsAt(t, "o.t"); got != before && got != want {
			t.Errorf("%v: %d rows after a kill, of %d", args, got, before)
		}
		must(t, args, "")
		if got := rowsAt(t, "o.t"); got != want || rowsAt(t, "o.t", "early") != 4 {
			t.Errorf("%v: %d rows, want %d", args, got, want)
		}
	}
}
