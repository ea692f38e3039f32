package storage

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"trevak/internal/testfolder"
)

// stagedWith begins to write a destination, with an object of some text.
func stagedWith(t testing.TB, s Store, destination, path, text string) Stage {
	t.Helper()
	stage, err := NewStage(t.Context(), s, destination)
	if err != nil {
		t.Fatal(err)
	}
	w, err := stage.Create(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(w, text); err != nil {
		t.Fatal(err)
	}
	if err := w.Commit(); err != nil {
		t.Fatal(err)
	}
	return stage
}

func may() error { return nil }

// listed tells what is in the working folder, hidden names included.
func listed(t testing.TB) string {
	t.Helper()
	entries, err := Disk{}.List(t.Context(), ".")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name)
	}
	slices.Sort(names)
	return strings.Join(names, " ")
}

func holdsText(t testing.TB, path, want string) {
	t.Helper()
	if got, err := os.ReadFile(path); err != nil || string(got) != want {
		t.Errorf("%s holds %q, %v", path, got, err)
	}
}

// TestLeftStagesAreSwept leaves what a killed run leaves: a folder that nobody has locked.
func TestLeftStagesAreSwept(t *testing.T) {
	testfolder.Make(t, nil)
	dead := stagedWith(t, Disk{}, "out", "00001.parquet", "half of it").(*diskStage)
	if err := dead.lock.Close(); err != nil {
		t.Fatal(err)
	}
	alive := stagedWith(t, Disk{}, "out", "00001.parquet", "all of it")
	if _, err := os.Stat(dead.folder); !os.IsNotExist(err) {
		t.Errorf("%s is left: %v", dead.folder, err)
	}
	other := stagedWith(t, Disk{}, "out2", "00001.parquet", "of another")
	third := stagedWith(t, Disk{}, "out", "00001.parquet", "third")
	for text, stage := range map[string]Stage{"all of it": alive, "of another": other, "third": third} {
		holdsText(t, filepath.Join(stage.(*diskStage).folder, "00001.parquet"), text)
		if err := stage.Discard(t.Context()); err != nil {
			t.Error(err)
		}
	}
	if got := listed(t); got != "" {
		t.Errorf("%s is left", got)
	}
}

// TestWhatWasMovedAsideComesBack leaves what a run leaves that was killed between two renames.
func TestWhatWasMovedAsideComesBack(t *testing.T) {
	testfolder.Make(t, nil)
	aside := (&diskStage{place: "out"}).prefix() + "7" + asideEnding
	if err := os.Mkdir(aside, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(aside, "00001.parquet"), []byte("old"), 0o644); err != nil {
		t.Fatal(err)
	}
	stage := stagedWith(t, Disk{}, "out", "00001.parquet", "new")
	holdsText(t, "out/00001.parquet", "old")
	if err := stage.Publish(t.Context(), may); err != nil {
		t.Fatal(err)
	}
	holdsText(t, "out/00001.parquet", "new")
	if got := listed(t); got != "out" {
		t.Errorf("%s is there", got)
	}
}

// TestWhatWasReplacedIsSwept leaves what a run leaves that was killed after it had moved its files into their place.
func TestWhatWasReplacedIsSwept(t *testing.T) {
	prefix := (&diskStage{place: "out"}).prefix()
	testfolder.Make(t, map[string]string{"out/00001.parquet": "new", prefix + "7" + asideEnding + "/00001.parquet": "old"})
	if err := stagedWith(t, Disk{}, "out", "00001.parquet", "newer").Discard(t.Context()); err != nil {
		t.Fatal(err)
	}
	holdsText(t, "out/00001.parquet", "new")
	if got := listed(t); got != "out" {
		t.Errorf("%s is there", got)
	}
}

// TestManyAreStagedAtATime has objects of one destination written by several at once, on the disk and in another store.
func TestManyAreStagedAtATime(t *testing.T) {
	testfolder.Make(t, nil)
	memory := NewMemory()
	for s, destination := range map[Store]string{Disk{}: "made", memory: "memory://orrin/made"} {
		stage, err := NewStage(t.Context(), s, destination)
		if err != nil {
			t.Fatal(err)
		}
		var writing sync.WaitGroup
		for i := range 40 {
			writing.Go(func() {
				w, err := stage.Create(t.Context(), fmt.Sprintf("part-%02d.csv", i))
				if err == nil {
					_, err = fmt.Fprint(w, i)
				}
				if err == nil {
					err = w.Commit()
				}
				if err != nil {
					t.Error(err)
				}
			})
		}
		writing.Wait()
		if err := stage.Publish(t.Context(), may); err != nil {
			t.Fatal(err)
		}
		if made, err := s.List(t.Context(), destination); err != nil || len(made) != 40 {
			t.Errorf("%d objects of 40, %v", len(made), err)
		}
	}
}
