package cli

import (
	"context"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/inspect"
	"trevak/internal/render"
	"trevak/internal/schema"
	"trevak/internal/table"
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
				if err := idle(cmd, "on files", "warehouse", "at"); err != nil {
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
