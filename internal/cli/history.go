package cli

import (
	"context"

	"github.com/spf13/cobra"

	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/inspect"
	"trevak/internal/render"
	"trevak/internal/table"
	"trevak/internal/write"
)

// history lists how a table came to be what it is.
func (a *app) history() *cobra.Command {
	var rows int
	cmd := &cobra.Command{
		Use:   "history TABLE",
		Short: "List the commits of a table: what each did, from which source, and when",
		Long: `History shows a line for each commit to a table, the newest first: loads, upserts, deletions, compactions, those of other
programs, and the moments at which a former state became the table's again. Rows that an upsert altered count as removed and as
added. A state is named by its snapshot, by a tag, or by a time; --at of other commands takes all three.`,
		Example: `  trevak history orrin.observations -w trevak-demo/warehouse
  trevak history orrin.stations -n 3 -o json -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if rows < 1 {
				return fault.New(fault.Usage, "-n %d is below 1", rows).Try("leave it out for the newest %d", historyShown)
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			list, err := t.History()
			if err != nil {
				return err
			}
			if a.json() {
				if !cmd.Flags().Changed("rows") {
					rows = len(list)
				}
				return render.HistoryJSON(a.screen(), t.Name.String(), list[:min(rows, len(list))])
			}
			render.TableHistory(a.screen(), t.Name.String(), list, rows)
			return nil
		},
	}
	cmd.Flags().IntVarP(&rows, "rows", "n", historyShown, "show so many `commits`; as JSON all of them, unless this is stated")
	return cmd
}

// historyShown is how many commits are shown where nobody says.
const historyShown = 20

// tag names states of a table.
func (a *app) tag() *cobra.Command {
	var at string
	var replace, remove bool
	cmd := &cobra.Command{
		Use:   "tag TABLE [NAME]",
		Short: "Name a state of a table, which is kept as long as it has a name; or list the names",
		Long: `Tag gives a state of a table a name: the newest one, or the one that --at says. A state with a name does not expire. Without
a name the tags and branches of the table are listed. --remove takes a name away; what only a removed branch had is gone with its
states.`,
		Example: `  trevak tag orrin.observations season-start -w trevak-demo/warehouse
  trevak tag orrin.observations -w trevak-demo/warehouse`,
		Args: few(1, 2, "a table and a name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				if err := idle(cmd, "without a name", "at", "replace", "remove"); err != nil {
					return err
				}
				return a.listRefs(cmd, args[0])
			}
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			if remove {
				if err := idle(cmd, "on --remove", "at", "replace"); err != nil {
					return err
				}
				s, err := w.Untag(cmd.Context(), name, args[1])
				if err != nil {
					return err
				}
				a.done = "taken away"
				return a.named(name, render.Named{Name: args[1], Snapshot: s, Removed: true})
			}
			s, err := w.Tag(cmd.Context(), name, args[1], at, replace)
			if err != nil {
				return err
			}
			a.done = "tagged"
			return a.named(name, render.Named{Name: args[1], Snapshot: s})
		},
	}
	cmd.Flags().StringVar(&at, "at", "", "name this `state`: the id of a snapshot, a tag or branch, or a time (default: the newest)")
	cmd.Flags().BoolVar(&replace, "replace", false, "move a tag that another state has")
	cmd.Flags().BoolVar(&remove, "remove", false, "take the name away, be it of a tag or of a branch")
	return cmd
}

func (a *app) named(name table.Name, n render.Named) error {
	if a.json() {
		return render.NamedJSON(a.screen(), name.String(), n)
	}
	render.NamedText(a.reportScreen(), name.String(), n)
	return nil
}

func (a *app) listRefs(cmd *cobra.Command, arg string) error {
	t, err := a.findTable(cmd.Context(), arg)
	if err != nil {
		return err
	}
	if a.json() {
		return render.RefsJSON(a.screen(), t.Name.String(), t.Refs())
	}
	render.Refs(a.screen(), t.Name.String(), t.Refs())
	return nil
}

// rollback makes a former state a table's again.
func (a *app) rollback() *cobra.Command {
	var to string
	var keep, dryRun bool
	cmd := &cobra.Command{
		Use:   "rollback TABLE --to SNAPSHOT|TIME|TAG",
		Short: "Make a former state of a table its state again",
		Long: `Rollback makes a state that has not expired the table's again: its rows, its schema, and its ledger, so that objects which were
taken in since are loaded again by the next load that names them. It says what it undoes. No file is removed, and the state that
was the table's can be brought back in the same way until it expires. --keep-schema leaves the columns as they are now.`,
		Example: `  trevak rollback orrin.observations --to three-days --dry-run -w trevak-demo/warehouse
  trevak rollback orrin.observations --to three-days --keep-schema --dry-run -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return fault.New(fault.Usage, "--to is missing").Try("name a snapshot, a tag or a time; they are listed by").
					By(fault.TableHistory, args[0])
			}
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			r, err := w.Rollback(cmd.Context(), name, to, keep, dryRun)
			return a.returned(cmd, name, r, dryRun, "rolled back", err)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the `state`: the id of a snapshot, a tag or branch, or a time")
	cmd.Flags().BoolVar(&keep, "keep-schema", false, "leave the columns as they are now")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would be undone, and change nothing")
	return cmd
}

// publish makes a branch the table.
func (a *app) publish() *cobra.Command {
	var branch string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "publish TABLE --branch BRANCH",
		Short: "Make the newest state of a branch the table",
		Long: `Publish makes what loads brought to a branch the table, in one commit, and ends the branch. The table must not have gone on by
itself meanwhile, and its rows must keep the rules of the table that stop a load.`,
		Example: `  trevak load trevak-demo/tides --into orrin.tides --branch trial --again -w trevak-demo/warehouse
  trevak publish orrin.tides --branch trial --dry-run -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if branch == "" {
				return fault.New(fault.Usage, "--branch is missing").Try("name the branch; a table's branches are listed by: trevak tag %s", args[0])
			}
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			r, err := w.Publish(cmd.Context(), name, branch, dryRun, func(t *table.Table) error { return keepsRules(cmd.Context(), w, t) })
			return a.returned(cmd, name, r, dryRun, "published", err)
		},
	}
	cmd.Flags().StringVar(&branch, "branch", "", "the `branch` that is to be the table")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would come, and change nothing")
	return cmd
}

// keepsRules refuses a state of a table whose rows break a rule that stops loads.
func keepsRules(ctx context.Context, w *table.Warehouse, t *table.Table) error {
	if len(t.Checks()) == 0 {
		return nil
	}
	checked, err := check.Table(ctx, w, t, nil)
	if err != nil {
		return err
	}
	for _, r := range checked.Results {
		if err := write.BreaksRule(r); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) returned(cmd *cobra.Command, name table.Name, r *table.Return, dry bool, done string, err error) error {
	if err != nil {
		return err
	}
	if !dry {
		a.done = done + ", snapshot " + render.ID(r.To.ID) + " of " + name.String()
	}
	w, err := a.openWarehouse()
	if err != nil {
		return err
	}
	t, err := w.Find(cmd.Context(), name)
	if err != nil {
		return err
	}
	objects, err := inspect.LedgerGap(cmd.Context(), t, r.Before, r.After)
	if err != nil {
		return err
	}
	if a.json() {
		return render.ReturnJSON(a.screen(), name.String(), r, objects, dry)
	}
	s := a.reportScreen()
	if dry {
		s = a.screen()
	}
	render.ReturnText(s, name.String(), r, objects, dry)
	return nil
}
