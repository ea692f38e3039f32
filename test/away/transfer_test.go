package away

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// states are the rows of all states of a table, in order, by the ids of the states.
func states(t *testing.T, table string, where ...string) map[string]string {
	t.Helper()
	var told struct {
		Commits []struct {
			ID string `json:"snapshot_id"`
		} `json:"commits"`
	}
	r := must(t, append([]string{"history", table, "-o", "json"}, where...))
	if err := json.Unmarshal([]byte(r.out), &told); err != nil || len(told.Commits) == 0 {
		t.Fatal(r.out, err)
	}
	out := map[string]string{}
	for _, c := range told.Commits {
		if c.ID == "" {
			continue
		}
		lines := strings.Split(must(t, append([]string{"convert", "table:" + table, "--at", c.ID, "--to", "-", "--quiet"}, where...)).out, "\n")
		slices.Sort(lines)
		out[c.ID] = strings.Join(lines, "\n")
	}
	return out
}

func alike(t *testing.T, what string, a, b map[string]string) {
	t.Helper()
	for id, rows := range a {
		if b[id] != rows {
			t.Errorf("%s: the state %s has %d lines, not %d", what, id, strings.Count(b[id], "\n"), strings.Count(rows, "\n"))
		}
	}
}

// eventful makes a table of many kinds of states: partitions, drift, files of deletes, rewritten ones, a compaction, a tag.
func eventful(t *testing.T) {
	t.Helper()
	testfolder.Make(t, map[string]string{"a.csv": waves(0, 300), "b.csv": waves(300, 200), "up.csv": waves(100, 50),
		"more.csv": "id,sea_area,wave_m,crew\n9001,area 1,2.5,anna\n"})
	for _, args := range []string{"load a.csv --into ops.waves --partition sea_area --key id", "load up.csv --into ops.waves --mode upsert --upsert-as deletes",
		"load b.csv --into ops.waves", "tag ops.waves before", "alter ops.waves --partition bucket(4,id)", "load more.csv --into ops.waves",
		"delete ops.waves --where id<20", "load up.csv --into ops.waves --mode upsert --upsert-as deletes --again", "compact ops.waves --partition-where id>0"} {
		r := trevak(t, append(strings.Fields(args), "-w", "wh")...)
		if r.code != 0 && !strings.HasPrefix(args, "compact") {
			t.Fatalf("%s: %s", args, r.err)
		}
	}
}

