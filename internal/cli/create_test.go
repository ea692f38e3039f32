package cli

import (
	"testing"

	"trevak/internal/testfolder"
)

// TestCreate makes tables without rows: like a source, like a table, from a feed file, again, and anew.
func TestCreate(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,10.5\n2,The Narrows,20.25\n", "n.csv": "name,depth\nx,deep\n"})
	must(t, []string{"create", "ops.t", "--like", "a.csv", "--dry-run"}, "nothing was made")
	must(t, []string{"create", "ops.t", "--like", "a.csv", "--key", "id", "--partition", "area", "--column-comment", "depth=in metres",
		"--property", "owner=harbour"}, "made, without rows", "in metres")
	refused(t, 1, []string{"create", "ops.t", "--like", "a.csv"}, "the table ops.t is there already; leave it alone with --if-absent")
	must(t, []string{"create", "ops.t", "--like", "a.csv", "--if-absent"}, "left alone")
	must(t, []string{"load", "a.csv", "--into", "ops.t"}, "2 read")
	var m struct {
		Key           []string
		PartitionedBy string `json:"partitioned_by"`
		Columns       []struct {
			Column, Comment string
			Required        bool
		}
	}
	decode(t, must(t, []string{"create", "ops.u", "--like", "ops.t", "--required", "depth", "-o", "json"}, "").out, &m)
	if len(m.Key) != 1 || m.PartitionedBy != "area" || !m.Columns[2].Required || m.Columns[2].Comment != "in metres" {
		t.Errorf("%+v", m)
	}
	must(t, []string{"create", "ops.t", "--like", "n.csv", "--anew"}, "begins again, without rows", "which stays until it expires")
	must(t, []string{"load", "n.csv", "--into", "ops.t"}, "1 read")
	if got := csvOf(t, "ops.t"); got != "name,depth\nx,deep\n" {
		t.Errorf("rows:\n%s", got)
	}
	// The ledger began again too.
	must(t, []string{"load", "a.csv", "--into", "ops.t", "--only", "area"}, "2 read = 2 written")
	keep(t, "f.yaml", must(t, []string{"infer", "a.csv", "--into", "ops.f", "--emit", "feed"}, "").out)
	must(t, []string{"create", "ops.f", "--feed", "f.yaml"}, "depth   double")
	refused(t, 2, []string{"create", "ops.x"}, "neither --like nor --feed")
	refused(t, 2, []string{"create", "ops.x", "--like", "ops.t", "--rename", "a=b"}, "--rename has no effect with --like TABLE")
}

// TestAlterLayout gives a table another partitioning, order, key and properties for files to come.
func TestAlterLayout(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,10.5\n2,The Narrows,\n", "b.csv": "id,area,depth\n9,Cairn Bay,3\n4,Gull Sound,2\n"})
	must(t, []string{"load", "a.csv", "--into", "ops.t"}, "2 read")
	must(t, []string{"alter", "ops.t", "--partition", "area", "--sort", "id desc", "--key", "id", "--property", "owner=harbour", "--dry-run"},
		"nothing was changed", "partitioned by area instead of nothing")
	must(t, []string{"alter", "ops.t", "--partition", "area", "--sort", "id desc", "--key", "id", "--property", "owner=harbour"},
		"column id is required", "the key is id instead of nothing", "property owner is harbour")
	must(t, []string{"alter", "ops.t", "--partition", "area"}, "it is like that already")
	must(t, []string{"load", "b.csv", "--into", "ops.t", "--mode", "upsert"}, "2 inserted")
	must(t, []string{"describe", "ops.t"}, "area", "id desc")
	must(t, []string{"tables"}, "ops.t     4      3")
	refused(t, 2, []string{"alter", "ops.t", "--key", "depth"}, `the table format does not take for a key`)
	refused(t, 2, []string{"alter", "ops.t", "--key", "nope"}, `there is no column "nope"`)
	must(t, []string{"alter", "ops.t", "--partition", "none", "--key", "none", "--unset", "owner"}, "partitioned by nothing instead of area",
		"property owner is gone")
	must(t, []string{"delete", "ops.t", "--where", "area = 'Cairn Bay'"}, "2 of 4")
}
