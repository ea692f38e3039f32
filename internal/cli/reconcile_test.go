package cli

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// reconciled is what of a reconciliation is asked here.
type reconciled struct {
	Agree      bool  `json:"agree"`
	Rows       int64 `json:"rows"`
	There      int64 `json:"rows_there"`
	Others     int64 `json:"rows_of_others"`
	Missing    int64 `json:"rows_missing"`
	Surplus    int64 `json:"rows_surplus"`
	Altered    int64 `json:"rows_altered"`
	Elsewhere  int64 `json:"rows_elsewhere"`
	Superseded int64 `json:"rows_superseded"`
	Unknown    bool  `json:"objects_unknown"`
	Objects    []struct {
		Quarantined int64  `json:"records_quarantined"`
		Loads       int    `json:"loads"`
		Changed     bool   `json:"changed_since"`
		KnownAs     string `json:"known_as"`
	} `json:"objects"`
	Columns []struct {
		Column string `json:"name"`
		Same   bool   `json:"same"`
	} `json:"columns"`
	Examples []struct {
		Source string             `json:"source"`
		Target string             `json:"target"`
		Key    map[string]*string `json:"key_values"`
		Cells  []struct {
			Column string  `json:"column"`
			Source *string `json:"in_source"`
			There  *string `json:"in_target"`
		} `json:"cells"`
	} `json:"examples"`
}

// reconcileAs runs a reconciliation that is to agree, or not.
func reconcileAs(t *testing.T, agree bool, args ...string) (out reconciled) {
	t.Helper()
	r := trevak(t, append(append([]string{"reconcile"}, args...), "-o", "json")...)
	if err := json.Unmarshal([]byte(r.out), &out); err != nil || out.Agree != agree || (r.code == 0) != agree || !agree && r.code != 3 {
		t.Errorf("reconcile %s: exit %d, %v: %s%s", strings.Join(args, " "), r.code, err, r.out, r.err)
	}
	return out
}

func replaceIn(t *testing.T, file, old, now string) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(text), old) {
		t.Fatalf("%s has no %q: %v", file, old, err)
	}
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), old, now, 1)), 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestReconcileInEachForm holds tables against their sources, in the forms that loads give them.
func TestReconcileInEachForm(t *testing.T) {
	testfolder.Make(t, nil)
	must(t, []string{"demo"}, "agree")
	for _, flags := range [][]string{{}, {"--rename", "observed_at=seen_at", "--type", "battery=string"}, {"--unnest", "readings", "--nested", "flatten", "--lists", "json"},
		{"--where", "sea_area = 'Cairn Bay'", "--derive", "deep=char_length(sea_area) * 2"}, {"--lineage"}, {"--keep-raw"}, {"--only", "sea_area,battery", "--partition", "sea_area"}} {
		layout := len(flags) > 3 && flags[2] == "--partition"
		must(t, append([]string{"load", "trevak-demo/observations", "--into", "h.t"}, flags...), "")
		same := flags
		if layout {
			same = flags[:2]
		}
		got := reconcileAs(t, true, append([]string{"trevak-demo/observations", "--with", "h.t"}, same...)...)
		if got.Rows == 0 || got.Rows != got.There || got.Unknown {
			t.Errorf("%v: %+v", flags, got)
		}
		must(t, []string{"drop", "h.t", "--purge", "--yes"}, "")
		for _, to := range []string{"out.parquet", "out.ndjson", "out.csv", "out.orc"} {
			// Each format once, and each form of rows in the usual one.
			if to != "out.parquet" && len(flags) > 0 || layout {
				continue
			}
			text := []string{}
			if to == "out.csv" {
				text = []string{"--nested", "flatten", "--lists", "json"}
			}
			must(t, append(append([]string{"convert", "trevak-demo/observations", "--to", to, "--overwrite"}, flags...), text...), "")
			reconcileAs(t, true, append(append([]string{"trevak-demo/observations", "--with", to}, flags...), text...)...)
		}
	}
	split := []string{"--split", "readings=h.readings"}
	must(t, append([]string{"load", "trevak-demo/observations", "--into", "h.t"}, split...), "")
	for _, with := range []string{"h.t", "h.readings"} {
		reconcileAs(t, true, append([]string{"trevak-demo/observations", "--with", with}, split...)...)
	}
	reconcileAs(t, true, "trevak-demo/stations/stations.csv", "--with", "orrin.stations", "-w", "trevak-demo/warehouse")
	reconcileAs(t, true, "trevak-demo/tides", "--with", "orrin.tides", "--at", "once", "-w", "trevak-demo/warehouse")
}

