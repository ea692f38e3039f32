package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/table"
	"trevak/internal/transfer"
)

// copyCommand copies a table to another warehouse.
func (a *app) copyCommand() *cobra.Command {
	var to, into string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "copy TABLE --to WAREHOUSE",
		Short: "Copy a table to another warehouse, and verify the copy",
		Long: `Copy makes a table in another warehouse, or by another catalog, with the same rows, columns, layout, properties and ledger.
Files are copied side by side and read back; those with deletes, or of a former partitioning, are written anew, and their rows are
held against what was read. Only then does the table come into being there. Its history stays where it was.`,
		Example: `  trevak copy orrin.tides --to trevak-demo/second --dry-run -w trevak-demo/warehouse
  trevak copy orrin.tides --to trevak-demo/second --into orrin.tides_copied -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return fault.New(fault.Usage, "--to is missing").Try("name the folder of the other warehouse, like --to /lake/second, or a catalog")
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			name := t.Name
			if into != "" {
				if name, err = table.ParseName(into); err != nil {
					return err
				}
			}
			w, named, err := warehouseOf(cmd.Context(), to)
			if err != nil {
				return err
			}
			if named != "" && into != "" {
				return fault.New(fault.Usage, "--to %s and --into both name the copy", to).Try("leave one of the names out")
			}
			if named != "" {
				if name, err = table.ParseName(named); err != nil {
					return err
				}
			}
			a.untouched = "the warehouse " + render.Harmless(to) + " is as it was"
			budget, done := a.budget()
			copied, err := transfer.Copy(cmd.Context(), t, w, name, dryRun, budget)
			done()
			if err != nil {
				return err
			}
			if !dryRun {
				a.done = "copied, snapshot " + render.ID(copied.SnapshotID) + " of " + name.String()
			}
			if a.json() {
				return render.CopiedJSON(a.screen(), copied)
			}
			s := a.reportScreen()
			if dryRun {
				s = a.screen()
			}
			render.Copied(s, copied)
			return nil
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the `folder` of the other warehouse, or a catalog of trevak.yaml: office, or office:ops.tides")
	cmd.Flags().StringVar(&into, "into", "", "the name of the `table` there (default: the same)")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would be copied, and copy nothing")
	return cmd
}
