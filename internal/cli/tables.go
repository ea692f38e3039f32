package cli

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/inspect"
	"trevak/internal/render"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/wording"
)

func (a *app) tables() *cobra.Command {
	return &cobra.Command{
		Use:   "tables",
		Short: "List the tables of the warehouse",
		Example: `  trevak tables -w trevak-demo/warehouse
  trevak tables -w trevak-demo/warehouse -o json`,
		Args: few(0, 0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			list, err := inspect.ListTables(cmd.Context(), w)
			if err != nil {
				return err
			}
			if a.json() {
				return render.TablesJSON(a.screen(), w.Dir(), list)
			}
			render.Tables(a.screen(), w.Dir(), list)
			return nil
		},
	}
}

func (a *app) describe() *cobra.Command {
	return &cobra.Command{
		Use:   "describe TABLE|FILE",
		Short: "Show the columns, layout, sizes and history of a table or a columnar file",
		Long: `Describe shows a table's columns with their ids, types and sizes, its partitioning, files and snapshots; or how a columnar file
is built. What exists as a file, or has a path separator, is a file; otherwise namespace.table is a table, and
table:namespace.table always is.`,
		Example: `  trevak describe orrin.observations -w trevak-demo/warehouse
  trevak describe trevak-demo/tides.parquet`,
		Args: few(1, 1, "a table or a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !isTable(args[0]) {
				if err := idle(cmd, "on files", "warehouse"); err != nil {
					return err
				}
				return a.describeFile(cmd.Context(), args[0])
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			info, err := inspect.DescribeTable(cmd.Context(), t)
			if err != nil {
				return err
			}
			if a.json() {
				return render.TableInfoJSON(a.screen(), info)
			}
			render.TableInfo(a.screen(), info)
			return nil
		},
	}
}

func (a *app) describeFile(ctx context.Context, location string) error {
	l, s, err := inspect.DescribeFile(ctx, stores, location)
	if err != nil {
		return err
	}
	if a.json() {
		return render.FileInfoJSON(a.screen(), l, s)
	}
	render.FileInfo(a.screen(), l, s)
	return nil
}

