package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestDrop drops tables, with their files kept and with all of them removed, and brings one back that was kept.
func TestDrop(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area\n1,Cairn Bay\n2,The Narrows\n", "warehouse/ops/t/data/notes.txt": "not the table's"})
	must(t, []string{"load", "a.csv", "--into", "ops.t", "--partition", "area"}, "2 read")
	must(t, []string{"load", "a.csv", "--into", "ops.t", "--mode", "replace", "--again"}, "2 rows of the table")
	must(t, []string{"drop", "ops.t", "--dry-run"}, "4 files", "2 states")
	refused(t, 2, []string{"drop", "ops.t"}, "nobody can be asked here")
	must(t, []string{"drop", "ops.t", "--yes"}, "dropped", "4 files")
	refused(t, 1, []string{"preview", "ops.t"}, "there is neither a file")
	kept, err := filepath.Glob("warehouse/ops/t/metadata/dropped-*-v2.json")
	if err != nil || len(kept) != 1 {
		t.Fatalf("%v %v", kept, err)
	}
	if err := os.Rename(kept[0], "warehouse/ops/t/metadata/v2.metadata.json"); err != nil {
		t.Fatal(err)
	}
	if got := csvOf(t, "ops.t"); strings.Count(got, "\n") != 3 {
		t.Errorf("brought back:\n%s", got)
	}
	must(t, []string{"drop", "ops.t", "--purge", "--yes"}, "removed", "1 file in its folder that the table did not name")
	if left := listing(t, "warehouse/ops"); strings.Contains(left, "parquet") || strings.Contains(left, "avro") || !strings.Contains(left, "notes.txt") {
		t.Errorf("left:\n%s", left)
	}
	if readFile(t, "a.csv") == "" {
		t.Error("the source is gone")
	}
}

// TestNamespaces makes and drops namespaces.
func TestNamespaces(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id\n1\n"})
	must(t, []string{"namespaces"}, "has no namespace yet")
	must(t, []string{"namespaces", "create", "ops.north"}, "made")
	must(t, []string{"namespaces", "create", "ops.north"}, "there already")
	must(t, []string{"load", "a.csv", "--into", "ops.north.deep.t"}, "1 read")
	refused(t, 2, []string{"namespaces", "create", "ops.north.deep.t.x"}, "ops.north.deep.t is a table")
	var l struct {
		Namespaces []struct {
			Namespace string
			Tables    int `json:"table_count"`
			Nested    int `json:"namespace_count"`
		}
	}
	decode(t, must(t, []string{"namespaces", "-o", "json"}, "").out, &l)
	if len(l.Namespaces) != 3 || l.Namespaces[1].Nested != 1 || l.Namespaces[2].Tables != 1 {
		t.Errorf("%+v", l)
	}
	refused(t, 2, []string{"namespaces", "drop", "ops.north"}, "holds 0 tables and 1 namespaces")
	must(t, []string{"drop", "ops.north.deep.t", "--purge", "--yes"}, "dropped")
	must(t, []string{"namespaces", "drop", "ops.north"}, "dropped")
	must(t, []string{"namespaces", "drop", "ops"}, "dropped")
	refused(t, 1, []string{"namespaces", "drop", "ops"}, "there is no namespace ops")
}
