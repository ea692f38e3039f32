package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/amend"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/render"
	"trevak/internal/table"
)

// deleteCommand deletes rows of a table.
func (a *app) deleteCommand() *cobra.Command {
	var where, as string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "delete TABLE --where CONDITION",
		Short: "Delete the rows of a table that a condition holds for",
		Long: `Delete takes the rows out of a table for which a condition is true, in one commit. A row for which it is unknown because of a
null stays. Files all of whose rows go are dropped, as far as their bounds prove it without a look at them; of others the rows are
listed in files of deletes, or what stays is written anew (--delete-as). --dry-run counts the rows by partition and changes nothing.
What was deleted is in the table's former states until these expire.`,
		Example: `  trevak delete orrin.tides --where "level_m < 0.5" --dry-run -w trevak-demo/warehouse
  trevak delete orrin.observations --where "sea_area = 'Cairn Bay' and battery is null" --dry-run -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := table.ParseName(args[0])
			if err != nil {
				return err
			}
			if where == "" {
				return fault.New(fault.Usage, "--where is missing").
					Try("say which rows are to go, like --where \"depth_m > 500\"; --where true is all of them")
			}
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			d := amend.Deletion{Warehouse: w, Table: name, Where: where, Layout: layout.DefaultOptions, DryRun: dryRun}
			if d.As, err = amend.ParseHow("delete-as", as); err != nil {
				return err
			}
			a.untouched = "the table " + name.String() + " is as it was"
			budget, done := a.budget()
			deleted, err := amend.Delete(cmd.Context(), d, budget)
			done()
			if err != nil {
				return err
			}
			if !dryRun && deleted.Rows > 0 {
				a.done = "deleted, snapshot " + render.ID(deleted.SnapshotID) + " of " + name.String()
			}
			if a.json() {
				return render.DeletedJSON(a.screen(), deleted)
			}
			s := a.reportScreen()
			if dryRun {
				s = a.screen()
			}
			render.Deleted(s, deleted)
			return nil
		},
	}
	cmd.Flags().StringVar(&where, "where", "", "the `condition` of the rows, as in SQL")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "count the rows, and change nothing")
	cmd.Flags().StringVar(&as, "delete-as", amend.Weighed.String(), "`way` in which rows are taken out of files that keep others: by "+
		"files of deletes, by a rewrite of the files, or weighed by what that would write")
	return cmd
}
