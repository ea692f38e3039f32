package cli

import (
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestAdopt makes files part of tables where they lie, by folders for their partitions, more of them later, and refuses what does not agree.
func TestAdopt(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,day,depth\n1,Cairn Bay,2031-05-01,10.5\n2,The Narrows,2031-05-01,\n3,,2031-05-02,7\n",
		"b.csv": "id,area,day,depth,note\n4,Cairn Bay,2031-05-03,1.5,calm\n", "c.csv": "id,area,day,depth\nx,Cairn Bay,2031-05-09,1\n", "x.txt": "no"})
	for _, name := range []string{"a", "b", "c"} {
		must(t, []string{"convert", name + ".csv", "--to", "lake-" + name, "--partition", "area,day"}, "written")
	}
	// The columns of the folders need not be in the files.
	must(t, []string{"convert", "a.csv", "--to", "bare/area=Gull%20Sound/x.parquet", "--drop", "area"}, "written")
	must(t, []string{"adopt", "lake-a", "--into", "ops.t", "--dry-run"}, "3 files with 3 rows", "3, by area,day")
	must(t, []string{"adopt", "lake-a", "--into", "ops.t"}, "ops.t (new table)")
	must(t, []string{"adopt", "lake-a", "--into", "ops.t"}, "nothing new", "3 known")
	must(t, []string{"adopt", "lake-a", "lake-b", "--into", "ops.t"}, "3 known, 1 new", "note")
	if got := csvOf(t, "ops.t"); strings.Count(got, "\n") != 5 || !strings.Contains(got, "4,Cairn Bay,2031-05-03,1.5,calm") ||
		!strings.Contains(got, "3,,2031-05-02,7,\n") {
		t.Errorf("rows:\n%s", got)
	}
	refused(t, 3, []string{"adopt", "lake-c", "--into", "ops.t"}, `column "id": is string here, and long in the table`)
	refused(t, 3, []string{"adopt", "x.txt", "--into", "ops.t"}, "x.txt")
	refused(t, 3, []string{"adopt", "bare", "--into", "ops.t"}, "is partitioned by area, day, and the files lie in folders for area")
	must(t, []string{"adopt", "bare", "--into", "ops.bare"}, "by area")
	if got := must(t, []string{"convert", "ops.bare", "--to", "-", "--format", "csv", "--only", "id,area"}, "").out; got !=
		"id,area\n1,Gull Sound\n2,Gull Sound\n3,Gull Sound\n" {
		t.Errorf("by its folder:\n%s", got)
	}
	must(t, []string{"preview", "ops.bare"}, "Gull Sound")
	must(t, []string{"delete", "ops.bare", "--where", "area = 'Gull Sound' and id = 2"}, "1 of 3")
	must(t, []string{"delete", "ops.t", "--where", "area = 'Cairn Bay'"}, "2 of 4")
	must(t, []string{"load", "a.csv", "--into", "ops.t", "--mode", "upsert", "--key", "id"}, "1 inserted", "2 unchanged")
	if err := os.WriteFile("lake-b/area=Cairn%20Bay/day=2031-05-03/more.parquet", []byte(readFile(t, "bare/area=Gull%20Sound/x.parquet")),
		0o666); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"drop", "ops.bare", "--purge", "--yes"}, "1 adopted file stays")
	if readFile(t, "bare/area=Gull%20Sound/x.parquet") == "" {
		t.Error("an adopted file is gone")
	}
}
