package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/table"
	"trevak/internal/transfer"
)

// copies is what a copy is asked for.
type copies struct {
	*app
	to, into               string
	history, inPlace       bool
	thenDrop, dryRun, many bool
}

// copyCommand copies a table, or those of a namespace, to another warehouse.
func (a *app) copyCommand() *cobra.Command {
	c := copies{app: a}
	cmd := &cobra.Command{
		Use:   "copy TABLE|NAMESPACE --to WAREHOUSE",
		Short: "Copy a table to another warehouse or catalog, and verify the copy",
		Long: `Copy makes a table in another warehouse, or by another catalog, with the same rows, columns, layout, properties and ledger.
Files are copied side by side, and both are read back and compared; those with deletes, or of a former partitioning, are written anew,
and their rows are held against what was read. Only then does the table come into being there. With --history all states of the table
come along; with --in-place nothing is copied: the other catalog keeps the table where it lies, and here it is only read. --then-drop
ends the table here once the other is there and verified, unless it was changed meanwhile.

A copy that is cut off goes on from the files that are there when the same command is run again; tables that were copied before are passed
over. Of a namespace all tables are copied, those of namespaces in it too.`,
		Example: `  trevak copy orrin.tides --to trevak-demo/second --dry-run -w trevak-demo/warehouse
  trevak copy orrin.tides --to trevak-demo/second --into orrin.tides_copied -w trevak-demo/warehouse
  trevak copy orrin --to trevak-demo/third --history -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table or a namespace"),
		RunE: func(cmd *cobra.Command, args []string) error { return c.run(cmd.Context(), args[0]) },
	}
	cmd.Flags().StringVar(&c.to, "to", "", "the `folder` of the other warehouse, or a catalog of trevak.yaml: office, or office:ops.tides")
	cmd.Flags().StringVar(&c.into, "into", "", "the name of the `table` there (default: the same)")
	cmd.Flags().BoolVar(&c.history, "history", false, "copy all states of the table, not only the one that it is in")
	cmd.Flags().BoolVar(&c.inPlace, "in-place", false, "copy nothing: have the other catalog know the table where it lies")
	cmd.Flags().BoolVar(&c.thenDrop, "then-drop", false, "drop the table here once the copy is verified; its files too, unless --in-place")
	cmd.Flags().BoolVar(&c.dryRun, "dry-run", false, "say what would be copied, and copy nothing")
	return cmd
}

func (c *copies) run(ctx context.Context, arg string) error {
	if c.to == "" {
		return fault.New(fault.Usage, "--to is missing").Try("name the folder of the other warehouse, like --to /lake/second, or a catalog")
	}
	if c.history && c.inPlace {
		return fault.New(fault.Usage, "--history and --in-place say two things of the copy: one that lies in place has its history").
			Try("leave one of them out")
	}
	if c.at != "" && (c.history || c.inPlace || c.thenDrop) {
		return fault.New(fault.Usage, "a state of the table was asked for, which cannot be copied with its history or in place, nor be dropped").
			Try("leave out --at, or copy its rows alone")
	}
	from, err := c.openWarehouse()
	if err != nil {
		return err
	}
	tables, err := c.named(ctx, from, arg)
	if err != nil {
		return err
	}
	w, named, err := warehouseOf(ctx, c.to)
	if err != nil {
		return err
	}
	if named != "" && c.into != "" {
		return fault.New(fault.Usage, "--to %s and --into both name the copy", c.to).Try("leave one of the names out")
	}
	if named == "" {
		named = c.into
	}
	if named != "" && c.many {
		return fault.New(fault.Usage, "%s is a namespace, whose tables keep their names", arg).Try("leave out the name of the copy")
	}
	c.untouched = "the warehouse " + render.Harmless(c.to) + " is as it was, apart from files that the same command goes on from"
	var all []*transfer.Copied
	for _, t := range tables {
		name := t.Name
		if named != "" {
			if name, err = table.ParseName(named); err != nil {
				return err
			}
		}
		one, err := c.one(ctx, from, t, w, name)
		if err != nil {
			return err
		}
		all = append(all, one)
		if !c.json() {
			c.tell(one)
		}
	}
	switch {
	case !c.json():
		return nil
	case c.many:
		return render.AllCopiedJSON(c.screen(), arg, all)
	}
	return render.CopiedJSON(c.screen(), all[0])
}

func (c *copies) tell(one *transfer.Copied) {
	s := c.reportScreen()
	if c.dryRun {
		s = c.screen()
	}
	render.Copied(s, one)
	if c.many {
		s.Printf("\n")
	}
}

// one copies a table.
func (c *copies) one(ctx context.Context, from *table.Warehouse, t *table.Table, w *table.Warehouse,
	name table.Name) (*transfer.Copied, error) {
	r := transfer.Request{From: t, Of: from, To: w, Name: name, ThenDrop: c.thenDrop, DryRun: c.dryRun}
	switch {
	case c.history:
		r.How = transfer.History
	case c.inPlace:
		r.How = transfer.InPlace
	}
	budget, done := c.budget()
	r.Budget = budget
	copied, err := transfer.Copy(ctx, r)
	done()
	if err != nil {
		return nil, err
	}
	if !c.dryRun {
		c.done = "copied, snapshot " + render.ID(copied.SnapshotID) + " of " + name.String()
	}
	return copied, nil
}

// named are the tables that an argument names: one, or all of a namespace.
func (c *copies) named(ctx context.Context, from *table.Warehouse, arg string) ([]*table.Table, error) {
	name, notOne := table.ParseName(arg)
	if notOne == nil {
		if t, err := from.Load(ctx, name); err != nil || t != nil {
			if t != nil && c.at != "" {
				t, err = from.FindAt(ctx, name, c.at)
			}
			return []*table.Table{t}, err
		}
	}
	names, err := from.Names(ctx)
	if err != nil {
		return nil, err
	}
	var out []*table.Table
	for _, n := range names {
		if strings.HasPrefix(n.String(), arg+".") {
			t, err := from.Find(ctx, n)
			if err != nil {
				return nil, err
			}
			out = append(out, t)
		}
	}
	if c.many = true; len(out) > 0 {
		return out, nil
	}
	if notOne != nil {
		return nil, fault.New(fault.Usage, "there is no namespace %s with tables in the warehouse %s", arg, from.Dir()).
			Try("name a table, like ops.readings, or a namespace that trevak namespaces lists")
	}
	_, err = c.findTable(ctx, arg)
	return nil, err
}
