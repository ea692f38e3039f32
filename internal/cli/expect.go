package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/render"
	"trevak/internal/shape"
	"trevak/internal/write"
)

// expected tells whether a load into a table, or by a feed file, would find that the source differs.
func (a *app) expected(cmd *cobra.Command, flags *flowFlags, args []string, expect string) error {
	if err := idle(cmd, "with --expect, which shows differences alone", "column", "emit", "into"); err != nil {
		return err
	}
	ofTable := isTable(expect)
	if !ofTable && flags.feed.path == "" {
		flags.feed.path = expect
	} else if !ofTable && flags.feed.path != expect {
		return fault.New(fault.Usage, "--feed and --expect name two feed files").Try("leave --feed out")
	}
	// The warehouse is that of the table that is expected.
	flags.table = nil
	task, err := flags.task(cmd, args)
	if err != nil {
		return flags.feed.blame(err)
	}
	l := load.Request{Task: task, Layout: layout.DefaultOptions}
	budget, done := a.budget()
	var report *write.Report
	if ofTable {
		t, err := a.findTable(cmd.Context(), expect)
		if err != nil {
			return err
		}
		if l.Warehouse, err = a.openWarehouse(); err != nil {
			return err
		}
		l.Into = t.Name
		report, err = load.Expect(cmd.Context(), l, budget)
		done()
		return a.asExpected(report, expect, err)
	}
	// What a feed file says of the form of rows comes after its columns, which are those of the records.
	l.Shape, l.Formed, l.Corrections.Renames = shape.Spec{}, false, nil
	report, err = load.ExpectColumns(cmd.Context(), l, flags.feed.declared, expect, budget)
	done()
	return a.asExpected(report, expect, flags.feed.blame(err))
}

func (a *app) asExpected(report *write.Report, expect string, err error) error {
	if err != nil {
		return err
	}
	if a.json() {
		return render.ReportJSON(a.screen(), report)
	}
	a.screen().Printf("As %s: a load would find no difference in %s of %s\n", expect,
		render.Count(int(report.RecordsRead), "record", "records"), render.Count(len(report.Objects), "object", "objects"))
	return nil
}
