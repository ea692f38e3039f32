package cli

import (
	"context"
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/wording"
)

// alter changes what a table is, besides its rows.
func (a *app) alter() *cobra.Command {
	var renames, widen, comments, after, optional, drop, first, properties, unset, key, checks, unchecks []string
	var partition, sort, format string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "alter TABLE",
		Short: "Change the columns, layout, key and properties of a table",
		Long: `Alter changes the schema of a table without touching its files: columns keep their ids, so files written before are
read as they were meant. A renamed column still takes the values that files have under its old name. Parts of nested
columns are named by their path. What is said of the layout holds for files to come; those that there are stay as they are.`,
		Example: `  trevak alter orrin.stations --comment 'Water_Depth_m=at mean low water' -w trevak-demo/warehouse
  trevak alter orrin.tides --rename level_m=level --first level_m --dry-run -w trevak-demo/warehouse
  trevak alter orrin.tides --rename level_m=level --first level_m -w trevak-demo/warehouse
  trevak alter orrin.tides --check 'tell: level between -5 and 10' -w trevak-demo/warehouse
  trevak alter orrin.observations --partition 'day(observed_at)' --sort sea_area --dry-run -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			alteration := schema.Alteration{Optional: optional, Drop: drop, First: first}
			for _, part := range []struct {
				flag string
				list []string
				to   *[]schema.Setting
			}{{"--rename", renames, &alteration.Rename}, {"--widen", widen, &alteration.Widen},
				{"--comment", comments, &alteration.Comment}, {"--after", after, &alteration.After}} {
				list, err := settings(part.flag, part.list)
				if err != nil {
					return err
				}
				*part.to = list
			}
			whole := table.Alteration{Unset: unset}
			if len(checks)+len(unchecks) > 0 || !alteration.Empty() {
				rules, err := rulesOf(checks)
				if err != nil {
					return err
				}
				whole.Checks = checksAltered(rules, unchecks)
			}
			if !alteration.Empty() {
				whole.Columns = columnsAltered(alteration)
			}
			stated := cmd.Flags().Changed
			if stated("partition") {
				whole.Partition = or(partition)
			}
			if stated("sort") {
				whole.Sort = or(sort)
			}
			if stated("key") {
				whole.Key = &key
				if len(key) == 1 && key[0] == none {
					whole.Key = &[]string{}
				}
			}
			var err error
			if whole.Properties, err = propertiesOf(properties); err != nil {
				return err
			}
			if format != "" {
				f, err := table.ParseFormat(format)
				if err != nil {
					return err
				}
				whole.Format = &f
			}
			if whole.Empty() {
				return fault.New(fault.Usage, "nothing to alter").Try("state what is to change, for example --rename old=new; see " +
					"trevak alter --help")
			}
			return a.alterTable(cmd.Context(), args[0], whole, dryRun)
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
	flags.StringVar(&partition, "partition", "", "partition `fields` of files to come, like 'day(observed_at),sea_area', or none")
	flags.StringVar(&sort, "sort", "", "`order` of the rows within files to come, or none")
	flags.StringSliceVar(&key, "key", nil, "the `columns` that tell one row from all others, or none; that all rows have them is checked")
	flags.StringVar(&format, "format", "", "`format` of files to come: parquet, orc or avro")
	flags.StringArrayVar(&properties, "property", nil, "keep a property with the table (`KEY=VALUE`)")
	flags.StringArrayVar(&checks, "check", nil, "keep a `rule` with the table that rows of each load must keep, as for load")
	flags.StringArrayVar(&unchecks, "uncheck", nil, "give up a `rule` that is kept with the table, by its text")
	flags.StringArrayVar(&unset, "unset", nil, "remove a `property` of the table")
	return cmd
}

// none stands for nothing of the kind.
const none = "none"

// or is a text, or the empty one for none.
func or(text string) *string {
	if text == none {
		text = ""
	}
	return &text
}

// columnsAltered makes the changes of columns, for a table as it is.
func columnsAltered(alteration schema.Alteration) func(t *table.Table) (schema.Schema, []string, error) {
	return func(t *table.Table) (schema.Schema, []string, error) {
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
}

func (a *app) alterTable(ctx context.Context, arg string, alteration table.Alteration, dryRun bool) error {
	name, err := table.ParseName(arg)
	if err != nil {
		return err
	}
	w, err := a.openWarehouse()
	if err != nil {
		return err
	}
	changes, err := w.Alter(ctx, name, alteration, dryRun)
	if err != nil {
		return err
	}
	if !dryRun && len(changes) > 0 {
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
