package flow

import (
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"trevak/internal/columnar"
	"trevak/internal/testfolder"
)

// listed tells what is in the working folder, hidden names included.
func listed(t testing.TB) string {
	t.Helper()
	entries, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	sort.Strings(names)
	return strings.Join(names, " ")
}

func staged(t testing.TB, d *destination, folder, text string) {
	t.Helper()
	if err := d.begin(); err != nil {
		t.Fatal(err)
	}
	file, _, err := d.create(folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(file, text); err != nil {
		t.Fatal(err)
	}
	if err := file.Close(); err != nil {
		t.Fatal(err)
	}
}

func holdsText(t testing.TB, path, want string) {
	t.Helper()
	if got, err := os.ReadFile(path); err != nil || string(got) != want {
		t.Errorf("%s holds %q, %v", path, got, err)
	}
}

func TestFilesAppearWhenAllAreThere(t *testing.T) {
	testfolder.Make(t, map[string]string{"old/area=1/00001.parquet": "old", "old/more": "old", "old.csv": "old"})
	for _, test := range []struct {
		d    destination
		file string
		left string
	}{
		{destination{path: "new", format: columnar.Parquet}, "new/area=1/00001.parquet", "new old old.csv"},
		{destination{path: "new.csv", format: ".csv", single: true}, "new.csv", "new new.csv old old.csv"},
		{destination{path: "old", format: columnar.Parquet, overwrite: true}, "old/area=1/00001.parquet", "new new.csv old old.csv"},
		{destination{path: "old.csv", format: ".csv", single: true, overwrite: true}, "old.csv", "new new.csv old old.csv"},
	} {
		folder := "area=1"
		if test.d.single {
			folder = ""
		}
		if test.d.path == "old" {
			if err := writeMark("old"); err != nil {
				t.Fatal(err)
			}
		}
		staged(t, &test.d, folder, "new")
		if test.d.overwrite {
			holdsText(t, test.file, "old")
		}
		if err := test.d.publish(); err != nil {
			t.Fatal(err)
		}
		holdsText(t, test.file, "new")
		if got := listed(t); got != test.left {
			t.Errorf("%s: %s is there", test.d.path, got)
		}
	}
	if _, err := os.Stat("old/more"); !os.IsNotExist(err) {
		t.Error("a file of the folder that was replaced is left")
	}
}

func TestWhatCameMeanwhileStays(t *testing.T) {
	for _, d := range []destination{{path: "out", format: columnar.Parquet}, {path: "out", format: ".csv", single: true}} {
		testfolder.Make(t, nil)
		staged(t, &d, "", "new")
		if err := os.Mkdir("out", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile("out/other", []byte("other"), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := d.publish(); err == nil || !strings.Contains(err.Error(), "meanwhile") {
			t.Errorf("%v", err)
		}
		d.discard()
		holdsText(t, "out/other", "other")
		if got := listed(t); got != "out" {
			t.Errorf("%s is there", got)
		}
	}
}

// TestLeftStagingIsSwept leaves what a killed run leaves: a folder that nobody has locked.
func TestLeftStagingIsSwept(t *testing.T) {
	testfolder.Make(t, nil)
	dead := destination{path: "out", format: columnar.Parquet}
	staged(t, &dead, "", "half of it")
	if err := dead.lock.Close(); err != nil {
		t.Fatal(err)
	}
	alive, other := destination{path: "out", format: columnar.Parquet}, destination{path: "out2", format: columnar.Parquet}
	staged(t, &alive, "", "all of it")
	if _, err := os.Stat(dead.folder); !os.IsNotExist(err) {
		t.Errorf("%s is left: %v", dead.folder, err)
	}
	staged(t, &other, "", "of another")
	third := destination{path: "out", format: columnar.Parquet}
	staged(t, &third, "", "third")
	for text, d := range map[string]*destination{"all of it": &alive, "of another": &other, "third": &third} {
		holdsText(t, filepath.Join(d.folder, "00001.parquet"), text)
		d.discard()
	}
	if got := listed(t); got != "" {
		t.Errorf("%s is left", got)
	}
}

// TestWhatWasMovedAsideComesBack leaves what a run leaves that was killed between two renames.
func TestWhatWasMovedAsideComesBack(t *testing.T) {
	testfolder.Make(t, nil)
	d := destination{path: "out", format: columnar.Parquet, overwrite: true}
	aside := d.stagingPrefix() + "7" + asideEnding
	if err := os.Mkdir(aside, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(aside, "00001.parquet"), []byte("old"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := writeMark(aside); err != nil {
		t.Fatal(err)
	}
	staged(t, &d, "", "new")
	holdsText(t, "out/00001.parquet", "old")
	if err := d.publish(); err != nil {
		t.Fatal(err)
	}
	holdsText(t, "out/00001.parquet", "new")
	if got := listed(t); got != "out" {
		t.Errorf("%s is there", got)
	}
}
