package convert

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"trevak/internal/columnar"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// TestDestinations says for each destination whether it is a file or a folder, and of which format, or why it is refused.
func TestDestinations(t *testing.T) {
	testfolder.Make(t, map[string]string{"there.parquet": "old", "full/a.csv": "a", "plain": "no folder",
		"ours/00001.parquet":        "1",
		"ours/.trevak-convert.json": `{"written_by":"trevak convert","files":[{"path":"00001.parquet","bytes":1}]}`,
		"joined/00001.parquet":      "1", "joined/letter.txt": "dear",
		"joined/.trevak-convert.json":  `{"written_by":"trevak convert","files":[{"path":"00001.parquet","bytes":1}]}`,
		"changed/00001.parquet":        "12",
		"changed/.trevak-convert.json": `{"written_by":"trevak convert","files":[{"path":"00001.parquet","bytes":1}]}`,
		"home/letter.txt":              "dear", "repo/.git/HEAD": "x", "store/.commit.lock": "",
		"store/ops/r/metadata/v1.metadata.json": "{}",
		"holder/deep/store/.commit.lock":        ""})
	for _, dir := range []string{"empty", "folder.parquet"} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	conversion := func(to string, change func(*Request)) Request {
		home, err := filepath.Abs("home")
		if err != nil {
			t.Fatal(err)
		}
		c := Request{Task: write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{}}}}, To: to,
			Layout: layout.DefaultOptions, Home: home}
		if change != nil {
			change(&c)
		}
		return c
	}
	overwrite := func(c *Request) { c.Overwrite = true }
	orc := func(c *Request) { c.Format = columnar.ORC }
	for _, test := range []struct {
		to     string
		change func(*Request)
		single bool
		format columnar.Format
		refuse string
	}{
		{to: "new.parquet", single: true, format: columnar.Parquet},
		{to: "new.ORC", single: true, format: columnar.ORC},
		{to: "new.jsonl", single: true, format: columnar.JSONLines},
		{to: "new", format: columnar.Parquet},
		{to: "new.parquet/", format: columnar.Parquet},
		{to: "deep/in/new/", change: orc, format: columnar.ORC},
		{to: "empty", format: columnar.Parquet},
		{to: "folder.parquet", change: orc, format: columnar.ORC},
		{to: "full", change: overwrite, refuse: "full was not written by a convert, so it is not replaced; it holds a.csv"},
		{to: "ours", change: overwrite, format: columnar.Parquet},
		{to: "joined", change: overwrite, refuse: "joined holds what no convert wrote, or what was changed since: letter.txt"},
		{to: "changed", change: overwrite, refuse: "changed since: 00001.parquet"},
		{to: "/", change: overwrite, refuse: "is the root of all folders"},
		{to: ".", change: overwrite, refuse: "is your home folder, or holds it"},
		{to: "home", change: overwrite, refuse: "is your home folder"},
		{to: "repo", change: overwrite, refuse: "is a repository, as it has .git"},
		{to: "store", change: overwrite, refuse: "is or lies in the warehouse"},
		{to: "store/ops/r/data/new", refuse: "is or lies in the table"},
		{to: "holder", change: overwrite, refuse: "holds the warehouse"},
		{to: "there.parquet", change: overwrite, single: true, format: columnar.Parquet},
		{to: "", refuse: "--to is missing; name a file ending in "},
		{to: "new.xlsx", refuse: "files ending in .xlsx are not written; name a file ending in "},
		{to: "new.csv", change: orc, refuse: "the file ends in .csv, but --format says orc; leave --format out"},
		{to: "there.parquet", refuse: "there.parquet exists already; choose another name, or replace it with --overwrite"},
		{to: "full", refuse: "full exists already"},
		{to: "plain", change: overwrite, refuse: "plain is there, but is no folder"},
		{to: "new.parquet", change: func(c *Request) { c.Partition = "area" },
			refuse: "a single file has no partitions; name a folder: --to new/"},
		{to: "new.csv", change: func(c *Request) { c.Layout.Columnar.Bloom = []string{"id"} }, refuse: "--bloom"},
	} {
		d, err := newDestination(t.Context(), conversion(test.to, test.change))
		switch {
		case test.refuse != "":
			if err == nil || !strings.Contains(err.Error(), test.refuse) {
				t.Errorf("%q: %v, want %q", test.to, err, test.refuse)
			}
		case err != nil:
			t.Errorf("%q: %v", test.to, err)
		case d.single != test.single || d.format != test.format:
			t.Errorf("%q: a single file %v, %s", test.to, d.single, d.format)
		}
	}
}

func TestPlacesThatAreSpared(t *testing.T) {
	testfolder.Make(t, map[string]string{"deep/in/a.csv": ""})
	t.Chdir("deep/in")
	for _, path := range []string{".", "..", "../.."} {
		if err := precious(t.Context(), storage.Disk{}, path, ""); err == nil ||
			!strings.Contains(err.Error(), "is the working folder, or holds it") {
			t.Errorf("%s: %v", path, err)
		}
	}
	for _, path := range []string{"new", "../new", "a.csv"} {
		if err := precious(t.Context(), storage.Disk{}, path, ""); err != nil {
			t.Errorf("%s: %v", path, err)
		}
	}
}
