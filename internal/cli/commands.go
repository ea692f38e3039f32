package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/flow"
	"trevak/internal/render"
	"trevak/internal/table"
)

func (a *app) preview() *cobra.Command {
	var reading readingFlags
	var n int
	cmd := &cobra.Command{
		Use:   "preview SOURCE…",
		Short: "Show how files or a table will be read, and the first records",
		Long: `Preview settles the reading rules (format, compression, encoding, delimiter, quote, header), says why, and shows the first
records as they stand. A source is a file, a folder or a pattern; a Parquet file or a table is shown too. In the table of
records · is null, "" an empty text, ⏎ a line break within a field.`,
		Example: `  trevak preview trevak-demo/stations/stations.csv
  trevak preview 'trevak-demo/observations/*.ndjson.gz' -n 3`,
		Args: sources(&reading),
		RunE: func(cmd *cobra.Command, args []string) error {
			if n < 0 {
				return fault.New(fault.Usage, "-n %d is below 0", n).Try("use 0 to see the reading rules alone")
			}
			p, err := a.previewOf(cmd, args, &reading, n)
			if err != nil {
				return err
			}
			if a.json() {
				return render.PreviewJSON(a.screen(), p)
			}
			render.Preview(a.screen(), p)
			return nil
		},
	}
	reading.add(cmd, false)
	cmd.Flags().IntVarP(&n, "rows", "n", 10, "how many `records` to show")
	return cmd
}

func (a *app) previewOf(cmd *cobra.Command, args []string, reading *readingFlags, n int) (*flow.Preview, error) {
	if len(args) == 1 && isTable(args[0]) {
		t, err := a.findTable(cmd.Context(), args[0])
		if err != nil {
			return nil, err
		}
		return flow.PreviewTable(cmd.Context(), t, n)
	}
	r, err := reading.reading(args)
	if err != nil {
		return nil, err
	}
	return flow.PreviewSource(cmd.Context(), r, n)
}

func (a *app) infer() *cobra.Command {
	var reading readingFlags
	cmd := &cobra.Command{
		Use:   "infer SOURCE…",
		Short: "Show the schema that would be inferred, and on what evidence",
		Long: `Infer reads every record and shows a line for each column: its legal name, the narrowest type that holds everything seen, how
many nulls and how many different values (~ before an estimate), the smallest and the largest value, the longest in
characters, and the first line that settled the type. Numbers with leading zeros or with more digits than their type keeps
stay text.`,
		Example: `  trevak infer trevak-demo/stations/stations.csv
  trevak infer trevak-demo/observations -o json`,
		Args: sources(&reading),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := reading.reading(args)
			if err != nil {
				return err
			}
			budget, done := a.budget()
			inferred, err := flow.Infer(cmd.Context(), r, budget)
			done()
			if err != nil {
				return err
			}
			if a.json() {
				return render.InferenceJSON(a.screen(), inferred)
			}
			render.Inference(a.screen(), inferred)
			return nil
		},
	}
	reading.add(cmd, true)
	return cmd
}

func (a *app) load() *cobra.Command {
	var reading readingFlags
	var lay layoutFlags
	var into string
	cmd := &cobra.Command{
		Use:   "load SOURCE… --into NAMESPACE.TABLE",
		Short: "Load files into a table, in one atomic commit",
		Long: `Load reads the source, writes its rows as Parquet files and makes them part of the table in one commit. The table and its
namespace are made on first use; later loads append, matching columns by name. Records that cannot become rows go to a quarantine
file; more of them than --max-bad allows stop the load, and the table stays as it was. Source files are never changed.`,
		Example: `  trevak load trevak-demo/stations/stations.csv --into orrin.stations
  trevak load trevak-demo/observations --into orrin.observations --partition 'day(observed_at),sea_area'`,
		Args: sources(&reading),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, err := table.ParseName(into)
			if into == "" {
				err = fault.New(fault.Usage, "--into is missing").Try("name the table, like --into ops.readings")
			}
			if err != nil {
				return err
			}
			l := flow.Loading{Into: name, Partition: lay.partition}
			if l.Reading, err = reading.reading(args); err != nil {
				return err
			}
			if l.Layout, err = lay.options(); err != nil {
				return err
			}
			if l.Warehouse, err = a.openWarehouse(); err != nil {
				return err
			}
			budget, done := a.budget()
			report, err := flow.Load(cmd.Context(), l, budget)
			done()
			return a.report(report, err)
		},
	}
	reading.add(cmd, true)
	reading.addTolerance(cmd)
	lay.add(cmd)
	cmd.Flags().StringVar(&into, "into", "", "the `table` to load into, as namespace.table")
	return cmd
}

