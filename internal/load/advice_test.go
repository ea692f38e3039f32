package load_test

import (
	"os"
	"strconv"
	"strings"
	"testing"

	"trevak/internal/convert"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// TestAdviceIsTrue follows what is said of columns of texts, and holds what comes of it against what was said.
func TestAdviceIsTrue(t *testing.T) {
	for _, test := range []struct{ values, want string }{
		{"1,000|2,500", "numbers with thousands set apart: --type 'c=long(#,###.#)' gives 1000 to 2500; with a decimal comma, --type " +
			"'c=double(#.###,#)' gives 1 to 2.5"},
		{"1,000,000|250", "--type 'c=long(#,###.#)' gives 250 to 1000000"},
		{"12,5|-3,25|7", "numbers with the decimal mark ,: --decimal-mark ',' gives -3.25 to 12.5"},
		{"1.234,5|12,25", "--decimal-mark ',' gives 12.25 to 1234.5"},
		{"1,234.5|12.25", "numbers with thousands set apart: --type 'c=double(#,###.#)' gives 12.25 to 1234.5"},
		{"3 000|12 500", "numbers with thousands set apart: --type 'c=long(#,###.#)' gives 3000 to 12500"},
		{"45%|7.5%", "--type 'c=double(#%)' gives the numbers alone, 7.5 to 45"},
		{"€ 12.50|€ 3", "--type 'c=double(€ #)' gives the numbers alone, 3 to 12.5"},
		{"12 m|7 m", "--type 'c=long(# m)' gives the numbers alone, 7 to 12"},
		{"12,5 m|7 m", "--type 'c=double(#.###,# m)' gives the numbers alone, 7 to 12.5"},
		{"0042|0107", "kept as text, since a number would lose them: --type 'c=long' gives 42 to 107"},
		{"+5|+17", "--type 'c=long' gives 5 to 17"},
		{"{0C17A8F2-0000-4000-8000-00000000000A}", "uuids, not in the usual form: --type 'c=uuid' reads them"},
		{"0C17A8F2-0000-4000-8000-00000000000A|0c17a8f2-0000-4000-8000-00000000000b", "--type 'c=uuid' reads them"},
		{"03/04/2031|05/06/2031", "--type 'c=date(%d/%m/%Y)' gives 2031-04-03 to 2031-06-05, --type 'c=date(%m/%d/%Y)' gives " +
			"2031-03-04 to 2031-05-06"},
		{"03.04.2031 10:00|05.06.2031 11:30", "--type 'c=timestamp(%d.%m.%Y %H:%M)' gives 2031-04-03 to 2031-06-05"},
		{"1930000000|1930086400", "if they are seconds since 1970, --type 'c=timestamptz(epoch)' gives 2031-02-27T23:06:40Z to " +
			"2031-02-28T23:06:40Z"},
		{"1930000000000|1930086400000", "if they are milliseconds since 1970, --type 'c=timestamptz(epoch_ms)' gives"},
		{"calm|B07", ""}, {"12/13|1/2", ""}, {"2031-05|2031-06", ""}, {"12 m|7 km", ""}, {"1,000|calm", ""}, {"a1b2|x", ""},
		{"3|1,5|2.5", ""},
	} {
		rows := strings.Split(test.values, "|")
		testfolder.Make(t, map[string]string{"in.csv": "c;n\n" + strings.Join(rows, ";1\n") + ";1\n"})
		i, err := infer.Infer(t.Context(), reading("in.csv"), run.DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		f, n, err := i.Column("c")
		if err != nil {
			t.Fatal(test.values, err)
		}
		if got := i.Note("c", f, n); (test.want == "") != (got == "" || strings.Contains(got, "are not")) ||
			!strings.Contains(got, test.want) {
			t.Errorf("%s: %q, want %q", test.values, got, test.want)
		}
		for _, a := range n.Alternatives() {
			r := reading("in.csv")
			r.Corrections.Types = map[string]schema.Stated{"c": a.Stated}
			c := convert.Request{Task: write.Task{Reading: r}, To: "out.csv", Layout: layout.DefaultOptions, Overwrite: true}
			report, err := convert.Convert(t.Context(), c, run.DefaultBudget())
			if err != nil || len(report.Drift) > 0 {
				t.Errorf("%s as %s: %v, %+v", test.values, a.Stated, err, report)
				continue
			}
			text, err := os.ReadFile("out.csv")
			if low := strconv.FormatFloat(a.Low, 'f', -1, 64) + ","; err != nil || a.Stated.Type.Kind != schema.UUID &&
				!strings.Contains(string(text), low) {
				t.Errorf("%s as %s: %s lacks %s, %v", test.values, a.Stated, text, low, err)
			}
		}
	}
}
