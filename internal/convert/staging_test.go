package convert

import (
	"io"
	"os"
	"sort"
	"strings"
	"testing"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/storage"
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

func staged(t testing.TB, d *destination, folder, text string) []layout.DataFile {
	t.Helper()
	d.store = storage.Disk{}
	if err := d.begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	begin, uri, err := d.create(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	file, err := begin()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(file, text); err != nil {
		t.Fatal(err)
	}
	if err := file.Commit(); err != nil {
		t.Fatal(err)
	}
	return []layout.DataFile{{URI: uri, Summary: &columnar.Summary{Bytes: int64(len(text))}}}
}

func holdsText(t testing.TB, path, want string) {
	t.Helper()
	if got, err := os.ReadFile(path); err != nil || string(got) != want {
		t.Errorf("%s holds %q, %v", path, got, err)
	}
}

func TestFilesAppearWhenAllAreThere(t *testing.T) {
	testfolder.Make(t, map[string]string{"old/area=1/00001.parquet": "old", "old/more": "old", "old.csv": "old",
		"old/.trevak-convert.json": `{"written_by":"trevak convert","files":[{"path":"area=1/00001.parquet","bytes":3},{"path":"more","bytes":3}]}`})
	for _, test := range []struct {
		d    destination
		file string
		left string
	}{
		{destination{uri: "new", format: columnar.Parquet}, "new/area=1/00001.parquet", "new old old.csv"},
		{destination{uri: "new.csv", format: ".csv", single: true}, "new.csv", "new new.csv old old.csv"},
		{destination{uri: "old", format: columnar.Parquet, overwrite: true}, "old/area=1/00001.parquet", "new new.csv old old.csv"},
		{destination{uri: "old.csv", format: ".csv", single: true, overwrite: true}, "old.csv", "new new.csv old old.csv"},
	} {
		folder := "area=1"
		if test.d.single {
			folder = ""
		}
		files := staged(t, &test.d, folder, "new")
		if test.d.overwrite {
			holdsText(t, test.file, "old")
		}
		if err := test.d.publish(t.Context(), files, run.Budget{}); err != nil {
			t.Fatal(err)
		}
		holdsText(t, test.file, "new")
		if got := listed(t); got != test.left {
			t.Errorf("%s: %s is there", test.d.uri, got)
		}
	}
	if _, err := os.Stat("old/more"); !os.IsNotExist(err) {
		t.Error("a file of the folder that was replaced is left")
	}
}

func TestWhatCameMeanwhileStays(t *testing.T) {
	for _, d := range []destination{{uri: "out", format: columnar.Parquet}, {uri: "out", format: ".csv", single: true}} {
		testfolder.Make(t, nil)
		files := staged(t, &d, "", "new")
		if err := os.Mkdir("out", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile("out/other", []byte("other"), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := d.publish(t.Context(), files, run.Budget{}); err == nil || !strings.Contains(err.Error(), "meanwhile") {
			t.Errorf("%v", err)
		}
		d.discard()
		holdsText(t, "out/other", "other")
		if got := listed(t); got != "out" {
			t.Errorf("%s is there", got)
		}
	}
}
