package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/reconcile"
	"trevak/internal/render"
	"trevak/internal/setting"
)

// reconcile proves that what is there is what the source has.
func (a *app) reconcile() *cobra.Command {
	var flags *flowFlags
	var with string
	var rows int
	cmd := &cobra.Command{
		Use:   "reconcile SOURCE… --with TABLE|FILE|FOLDER",
		Short: "Prove that a table or files hold what their source holds, by reading both anew",
		Long: `Reconcile reads the source as a load would, with the same flags or the same feed file, reads what is in the table anew, and holds
both against each other: rows by object, and for each column how many values and nulls there are, how many different ones, their
exact sum, their length, the smallest and the largest, and a hash of 128 bits of all of them that does not depend on their order. Of a
table those rows count that came of the objects of the source. Where the sides differ, the rows are found and shown with their values
and places. It ends with exit code 3 where they differ.`,
		Example: `  trevak reconcile trevak-demo/tides --with orrin.tides -w trevak-demo/warehouse
  trevak reconcile trevak-demo/tides/tides.tsv --with trevak-demo/tides.parquet`,
		Args: func(cmd *cobra.Command, args []string) error { return sources(flags)(cmd, args) },
		RunE: func(cmd *cobra.Command, args []string) error {
			if with == "" && flags.flow.Into == "" && flags.feed.path == "" {
				return fault.New(fault.Usage, "--with is missing").Try("name what is to be held against the source: a table, a file or a folder")
			}
			task, err := flags.task(cmd, args)
			if err != nil {
				return err
			}
			if with == "" {
				with = flags.flow.Into
			}
			budget, done := a.budget()
			defer done()
			var r *reconcile.Result
			if isTable(with) {
				w, err := a.openWarehouse()
				if err != nil {
					return err
				}
				flags.flow.Into = with
				l, err := flags.flow.LoadRequest(task, w, flags.feed.path != "")
				if err != nil {
					return err
				}
				t, err := a.findTable(cmd.Context(), with)
				if err != nil {
					return err
				}
				r, err = reconcile.Table(cmd.Context(), l, t, rows, budget)
				if err != nil {
					return err
				}
			} else if r, err = reconcile.Files(cmd.Context(), task, with, rows, budget); err != nil {
				return err
			}
			done()
			return a.reconciled(r)
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns, setting.Records, setting.Form)
	for _, name := range []string{"mode", "delete-where", "update-only", "split", "drift", "check"} {
		flags.also(cmd, name, "")
	}
	cmd.Flags().StringVar(&with, "with", "", "the `target`: a table, a file or a folder; a feed file may name the table")
	cmd.Flags().IntVarP(&rows, "rows", "n", 5, "show so many of the `rows` that differ")
	first(cmd, "with", "rows", "at", "feed", "key", "type", "rename", "unnest", "where")
	return cmd
}

func (a *app) reconciled(r *reconcile.Result) error {
	var err error
	if a.json() {
		err = render.ReconciledJSON(a.screen(), r)
	} else {
		render.Reconciled(a.screen(), r)
	}
	if err == nil && !r.Agree {
		return errDiffers
	}
	return err
}

// errDiffers ends a command whose result has told already what is wrong.
var errDiffers = fault.New(fault.Schema, "the sides differ")