func (a *app) convert() *cobra.Command {
	var reading readingFlags
	var lay layoutFlags
	var to string
	var overwrite bool
	cmd := &cobra.Command{
		Use:   "convert SOURCE… --to DEST",
		Short: "Write files as Parquet, without a table",
		Long: `Convert writes the rows of the source as one Parquet file, or as a folder of them with a folder for each partition. The
destination appears when all of it is written; what exists is replaced only with --overwrite.`,
		Example: `  trevak convert trevak-demo/tides/tides.tsv --to trevak-demo/tides.parquet --overwrite
  trevak convert trevak-demo/observations --to trevak-demo/by-area/ --partition sea_area --overwrite`,
		Args: sources(&reading),
		RunE: func(cmd *cobra.Command, args []string) error {
			c := flow.Conversion{To: to, Partition: lay.partition, Overwrite: overwrite}
			var err error
			if c.Reading, err = reading.reading(args); err != nil {
				return err
			}
			if c.Layout, err = lay.options(); err != nil {
				return err
			}
			budget, done := a.budget()
			report, err := flow.Convert(cmd.Context(), c, budget)
			done()
			return a.report(report, err)
		},
	}
	reading.add(cmd, true)
	reading.addTolerance(cmd)
	lay.add(cmd)
	cmd.Flags().StringVar(&to, "to", "", "a `file` ending in .parquet, or a folder")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "replace what is at the destination")
	return cmd
}

func (a *app) report(r *flow.Report, err error) error {
	if err != nil {
		return err
	}
	if a.json() {
		return render.ReportJSON(a.screen(), r)
	}
	render.Report(a.screen(), r)
	return nil
}

func (a *app) tables() *cobra.Command {
	return &cobra.Command{
		Use:   "tables",
		Short: "List the tables of the warehouse",
		Example: `  trevak tables --warehouse trevak-demo/warehouse
  trevak tables --warehouse trevak-demo/warehouse -o json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			list, err := flow.ListTables(cmd.Context(), w)
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
		Short: "Show the columns, layout, sizes and history of a table or a Parquet file",
		Long: `Describe shows a table's columns with their ids, types and sizes, its partitioning, files and snapshots; or how a Parquet file
is built. What exists as a file, or has a path separator, is a file; otherwise namespace.table is a table, and
table:namespace.table always is.`,
		Example: `  trevak describe orrin.observations --warehouse trevak-demo/warehouse
  trevak describe trevak-demo/tides.parquet`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !isTable(args[0]) {
				return a.describeFile(args[0])
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			info, err := flow.DescribeTable(cmd.Context(), t)
			if err != nil {
				return err
			}
			if a.json() {
				return render.JSON(a.out, info)
			}
			render.TableInfo(a.screen(), info)
			return nil
		},
	}
}

func (a *app) describeFile(location string) error {
	l, s, err := flow.DescribeFile(location)
	if err != nil {
		return err
	}
	if a.json() {
		return render.FileInfoJSON(a.screen(), l, s)
	}
	render.FileInfo(a.screen(), l, s)
	return nil
}

// release is the version of the program.
const release = "0.1.0"

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Show the version of the program",
		Example: `  trevak version
  trevak version -o json`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := struct {
				Version  string `json:"version"`
				Revision string `json:"revision,omitempty"`
				Go       string `json:"go"`
				Platform string `json:"platform"`
			}{release, revision(), runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH}
			if a.json() {
				return render.JSON(a.out, v)
			}
			a.screen().Printf("trevak %s (%s, %s)\n", v.Version, v.Go, v.Platform)
			return nil
		},
	}
}

// revision returns the commit that the program was built from, where the build noted it.
func revision() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			return s.Value
		}
	}
	return ""
}

// sources checks that at least one source is named, or listed in a file.
func sources(f *readingFlags) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if f.filesFrom != "" {
			return nil
		}
		return cobra.MinimumNArgs(1)(cmd, args)
	}
}
