package cli

import (
	"strings"
	"testing"

	"trevak/internal/fault"
	"trevak/internal/testfolder"
)

// TestEveryKindOfErrorIsTold has an error of each kind told to people and to programs: what is wrong, where, and the way out.
func TestEveryKindOfErrorIsTold(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "bad.csv": "a,b\n1,2\n3\n4,5\n", "none.csv": "Buoy Code,note\n0004,x\n",
		"n.ndjson": `{"id":1,"readings":[{"s":"a"}]}` + "\n"})
	must(t, []string{"load", "r.csv", "--into", "ops.r", "--required", "depth (m)", "--tolerate", "1", "--quarantine", "kept.ndjson"}, "2 written")
	must(t, []string{"load", "n.ndjson", "--into", "ops.x", "--split", "readings=ops.y"}, "")
	for _, test := range []struct {
		kind fault.Kind
		args string
		code int
		text string
	}{
		{fault.Usage, "load r.csv --into ops.r --drift gro", 2, "--drift gro is not known; the nearest name is grow; use grow, hold or stop"},
		{fault.Input, "convert bad.csv --to x.parquet --quarantine q.ndjson", 3,
			"bad.csv:3: the record has 1 field where 2 are expected; mend the record, or fill short records with nulls by --ragged pad"},
		{fault.Schema, "load none.csv --into ops.r", 3, `none.csv: column "depth_m": is missing, and the table requires it; ` +
			"ask the sender for the column, or make it optional with: trevak alter ops.r --optional depth_m"},
		{fault.Storage, "preview ./nowhere/r.csv", 1,
			`there is no file or folder "./nowhere/r.csv"; the folder "nowhere" does not exist either; check the path`},
		{fault.Conflict, "create ops.r --like r.csv", 1, "the table ops.r is there already; leave it alone with --if-absent"},
	} {
		args := append(strings.Fields(test.args), "-o", "json")
		r := trevak(t, args...)
		if r.code != test.code || !strings.HasPrefix(r.err, "trevak: "+test.text) {
			t.Errorf("%s: exit %d, want %d with %q: %s", test.args, r.code, test.code, test.text, r.err)
		}
		v := checkForm(t, test.args, r.out)
		message, _ := v["message"].(string)
		if v["kind"] != test.kind.String() || message == "" || !strings.Contains(r.err, message) {
			t.Errorf("%s: %s", test.args, r.out)
		}
		if way, ok := v["way_out"].(string); ok && !strings.Contains(r.err, way) {
			t.Errorf("%s has another way out for programs: %q", test.args, way)
		}
	}
	// Its way out works when it is followed.
	must(t, []string{"alter", "ops.r", "--optional", "depth_m"}, "depth_m")
	must(t, []string{"load", "none.csv", "--into", "ops.r"}, "1 read = 1 written")
}
