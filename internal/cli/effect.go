package cli

import (
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/columnar"
	"trevak/internal/convert"
	"trevak/internal/fault"
)

// idle refuses flags that were stated and have no effect in a call; where says in which.
func idle(cmd *cobra.Command, where string, names ...string) error {
	var found []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if slices.Contains(names, f.Name) {
			found = append(found, "--"+f.Name)
		}
	})
	return withoutEffect(found, where)
}

// idleBut refuses all flags that were stated but some.
func idleBut(cmd *cobra.Command, where string, names ...string) error {
	var found []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if !slices.Contains(names, f.Name) && f.Name != "warehouse" && cmd.InheritedFlags().Lookup(f.Name) == nil {
			found = append(found, "--"+f.Name)
		}
	})
	return withoutEffect(found, where)
}

func withoutEffect(flags []string, where string) error {
	if len(flags) == 0 {
		return nil
	}
	have, them := "has", "it"
	if len(flags) > 1 {
		have, them = "have", "them"
	}
	return fault.New(fault.Usage, "%s %s no effect %s", strings.Join(flags, " and "), have, where).Try("leave %s out", them)
}

// Flags that speak of the layout of columnar files.
var layoutNames = []string{"partition", "sort", "file-size", "row-group", "codec", "page-version", "favor", "bloom"}

// recordNames are flags that speak of records that fail and of added columns, which come into being when rows are written.
var recordNames = []string{"lineage", "keep-raw", "partition-value", "path-columns", "tolerate", "tolerate-misfits"}

// inferEffect refuses the flags of an infer that would change nothing in what it shows.
func inferEffect(cmd *cobra.Command, emit, column string, json bool) error {
	err := idle(cmd, "on infer, which keeps no records", "quarantine")
	if emit != "feed" && err == nil {
		err = idle(cmd, "on infer but with --emit feed", append(append([]string{"drift"}, layoutNames...), recordNames...)...)
	}
	if emit == "" && err == nil {
		err = idle(cmd, "on infer but with --emit", "into")
	}
	if emit != "" && json && err == nil {
		err = fault.New(fault.Usage, "-o json has no effect with --emit %s, which has a form of its own",
			emit).Try("leave one of them out")
	}
	if emit != "" && column != "" && err == nil {
		err = fault.New(fault.Usage, "--column has no effect with --emit %s", emit).Try("leave one of them out")
	}
	return err
}

// formatEffect refuses the flags that say nothing to files of a format; single says that there is one file alone.
func formatEffect(cmd *cobra.Command, format columnar.Format, single bool) error {
	var err error
	if single {
		err = idle(cmd, "on a single file, which is never ended before its last row", "file-size")
	}
	name := strings.TrimPrefix(string(format), ".")
	if err == nil && format != columnar.Parquet && format != columnar.ORC && format != "" {
		err = idle(cmd, "on files of the format "+name+", which have no row groups", "row-group")
	}
	if err == nil && format.Text() {
		err = idle(cmd, "on text, which is packed where its ending says so, like .csv.gz", "codec", "favor")
	}
	return err
}

// convertFormat returns the format that a convert writes, as far as its flags tell, and whether it is a single file.
func convertFormat(to string, format columnar.Format) (columnar.Format, bool) {
	info, err := os.Stat(to)
	known, ok := columnar.FormatOf(to)
	if to == convert.StandardOutput {
		return format, true
	}
	if !ok || strings.HasSuffix(to, "/") || err == nil && info.IsDir() {
		return format, false
	}
	return known, true
}
