package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/table"
)

// drop ends a table.
func (a *app) drop() *cobra.Command {
	var yes, keep, purge, dryRun bool
	cmd := &cobra.Command{
		Use:   "drop TABLE",
		Short: "Drop a table, and remove its files or keep them",
		Long: `Drop says what a table has, asks, and ends it. Its files stay (--keep-files), with a description of its last state beside them,
unless --purge removes them: those that are the table's own, of all its states. Files that were adopted, and sources, are
never removed. Where nobody can answer, --yes does.`,
		Example: `  trevak drop orrin.tides --dry-run -w trevak-demo/warehouse
  trevak drop orrin.tides --purge --dry-run -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if keep && purge {
				return fault.New(fault.Usage, "--keep-files and --purge say two things of the files").Try("keep one of them")
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			held, err := t.Holdings(cmd.Context())
			if err != nil {
				return err
			}
			if dryRun {
				if a.json() {
					return render.DroppedJSON(a.screen(), t.Name.String(), &table.Dropped{Holdings: *held}, !purge, true)
				}
				render.Holdings(a.screen(), t.Name.String(), held, !purge)
				return nil
			}
			if !yes {
				if err := a.ask(t.Name.String(), held, !purge); err != nil {
					return err
				}
			}
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			a.untouched = "the table " + t.Name.String() + " is as it was"
			dropped, err := w.Drop(cmd.Context(), t.Name, !purge)
			if err != nil {
				return err
			}
			a.done = "dropped " + t.Name.String()
			if a.json() {
				return render.DroppedJSON(a.screen(), t.Name.String(), dropped, !purge, false)
			}
			render.Dropped(a.reportScreen(), t.Name.String(), dropped, !purge)
			return nil
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&keep, "keep-files", false, "keep the files of the table, which is usual")
	cmd.Flags().BoolVar(&purge, "purge", false, "remove the files of the table, of all its states")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would go, and drop nothing")
	return cmd
}

// ask has somebody agree to what goes.
func (a *app) ask(name string, held *table.Holdings, keep bool) error {
	if a.json() || !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.Usage, "nobody can be asked here whether %s may be dropped", name).
			Try("see what would go with --dry-run, and then say --yes")
	}
	s := a.screen()
	s.Writer = a.err
	render.Holdings(s, name, held, keep)
	fmt.Fprintf(a.err, "\nDrop it? [y/N] ")
	line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
		return fault.New(fault.Usage, "the table %s was not dropped", name).Try("nothing was changed")
	}
	return nil
}

// namespaces lists, makes and drops namespaces.
func (a *app) namespaces() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "namespaces",
		Short: "List the namespaces of the warehouse, make one, or drop one",
		Long: `A namespace is what tables' names begin with; it comes into being with its first table, or by create. Namespaces lie in
each other: orrin.north is one in orrin. One that holds nothing can be dropped.`,
		Example: `  trevak namespaces -w trevak-demo/warehouse
  trevak namespaces create orrin.north -w trevak-demo/warehouse
  trevak namespaces drop orrin.north -w trevak-demo/warehouse`,
		Args: few(0, 0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			list, err := w.Namespaces(cmd.Context())
			if err != nil {
				return err
			}
			if a.json() {
				return render.NamespacesJSON(a.screen(), w.Dir(), list)
			}
			render.Namespaces(a.screen(), w.Dir(), list)
			return nil
		},
	}
	make := func(ctx context.Context, w *table.Warehouse, name string) (string, error) {
		made, err := w.CreateNamespace(ctx, name)
		if !made {
			return name + ": is there already", err
		}
		return name + ": made", err
	}
	drop := func(ctx context.Context, w *table.Warehouse, name string) (string, error) {
		return name + ": dropped", w.DropNamespace(ctx, name)
	}
	cmd.AddCommand(a.addWarehouse(a.namespaceStep("create", "Make a namespace, and those that it lies in", make)),
		a.addWarehouse(a.namespaceStep("drop", "Drop a namespace that holds nothing", drop)))
	return cmd
}

// namespaceStep is a command that does something to one namespace.
func (a *app) namespaceStep(verb, short string, do func(ctx context.Context, w *table.Warehouse, name string) (string,
	error)) *cobra.Command {
	return &cobra.Command{
		Use:   verb + " NAMESPACE",
		Short: short,
		Example: "  trevak namespaces " + verb + " orrin.south -w trevak-demo/warehouse\n  trevak namespaces " + verb +
			" orrin.north.deep -w trevak-demo/warehouse",
		Args: few(1, 1, "a namespace"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			text, err := do(cmd.Context(), w, args[0])
			if err != nil {
				return err
			}
			if a.json() {
				return render.JSON(a.screen(), struct {
					Namespace string `json:"namespace"`
				}{args[0]})
			}
			a.reportScreen().Printf("%s\n", text)
			return nil
		},
	}
}