// TestReconcileFindsWhatDiffers changes single values, and has them told with their places.
func TestReconcileFindsWhatDiffers(t *testing.T) {
	lines := "id,area,depth\n"
	for i := range 500 {
		lines += strings.Join([]string{string(rune('0' + i/100)), string(rune('0' + i/10%10)), string(rune('0' + i%10))}, "") + ",Cairn Bay,12.5\n"
	}
	testfolder.Make(t, map[string]string{"in.csv": lines, "other.csv": "id,area,depth\n900,The Narrows,3\n"})
	must(t, []string{"load", "in.csv", "--into", "o.t", "--type", "id=string", "--verify"}, "read back")
	must(t, []string{"load", "other.csv", "--into", "o.t"}, "")
	if got := reconcileAs(t, true, "in.csv", "--with", "o.t"); got.Rows != 500 || got.Others != 1 || got.Objects[0].Loads != 1 {
		t.Errorf("%+v", got)
	}
	replaceIn(t, "in.csv", "321,Cairn Bay,12.5", "321,Cairn Bay,12.75")
	got := reconcileAs(t, false, "in.csv", "--with", "o.t")
	if got.Missing != 1 || got.Surplus != 1 || len(got.Examples) != 1 || got.Examples[0].Source != "in.csv:323" || !got.Objects[0].Changed ||
		!strings.HasSuffix(got.Examples[0].Target, "row 322") {
		t.Fatalf("%+v", got)
	}
	cell := got.Examples[0].Cells[0]
	if cell.Column != "depth" || *cell.Source != "12.75" || *cell.There != "12.5" {
		t.Errorf("%+v", cell)
	}
	if got := reconcileAs(t, false, "in.csv", "--with", "o.t", "--key", "id"); got.Altered != 1 || *got.Examples[0].Key["id"] != "321" {
		t.Errorf("%+v", got)
	}
	replaceIn(t, "in.csv", "100,Cairn Bay,12.5\n", "")
	if got := reconcileAs(t, false, "in.csv", "--with", "o.t", "--key", "id"); got.Altered != 1 || got.Surplus != 1 || got.Missing != 0 {
		t.Errorf("%+v", got)
	}
	refused(t, 2, []string{"reconcile", "in.csv"}, "--with is missing")
	refused(t, 2, []string{"load", "in.csv", "--into", "o.t", "--verify", "--dry-run"}, "--verify has no effect")
	// What files have besides is told.
	must(t, []string{"convert", "in.csv", "--to", "more.csv", "--derive", "twice=depth * 2"}, "")
	must(t, []string{"reconcile", "in.csv", "--with", "more.csv"}, "twice, which the source does not give")
	must(t, []string{"convert", "in.csv", "--to", "less.csv", "--drop", "area"}, "")
	if got := reconcileAs(t, false, "in.csv", "--with", "less.csv"); got.Missing != 499 {
		t.Errorf("%+v", got)
	}
	refused(t, 1, []string{"reconcile", "in.csv", "--with", "o.none"}, "there is neither")
}

// TestReconcileAccountsForAll knows copies, records in the quarantine, rows that were updated since, and deletes.
func TestReconcileAccountsForAll(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area,depth\n1,Cairn Bay,1\n2,Cairn Bay,2\nx,Cairn Bay,3\n4,Cairn Bay,900\n",
		"b.csv": "id,area,depth\n2,Cairn Bay,2\n1,The Narrows,1\n7,The Narrows,7\n"})
	must(t, []string{"load", "a.csv", "--into", "o.t", "--type", "id=long", "--required", "id", "--tolerate", "1", "--check", "quarantine: depth < 500"}, "")
	// What was tolerated, and what a rule put into quarantine, is accounted for.
	got := reconcileAs(t, true, "a.csv", "--with", "o.t", "--check", "quarantine: depth < 500")
	if got.Rows != 2 || got.Objects[0].Quarantined != 2 {
		t.Errorf("%+v", got)
	}
	if got := reconcileAs(t, false, "a.csv", "--with", "o.t"); got.Missing != 1 {
		t.Errorf("%+v", got)
	}
	must(t, []string{"load", "b.csv", "--into", "o.t", "--mode", "upsert", "--key", "id"}, "1 inserted, 1 updated, 1 unchanged")
	if got := reconcileAs(t, true, "b.csv", "--with", "o.t"); got.Elsewhere != 1 || got.Others != 1 {
		t.Errorf("%+v", got)
	}
	if got := reconcileAs(t, true, "a.csv", "--with", "o.t", "--check", "quarantine: depth < 500"); got.Superseded != 1 {
		t.Errorf("%+v", got)
	}
	must(t, []string{"delete", "o.t", "--where", "id = 7"}, "")
	if got := reconcileAs(t, false, "b.csv", "--with", "o.t"); got.Missing != 1 {
		t.Errorf("%+v", got)
	}
	if err := os.Rename("b.csv", "c.csv"); err != nil {
		t.Fatal(err)
	}
	if got := reconcileAs(t, false, "c.csv", "--with", "o.t"); !strings.HasSuffix(got.Objects[0].KnownAs, "b.csv") {
		t.Errorf("%+v", got)
	}
}
