package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/render"
	"trevak/internal/schema"
	"trevak/internal/setting"
	"trevak/internal/table"
	"trevak/internal/write"
)

// create makes a table without rows.
func (a *app) create() *cobra.Command {
	var flags *flowFlags
	var like, comments, properties, checks []string
	var m load.Making
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "create NAMESPACE.TABLE --like SOURCE|TABLE",
		Short: "Make a table without rows, with the columns of a source, a table or a feed file",
		Long: `Create makes a table before its first rows come: with the columns that a source would give it, all of whose records are looked
at, with those of another table, or with those that a feed file names. --anew has a table that is there begin again, with new
columns and without its rows; its former state stays until it expires. --if-absent leaves one alone that is there.`,
		Example: `  trevak create harbour.seen --like trevak-demo/observations --only buoy,observed_at -w trevak-demo/warehouse
  trevak create harbour.levels --like orrin.tides --partition 'day(taken_at)' --if-absent -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table to make"),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			defer func() { err = flags.feed.blame(err) }()
			name, err := table.ParseName(args[0])
			if err != nil {
				return err
			}
			if m.IfAbsent && m.Anew {
				return fault.New(fault.Usage, "--if-absent and --anew say two things of a table that is there").Try("keep one of them")
			}
			if m.Comments, err = settings("--column-comment", comments); err != nil {
				return err
			}
			if m.Properties, err = propertiesOf(properties); err != nil {
				return err
			}
			if m.Checks, err = rulesOf(checks); err != nil {
				return err
			}
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			l, err := a.making(cmd, flags, like, &m)
			if err != nil {
				return err
			}
			l.Warehouse, l.Into, l.DryRun = w, name, dryRun
			budget, done := a.budget()
			made, err := load.Make(cmd.Context(), l, m, budget)
			done()
			if err != nil {
				return err
			}
			if !dryRun && !made.There {
				a.done = "made " + name.String()
			}
			if a.json() {
				return render.MadeJSON(a.screen(), made)
			}
			s := a.reportScreen()
			if dryRun {
				s = a.screen()
			}
			render.Made(s, made)
			return nil
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns, setting.Form)
	flags.also(cmd, "partition", "")
	flags.also(cmd, "sort", "")
	flags.also(cmd, "format", "")
	cmd.Flags().StringArrayVar(&like, "like", nil, "the `source` or table whose columns it gets; may be repeated for sources")
	cmd.Flags().StringArrayVar(&comments, "column-comment", nil, "give a column a comment (`COL=TEXT`); may be repeated")
	cmd.Flags().StringArrayVar(&checks, "check", nil, "keep a `rule` with the table that rows of each load must keep, as for load")
	cmd.Flags().StringArrayVar(&properties, "property", nil, "keep a property with the table (`KEY=VALUE`); may be repeated")
	cmd.Flags().BoolVar(&m.IfAbsent, "if-absent", false, "leave a table alone that is there")
	cmd.Flags().BoolVar(&m.Anew, "anew", false, "have a table that is there begin again, without its rows")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "show the columns that it would get, and make nothing")
	first(cmd, "like", "feed", "if-absent", "anew", "dry-run", "partition", "sort", "key", "required", "warehouse")
	return cmd
}

// making makes of the flags what columns a table is to have.
func (a *app) making(cmd *cobra.Command, flags *flowFlags, like []string, m *load.Making) (l load.Request, err error) {
	ofTable := len(like) == 1 && isTable(like[0])
	if ofTable {
		if err := idleBut(cmd, "with --like TABLE, whose columns are settled", "like", "column-comment", "property", "check", "if-absent",
			"anew", "dry-run", "partition", "sort", "format", "key", "required"); err != nil {
			return l, err
		}
		if m.Like, err = a.findTable(cmd.Context(), like[0]); err != nil {
			return l, err
		}
	}
	if len(like) == 0 && flags.feed.path == "" {
		return l, fault.New(fault.Usage, "neither --like nor --feed says which columns the table gets").
			Try("name a source or a table with --like, or a feed file with --feed")
	}
	t, err := flags.task(cmd, like)
	if err != nil {
		return l, err
	}
	flags.flow.Into = "made.before" // which the argument takes the place of
	if l, err = flags.flow.LoadRequest(write.Task{Reading: t.Reading, PathColumns: t.PathColumns}, nil, flags.feed.path != ""); err != nil {
		return l, err
	}
	m.Required = t.Corrections.Required
	if len(like) == 0 && t.Shape.Empty() && len(t.Corrections.Renames) == 0 {
		// The columns of a feed file are those of records, before they get another form.
		m.Declared = flags.feed.declared
	}
	return l, nil
}

// settings reads COLUMN=VALUE.
func settings(flag string, list []string) (out []schema.Setting, err error) {
	for _, text := range list {
		column, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, fault.New(fault.Usage, "%s %q has no equals sign", flag, text).Try("write it like %s column=value", flag)
		}
		out = append(out, schema.Setting{Column: column, Value: value})
	}
	return out, nil
}

// propertiesOf reads KEY=VALUE.
func propertiesOf(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, text := range list {
		key, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, fault.New(fault.Usage, "--property %q has no equals sign", text).Try("write it like --property owner=harbour")
		}
		if err := table.CheckProperty(key); err != nil {
			return nil, err
		}
		out[key] = value
	}
	return out, nil
}
