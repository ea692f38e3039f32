package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/reconcile"
	"trevak/internal/render"
)

// compare tells how two states of a table differ.
func (a *app) compare() *cobra.Command {
	var at, key []string
	var rows int
	cmd := &cobra.Command{
		Use:   "compare TABLE --at STATE [--at STATE]",
		Short: "Show which rows two states of a table do not share",
		Long: `Compare counts the rows that were added, removed and altered between two states of a table, and shows some of them with what
differs. With one --at it compares that state with the table as it is. Rows are told from each other by the table's key, or by the
one that the last upsert had, or that --key names; without any a row that was altered is one removed and one added. Files that both
states have are not read.`,
		Example: `  trevak compare orrin.observations --at three-days -w trevak-demo/warehouse
  trevak compare orrin.tides --at once --at main --key station,taken_at -n 3 -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(at) == 0 || len(at) > 2 {
				wrong := "--at is missing"
				if len(at) > 0 {
					wrong = "--at names more states than the two that are compared"
				}
				return fault.New(fault.Usage, "%s", wrong).
					Try("name one state to compare it with the table as it is, or two; they are listed by").By(fault.TableHistory, args[0])
			}
			if rows < 0 {
				return fault.New(fault.Usage, "-n %d is below 0", rows).Try("use 0 for the counts alone")
			}
			now, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			before, err := now.At(at[0])
			if err != nil {
				return err
			}
			after := now
			if len(at) == 2 {
				if after, err = now.At(at[1]); err != nil {
					return err
				}
			}
			budget, done := a.budget()
			c, err := reconcile.States(cmd.Context(), before, after, key, rows, budget)
			done()
			if err != nil {
				return err
			}
			if a.json() {
				return render.ComparedJSON(a.screen(), c)
			}
			render.Compared(a.screen(), c)
			return nil
		},
	}
	cmd.Flags().StringArrayVar(&at, "at", nil, "a `state`: the id of a snapshot, a tag or branch, or a time; twice for two")
	cmd.Flags().StringSliceVar(&key, "key", nil, "the `columns` that tell rows from each other")
	cmd.Flags().IntVarP(&rows, "rows", "n", 10, "show so many of the `rows`")
	return cmd
}