func (a *app) schemaCommand() *cobra.Command {
	var history, diff bool
	var emit string
	cmd := &cobra.Command{
		Use:   "schema TABLE [VERSION VERSION]",
		Short: "Show the schema of a table, its history, or what differs between two versions",
		Long: `Schema shows the columns of a table with their ids, types and comments. --history lists each version with its date,
its cause and what changed; --diff shows what differs between two of them; --emit ddl writes a CREATE TABLE statement
in standard SQL.`,
		Example: `  trevak schema orrin.observations -w trevak-demo/warehouse
  trevak schema orrin.observations --history -w trevak-demo/warehouse`,
		Args: few(1, 3, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 || diff != (len(args) == 3) {
				return fault.New(fault.Usage, "--diff takes a table and two versions").Try("write it like: trevak schema %s --diff 0 1",
					args[0])
			}
			switch {
			case history && (diff || emit != ""), diff && emit != "":
				return fault.New(fault.Usage, "--history, --diff and --emit each show something else").Try("keep one of them")
			case emit != "" && a.json():
				return fault.New(fault.Usage, "-o json has no effect with --emit %s, which has a form of its own",
					emit).Try("leave one of them out")
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			switch {
			case emit == "ddl":
				a.screen().Printf("%s", schema.DDL(t.Name.String(), t.Schema))
				return nil
			case emit != "":
				return fault.Unknown("emit", emit, "ddl")
			case diff:
				return a.compareVersions(t, args[1], args[2])
			}
			versions, err := t.Versions()
			if err != nil {
				return err
			}
			if a.json() {
				return render.SchemaJSON(a.screen(), t, versions)
			}
			if history {
				render.History(a.screen(), t.Name.String(), versions)
			} else {
				render.Schema(a.screen(), t, versions)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&history, "history", false, "list the versions of the schema")
	cmd.Flags().BoolVar(&diff, "diff", false, "show what differs between two versions")
	cmd.Flags().StringVar(&emit, "emit", "", "write `what`: a CREATE TABLE statement (ddl)")
	return cmd
}

func (a *app) compareVersions(t *table.Table, before, after string) error {
	versions, err := t.Versions()
	if err != nil {
		return err
	}
	find := func(text string) (schema.Schema, error) {
		var known []string
		for _, v := range versions {
			if known = append(known, strconv.Itoa(v.ID)); text == strconv.Itoa(v.ID) {
				return v.Schema, nil
			}
		}
		return schema.Schema{}, fault.New(fault.Usage, "the table %s has no version %s of its schema", t.Name,
			text).Try("its versions are %s", strings.Join(known, ", "))
	}
	was, err := find(before)
	if err != nil {
		return err
	}
	is, err := find(after)
	if err != nil {
		return err
	}
	changes := schema.Compare(was, is)
	if a.json() {
		if changes == nil {
			changes = []string{}
		}
		return a.writeJSON(struct {
			Table   string   `json:"table"`
			From    string   `json:"schema_id_before"`
			To      string   `json:"schema_id_after"`
			Changes []string `json:"changes"`
		}{t.Name.String(), before, after, changes})
	}
	if len(changes) == 0 {
		a.screen().Printf("versions %s and %s of %s are alike\n", before, after, t.Name)
	}
	for _, c := range changes {
		a.screen().Printf("%s\n", c)
	}
	return nil
}

func (a *app) alter() *cobra.Command {
	var renames, widen, comments, after, optional, drop, first []string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "alter TABLE",
		Short: "Rename, widen, drop, reorder and comment the columns of a table",
		Long: `Alter changes the schema of a table without touching its files: columns keep their ids, so files written before are
read as they were meant. A renamed column still takes the values that files have under its old name. Parts of nested
columns are named by their path.`,
		Example: `  trevak alter orrin.stations --comment 'Water_Depth_m=at mean low water' -w trevak-demo/warehouse
  trevak alter orrin.tides --rename level_m=level --first level_m --dry-run -w trevak-demo/warehouse
  trevak alter orrin.tides --rename level_m=level --first level_m -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			alteration := schema.Alteration{Optional: optional, Drop: drop, First: first}
			for _, part := range []struct {
				flag string
				list []string
				to   *[]schema.Setting
			}{{"--rename", renames, &alteration.Rename}, {"--widen", widen, &alteration.Widen},
				{"--comment", comments, &alteration.Comment}, {"--after", after, &alteration.After}} {
				for _, text := range part.list {
					column, value, ok := strings.Cut(text, "=")
					if !ok {
						return fault.New(fault.Usage, "%s %q has no equals sign", part.flag, text).Try("write it like %s column=value",
							part.flag)
					}
					*part.to = append(*part.to, schema.Setting{Column: column, Value: value})
				}
			}
			if alteration.Empty() {
				return fault.New(fault.Usage, "nothing to alter").Try("state what is to change, for example --rename old=new; see " +
					"trevak alter --help")
			}
			return a.alterTable(cmd.Context(), args[0], alteration, dryRun)
		},
	}
	flags := cmd.Flags()
	flags.StringArrayVar(&renames, "rename", nil, "give a column another name (`OLD=NEW`)")
	flags.StringArrayVar(&widen, "widen", nil, "widen a type: int to long, float to double, decimals to more digits (`COL=TYPE`)")
	flags.StringArrayVar(&drop, "drop", nil, "drop a `column`; its values stay in the files, but are not seen any more")
	flags.StringArrayVar(&first, "first", nil, "put a `column` before all others")
	flags.StringArrayVar(&after, "after", nil, "put a column after another (`COL=OTHER`)")
	flags.StringArrayVar(&comments, "comment", nil, "give a column a comment (`COL=TEXT`)")
	flags.BoolVar(&dryRun, "dry-run", false, "tell what would change, and change nothing")
	flags.StringArrayVar(&optional, "optional", nil, "let a required `column` be without a value")
	return cmd
}

func (a *app) alterTable(ctx context.Context, arg string, alteration schema.Alteration, dryRun bool) error {
	name, err := table.ParseName(arg)
	if err != nil {
		return err
	}
	w, err := a.openWarehouse()
	if err != nil {
		return err
	}
	change := func(t *table.Table) (schema.Schema, []string, error) {
		for _, column := range alteration.Drop {
			for _, field := range t.Spec {
				if field.Column == column {
					return schema.Schema{}, nil, fault.New(fault.Usage, "column %q cannot be dropped: the table is partitioned by %s",
						column, field)
				}
			}
		}
		altered, changes, err := t.Schema.Alter(alteration)
		return altered, changes, alterError(err)
	}
	var changes []string
	if dryRun {
		t, err := w.Find(ctx, name)
		if err != nil {
			return err
		}
		if _, changes, err = change(t); err != nil {
			return err
		}
	} else if changes, err = w.Alter(ctx, name, change); err != nil {
		return err
	} else {
		a.done = "altered " + name.String()
	}
	s := a.reportScreen()
	if dryRun {
		s = a.screen()
	}
	if a.json() {
		return a.writeJSON(struct {
			Table   string   `json:"table"`
			Changes []string `json:"changes"`
			DryRun  bool     `json:"dry_run"`
		}{name.String(), slices.Concat([]string{}, changes), dryRun})
	}
	switch {
	case len(changes) == 0:
		s.Printf("%s: it is like that already\n", name)
	case dryRun:
		s.Printf("%s: nothing was changed; it would be:\n", name)
	}
	for _, c := range changes {
		s.Printf("%s: %s\n", name, c)
	}
	return nil
}

// alterError gives a kind to what an alteration cannot do.
func alterError(err error) error {
	var missing *schema.NoColumn
	switch {
	case err == nil:
		return nil
	case errors.As(err, &missing) && len(missing.Nearest) > 0:
		return fault.New(fault.Usage, "%s", err).Try("%s", wording.Meant(missing.Nearest))
	}
	return fault.New(fault.Usage, "%s", err)
}