// TestHistoriesAreCopied copies a table with all its states to catalogs of all kinds.
func TestHistoriesAreCopied(t *testing.T) {
	eventful(t)
	served(t, "--throttle", "40", "--lose", "9")
	office(t, "    kind: sql\n    uri: sqlite:catalog.db\n    location: s3://orrin/wh\n")
	want := states(t, "ops.waves", "-w", "wh")
	if len(want) < 6 {
		t.Fatalf("%d states", len(want))
	}
	must(t, []string{"copy", "ops.waves", "--to", "second", "--history", "-w", "wh"}, "copied with its history")
	alike(t, "a folder", want, states(t, "ops.waves", "-w", "second"))
	must(t, []string{"copy", "ops.waves", "--to", "office", "--history", "-w", "wh"}, "copied with its history")
	alike(t, "a catalog", want, states(t, "ops.waves", "--catalog", "office"))
	must(t, []string{"copy", "ops.waves", "--to", "office", "--history", "-w", "wh"}, "copied before")
	// What was loaded is known there.
	must(t, []string{"load", "b.csv", "--into", "ops.waves", "-w", "second"}, "nothing new")
	must(t, []string{"load", "b.csv", "--into", "ops.waves", "-w", "second", "--again"}, "200 read")
	refused(t, 1, []string{"copy", "ops.waves", "--to", "second", "--history", "-w", "wh"}, "is no copy of this one")
	must(t, []string{"copy", "ops.waves", "--to", "third", "-w", "wh"}, "and verified")
	must(t, []string{"copy", "ops.waves", "--to", "third", "-w", "wh"}, "copied before")
	must(t, []string{"copy", "ops.waves", "--to", "sixth", "--history", "-w", "third"}, "copied with its history")
	must(t, []string{"tag", "ops.waves", "later", "-w", "third"}, "later")
	refused(t, 1, []string{"copy", "ops.waves", "--to", "sixth", "--history", "--then-drop", "-w", "third"}, "is no copy of this one")
	rows := func(w string) []string {
		lines := strings.Split(must(t, []string{"convert", "table:ops.waves", "--to", "-", "--quiet", "-w", w}).out, "\n")
		slices.Sort(lines)
		return lines
	}
	if !slices.Equal(rows("wh"), rows("third")) {
		t.Error("the copy of what the table is now has other rows")
	}
	must(t, []string{"copy", "ops.waves", "--to", "fourth", "--history", "--then-drop", "-w", "third"}, "dropped")
	if r := must(t, []string{"tables", "-w", "third"}); strings.Contains(r.out, "ops.waves") {
		t.Errorf("after it was dropped: %s", r.out)
	}
	must(t, []string{"tables", "-w", "fourth"}, "ops.waves")
	refused(t, 2, []string{"copy", "ops.waves", "--to", "fifth", "--history", "--in-place", "-w", "wh"}, "leave one of them out")
	refused(t, 2, []string{"copy", "ops.waves", "--to", "offic:ops.waves", "-w", "wh"}, "office")
	refused(t, 2, []string{"copy", "opz", "--to", "fifth", "-w", "wh"}, "no namespace opz")
}

// TestTablesChangeTheirCatalog has catalogs know tables where they lie, and forget them.
func TestTablesChangeTheirCatalog(t *testing.T) {
	eventful(t)
	office(t, "    kind: sql\n    uri: sqlite:catalog.db\n    location: wh\n")
	want := states(t, "ops.waves", "-w", "wh")
	refused(t, 2, []string{"copy", "ops.waves", "--to", "second", "--in-place", "-w", "wh"}, "is a folder")
	// What would be the table itself, or lie in its folder, is no copy: to drop the one would end the other.
	for _, how := range [][]string{{"--history"}, nil} {
		refused(t, 2, append([]string{"copy", "ops.waves", "--to", "wh", "--then-drop", "-w", "wh"}, how...), "is the one that is to be copied")
		refused(t, 2, append([]string{"copy", "ops.waves", "--to", "office", "--then-drop", "-w", "wh"}, how...), "would lie in the folder of the table itself")
	}
	alike(t, "refused copies", want, states(t, "ops.waves", "-w", "wh"))
	must(t, []string{"copy", "ops.waves", "--to", "office", "--in-place", "--dry-run", "-w", "wh"}, "nothing was done")
	must(t, []string{"copy", "ops.waves", "--to", "office:ops.aside", "--in-place", "-w", "wh"}, "is only read here")
	refused(t, 1, []string{"sweep", "ops.waves", "-w", "wh", "--older-than", "0s"}, "is kept by the catalog office")
	refused(t, 2, []string{"copy", "ops.aside", "--to", "office:ops.twice", "--in-place", "--catalog", "office"}, "--then-drop")
	refused(t, 2, []string{"copy", "ops.aside", "--to", "office", "--in-place", "--then-drop", "--catalog", "office"}, "is the one that is to be copied")
	refused(t, 2, []string{"relocate", "ops.waves", "-w", "wh"}, "is kept by the catalog office")
	must(t, []string{"copy", "ops.aside", "--to", "office:ops.waves", "--in-place", "--then-drop", "--catalog", "office"}, "whose files stay")
	alike(t, "in place", want, states(t, "ops.waves", "--catalog", "office"))
	must(t, []string{"load", "b.csv", "--into", "ops.waves", "--catalog", "office", "--again"}, "200 read = 200 written")
	refused(t, 1, []string{"load", "b.csv", "--into", "ops.waves", "-w", "wh"}, "is kept by the catalog office")
	// Back into a folder, as one of several.
	must(t, []string{"load", "a.csv", "--into", "ops.deep.more", "--catalog", "office"}, "300 written")
	must(t, []string{"copy", "ops", "--to", "cellar", "--history", "--then-drop", "--catalog", "office"}, "ops.deep.more", "ops.waves")
	must(t, []string{"tables", "--catalog", "cellar"}, "ops.deep.more", "ops.waves")
	alike(t, "back in a folder", want, states(t, "ops.waves", "--catalog", "cellar"))
	must(t, []string{"grants", "ops.waves", "--catalog", "cellar"}, "the system's permissions")
}

