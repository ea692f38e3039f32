package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/columnar"
	"trevak/internal/inspect"
	"trevak/internal/schema"
	"trevak/internal/setting"
	"trevak/internal/storage"
)

// completing bounds how long a shell waits for values.
const completing = 3 * time.Second

// Flags whose values are columns, alone or with something behind an equals sign.
var columnFlags = []string{"only", "drop", "required", "key", "bloom", "type", "rename", "column", "partition", "sort", "unnest",
	"try-sort", "try-partition", "widen", "comment", "after", "first", "optional", "nest-key", "where", "columns-shown"}

// withEquals are those of them that go on behind an equals sign.
var withEquals = []string{"type", "rename", "widen", "comment", "after"}

// addCompletion lets a shell complete the values of the flags of a command, and its tables.
func (a *app) addCompletion(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.VisitAll(func(f *pflag.Flag) {
		if complete := a.valuesOf(cmd, f); complete != nil {
			// The flag is there, and nothing completes it yet.
			_ = cmd.RegisterFlagCompletionFunc(f.Name, complete)
		}
	})
	if cmd.ValidArgsFunction == nil && flags.Lookup("warehouse") != nil && strings.Contains(cmd.Use, "TABLE") &&
		!strings.Contains(cmd.Use, "--into") {
		cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 && !strings.Contains(cmd.Use, "SOURCE") {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.tableNames(cmd.Context(), begun), cobra.ShellCompDirectiveDefault
		}
	}
	for _, c := range cmd.Commands() {
		a.addCompletion(c)
	}
}

// valuesOf returns what completes a flag's values; nil where files do, or nothing.
func (a *app) valuesOf(cmd *cobra.Command, f *pflag.Flag) cobra.CompletionFunc {
	none := func(values ...string) cobra.CompletionFunc {
		return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			return beginning(values, begun), cobra.ShellCompDirectiveNoFileComp
		}
	}
	if s, ok := setting.ByFlag(f.Name); ok && len(s.Words) > 0 && f.Name != "format" {
		return none(s.Words...)
	}
	switch f.Name {
	case "output":
		return none("table", "json")
	case "codec":
		return none(append(columnar.CodecNames(), "auto")...)
	case "emit":
		if cmd.Name() == "schema" {
			return none("ddl")
		}
		return none("feed", "ddl")
	case "format":
		if cmd.Name() == "load" {
			return none("parquet", "orc", "avro")
		}
		return none(formatNames()...)
	case "delimiter":
		return none("comma", "semicolon", "tab", "pipe", "blanks", "none")
	case "decimal-mark":
		return none("comma", "point")
	case "into":
		return func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			return a.tableNames(cmd.Context(), begun), cobra.ShellCompDirectiveNoFileComp
		}
	case "warehouse", "dir":
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		}
	}
	if slices.Contains(columnFlags, f.Name) {
		return a.columnsOf(f.Name)
	}
	return nil
}

// beginning are the texts that begin with another.
func beginning(texts []string, begun string) (out []string) {
	for _, text := range texts {
		if strings.HasPrefix(text, begun) {
			out = append(out, text)
		}
	}
	return out
}

// tableNames lists the tables of the warehouse whose names begin with a text.
func (a *app) tableNames(ctx context.Context, begun string) (names []string) {
	ctx, stop := context.WithTimeout(ctx, completing)
	defer stop()
	w, err := a.openWarehouse()
	if err != nil {
		return nil
	}
	all, err := w.Names(ctx)
	for _, name := range all {
		names = append(names, name.String())
	}
	if err != nil {
		return nil
	}
	return beginning(names, begun)
}

// columnsOf completes with the columns of the source or table that a command line names. Of several with commas between them the
// last is completed.
func (a *app) columnsOf(flag string) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		directive := cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
		equals := slices.Contains(withEquals, flag)
		if equals {
			directive |= cobra.ShellCompDirectiveNoSpace
		}
		before := begun[:strings.LastIndexAny(begun, ",( ")+1]
		var out []string
		for _, name := range a.columnNames(cmd.Context(), args) {
			if equals {
				name += "="
			}
			if strings.HasPrefix(before+name, begun) {
				out = append(out, before+name)
			}
		}
		return out, directive
	}
}

// columnNames are those of the first source or table among arguments, none where they cannot be told at once.
func (a *app) columnNames(ctx context.Context, args []string) []string {
	if len(args) == 0 || args[0] == "-" || storage.IsURL(args[0]) {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, completing)
	defer stop()
	if isTable(args[0]) {
		t, err := a.findTable(ctx, args[0])
		if err != nil {
			return nil
		}
		var names []string
		t.Schema.Walk(func(path string, _ *schema.Field) { names = append(names, path) })
		return names
	}
	t, err := setting.New().Task(setting.Env{Sources: args[:1], Store: stores})
	if err != nil {
		return nil
	}
	p, err := inspect.PreviewSource(ctx, t.Reading, 1)
	if err != nil {
		return nil
	}
	return p.Columns
}
