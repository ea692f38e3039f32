package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestCopy copies a table whose files are of two partitionings and have deletes, and goes on with the copy.
func TestCopy(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,10.5\n2,The Narrows,\n3,,7\n", "b.csv": "id,area\n9,Cairn Bay\n",
		"c.csv": "id,area\n2,Gull Sound\n"})
	must(t, []string{"load", "a.csv", "--into", "ops.t"}, "3 read")
	must(t, []string{"alter", "ops.t", "--drop", "depth", "--partition", "area"}, "dropped")
	must(t, []string{"load", "b.csv", "--into", "ops.t"}, "1 read")
	must(t, []string{"load", "c.csv", "--into", "ops.t", "--mode", "upsert", "--key", "id", "--upsert-as", "deletes"}, "1 updated")
	must(t, []string{"copy", "ops.t", "--to", "second", "--dry-run"}, "nothing was copied")
	if _, err := os.Stat("second"); err == nil {
		t.Error("a dry run made something")
	}
	must(t, []string{"copy", "ops.t", "--to", "second", "--into", "ops.u"}, "and verified", "2 copied as they are, 1 written anew")
	must(t, []string{"copy", "ops.t", "--to", "second", "--into", "ops.u"}, "copied before")
	sorted := func(text string) string {
		lines := strings.Split(text, "\n")
		slices.Sort(lines)
		return strings.Join(lines, "\n")
	}
	got := must(t, []string{"convert", "ops.u", "--to", "-", "--format", "csv", "-w", "second"}, "").out
	if want := csvOf(t, "ops.t"); sorted(got) != sorted(want) || !strings.Contains(got, "2,Gull Sound") {
		t.Errorf("copied:\n%s\nwanted:\n%s", got, want)
	}
	// It knows what was loaded, and goes on with ids that no column had.
	must(t, []string{"load", "a.csv", "b.csv", "c.csv", "--into", "ops.u", "-w", "second"}, "nothing new")
	keep(t, "d.csv", "id,area,depth\n50,Cairn Bay,\n")
	must(t, []string{"load", "d.csv", "--into", "ops.u", "-w", "second"}, "1 read")
	refused(t, 1, []string{"copy", "ops.t", "--to", "second", "--into", "ops.u"}, "is no copy of this one")
	if got := must(t, []string{"convert", "ops.u", "--to", "-", "--format", "csv", "-w", "second"}, "").out; strings.Contains(got, "10.5") {
		t.Errorf("a column that was dropped is back:\n%s", got)
	}
	// A file that is not whole is not copied.
	files, err := filepath.Glob("warehouse/ops/t/data/*/*.parquet")
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	if err := os.Truncate(files[0], 100); err != nil {
		t.Fatal(err)
	}
	refused(t, 1, []string{"copy", "ops.t", "--to", "third"}, "it has 100 bytes")
	if _, err := os.Stat("third/ops"); err == nil {
		t.Errorf("left:\n%s", listing(t, "third"))
	}
}