// TestCopiesGoOn kills a copy, and runs it again.
func TestCopiesGoOn(t *testing.T) {
	eventful(t)
	dir := served(t, "--latency", "20ms")
	lines := func(w string) int {
		return strings.Count(must(t, []string{"convert", "table:ops.waves", "--to", "-", "--quiet", "-w", w}).out, "\n")
	}
	for _, how := range [][]string{{"--history"}, nil} {
		args := append([]string{"copy", "ops.waves", "--to", "s3://orrin/" + strings.Join(append(how, "wh"), ""), "-w", "wh"}, how...)
		cut := exec.Command(program, args...)
		if err := cut.Start(); err != nil {
			t.Fatal(err)
		}
		// Two files are there, and others on their way.
		there := func() int {
			files, err := filepath.Glob(filepath.Join(dir, "orrin", filepath.Base(args[3]), "ops/waves/data/*/*.parquet"))
			if err != nil {
				t.Fatal(err)
			}
			return len(files)
		}
		for began := time.Now(); there() < 2 && time.Since(began) < 20*time.Second; {
			time.Sleep(2 * time.Millisecond)
		}
		cut.Process.Kill()
		cut.Wait()
		must(t, args, "before")
		if got, want := lines(args[3]), lines("wh"); got != want {
			t.Errorf("%v: %d rows of %d", args, got, want)
		}
	}
}

// TestMovedFoldersAreRelocated moves a warehouse.
func TestMovedFoldersAreRelocated(t *testing.T) {
	eventful(t)
	want := states(t, "ops.waves", "-w", "wh")
	must(t, []string{"relocate", "-w", "wh"}, "lies where it says")
	if err := os.Rename("wh", "moved"); err != nil {
		t.Fatal(err)
	}
	refused(t, 1, []string{"convert", "table:ops.waves", "--to", "-", "-w", "moved"}, "trevak relocate ops.waves -w")
	refused(t, 1, []string{"load", "b.csv", "--into", "ops.waves", "-w", "moved", "--again"}, "trevak relocate ops.waves -w")
	files, err := filepath.Glob("moved/ops/waves/data/*/*.parquet")
	if err != nil || len(files) < 3 {
		t.Fatal(files, err)
	}
	if err := os.Rename(files[0], "lost"); err != nil {
		t.Fatal(err)
	}
	refused(t, 1, []string{"relocate", "-w", "moved"}, filepath.Base(files[0]))
	if err := os.Rename("lost", files[0]); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"relocate", "-w", "moved", "--dry-run"}, "would be relocated")
	must(t, []string{"relocate", "-w", "moved"}, "relocated")
	alike(t, "moved", want, states(t, "ops.waves", "-w", "moved"))
	must(t, []string{"load", "b.csv", "--into", "ops.waves", "-w", "moved"}, "nothing new")
	must(t, []string{"load", "b.csv", "--into", "ops.waves", "-w", "moved", "--again"}, "200 read = 200 written")
	must(t, []string{"sweep", "ops.waves", "-w", "moved", "--older-than", "0s"})
	alike(t, "swept", want, states(t, "ops.waves", "-w", "moved"))
}
