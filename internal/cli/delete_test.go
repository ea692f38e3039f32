package cli

import (
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestDelete deletes by a condition: whole files, and rows of others.
func TestDelete(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,10\n2,The Narrows,20\n3,Cairn Bay,30\n4,,\n"})
	must(t, []string{"load", "a.csv", "--into", "ops.t", "--partition", "area"}, "ops.t")
	must(t, []string{"delete", "ops.t", "--where", "depth > 15", "--dry-run"}, "nothing was changed", "2 of 4", "area=Cairn Bay")
	var d struct {
		Rows        int64  `json:"rows_deleted"`
		Dropped     int    `json:"files_dropped"`
		DeleteFiles int    `json:"delete_files"`
		SnapshotID  string `json:"snapshot_id"`
		As          string `json:"delete_as"`
	}
	decode(t, must(t, []string{"delete", "ops.t", "--where", "depth > 15", "--delete-as", "deletes", "-o", "json"}, "").out, &d)
	if d.Rows != 2 || d.Dropped != 1 || d.DeleteFiles != 1 || d.SnapshotID == "" || d.As != "deletes" {
		t.Errorf("%+v", d)
	}
	if out := trevak(t, "convert", "ops.t", "--to", "-", "--format", "csv").out; out != "id,area,depth\n1,Cairn Bay,10\n4,,\n" {
		t.Errorf("left:\n%s", out)
	}
	must(t, []string{"delete", "ops.t", "--where", "depth > 15"}, "no row is such")
	for args, want := range map[string]string{"--where|depth": "is no condition", "--where|dpth > 1": "nearest name is depth", "": "--where is missing",
		"--where|true|--delete-as|sideways": "sideways"} {
		if r := trevak(t, append([]string{"delete", "ops.t"}, strings.FieldsFunc(args, func(r rune) bool { return r == '|' })...)...); r.code != 2 ||
			!strings.Contains(r.err, want) {
			t.Errorf("%s: %d %s", args, r.code, r.err)
		}
	}
}
