package cli

import (
	"os"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/load"
	"trevak/internal/render"
	"trevak/internal/source"
	"trevak/internal/table"
	"trevak/internal/write"
)

// adopt makes Parquet files part of a table where they lie.
func (a *app) adopt() *cobra.Command {
	var into string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "adopt FOLDER… --into NAMESPACE.TABLE",
		Short: "Make Parquet files part of a table where they lie",
		Long: `Adopt registers Parquet files with a table, without copying them: their schemas and footers are checked, and counts and bounds are
taken from these. Folders that are written name=value become partition values. The table is made where it is not there, and more can be
adopted later: the ledger knows the files. They stay where they are, and nothing removes them; the table cannot be read without them.`,
		Example: `  trevak adopt trevak-demo/tides.parquet --into harbour.adopted --dry-run -w trevak-demo/warehouse
  trevak adopt trevak-demo/tides.parquet --into harbour.adopted -w trevak-demo/warehouse`,
		Args: few(1, -1, "files or folders"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if into == "" {
				return fault.New(fault.Usage, "--into is missing").Try("name the table, like --into ops.readings")
			}
			name, err := table.ParseName(into)
			if err != nil {
				return err
			}
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			reading := source.Reading{Store: stores, Sources: args, Stdin: os.Stdin}
			l := load.Request{Task: write.Task{Reading: infer.Reading{Reading: reading}}, Warehouse: w, Into: name, DryRun: dryRun}
			a.untouched = "the table " + name.String() + " is as it was"
			budget, done := a.budget()
			adopted, err := load.Adopt(cmd.Context(), l, budget)
			done()
			if err != nil {
				return err
			}
			if !dryRun && adopted.Files > 0 {
				a.done = "adopted, snapshot " + render.ID(adopted.SnapshotID) + " of " + name.String()
			}
			if a.json() {
				return render.AdoptedJSON(a.screen(), adopted)
			}
			s := a.reportScreen()
			if dryRun {
				s = a.screen()
			}
			render.Adopted(s, adopted)
			return nil
		},
	}
	cmd.Flags().StringVar(&into, "into", "", "the `table` that they become part of")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "check the files, and change nothing")
	return cmd
}
