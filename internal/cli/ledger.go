package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/inspect"
	"trevak/internal/render"
)

// ledger lists which objects a table has taken in.
func (a *app) ledger() *cobra.Command {
	return &cobra.Command{
		Use:   "ledger TABLE [TEXT|PATTERN]",
		Short: "List the objects that a table has taken in",
		Long: `Ledger lists the objects that loads have put into a table, with what became of their records. A load passes over those that
are in it. A text or a pattern keeps the objects whose location holds it, or whose name it matches.`,
		Example: `  trevak ledger orrin.observations -w trevak-demo/warehouse
  trevak ledger orrin.observations '2031-05-0[12].*' -w trevak-demo/warehouse`,
		Args: few(1, 2, "a table, and a text or pattern"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			list, err := inspect.ListLedger(cmd.Context(), t, append(args, "")[1])
			if err != nil {
				return err
			}
			if a.json() {
				return render.LedgerJSON(a.screen(), t.Name.String(), list)
			}
			render.Ledger(a.screen(), t.Name.String(), list)
			return nil
		},
	}
}
