package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/table"
	"trevak/internal/transfer"
)

// relocate has the tables of a folder that was moved say where they lie.
func (a *app) relocate() *cobra.Command {
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "relocate [TABLE…]",
		Short: "Have tables say where they lie after their folder was moved",
		Long: `Relocate is for a warehouse whose folder was moved, or copied by other means: the metadata of tables names files by the places
where they lay. It looks whether all files of all states are in the folder, writes what names them anew, and makes that the next version of
each table. Rows, history, columns and the ledger stay as they are. Without a table, all of the warehouse are looked at.`,
		Example: `  trevak relocate -w trevak-demo/warehouse --dry-run
  trevak relocate orrin.tides -w trevak-demo/warehouse`,
		Args: few(0, -1, "tables"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			if !w.IsFolder() {
				return fault.New(fault.Usage, "the tables of this catalog are named by it, not by where they lie").
					Try("name the folder with --warehouse")
			}
			var names []table.Name
			for _, arg := range args {
				name, err := table.ParseName(arg)
				if err != nil {
					return err
				}
				names = append(names, name)
			}
			if len(args) == 0 {
				if names, err = w.Names(cmd.Context()); err != nil {
					return err
				}
			}
			var all []*transfer.Relocated
			budget, done := a.budget()
			defer done()
			for _, name := range names {
				a.untouched = "the table " + name.String() + " is as it was"
				one, err := transfer.Relocate(cmd.Context(), stores, w.Dir(), name, dryRun, budget)
				if err != nil {
					return err
				}
				all = append(all, one)
			}
			if a.json() {
				return render.RelocatedJSON(a.screen(), w.Dir(), all)
			}
			render.Relocated(a.screen(), w.Dir(), all)
			return nil
		},
	}
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would be relocated, and write nothing")
	return cmd
}

// grants shows what is told of the rights to a table.
func (a *app) grants() *cobra.Command {
	return &cobra.Command{
		Use:   "grants TABLE",
		Short: "Show what the catalog tells of the rights to a table",
		Long: `Grants shows what may be done with a table by who asks, as far as its catalog, its store and the system tell: nothing is written
to find it out. What is told only with the answer to a request is said to be so.`,
		Example: `  trevak grants orrin.tides -w trevak-demo/warehouse
  trevak grants orrin.tides -w trevak-demo/warehouse -o json`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			list, err := w.Grants(cmd.Context(), t)
			if err != nil {
				return err
			}
			if a.json() {
				return render.GrantsJSON(a.screen(), t.Name.String(), list)
			}
			render.Grants(a.screen(), t.Name.String(), list)
			return nil
		},
	}
}
