package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"trevak/internal/columnar"
	"trevak/internal/convert"
	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/load"
	"trevak/internal/render"
	"trevak/internal/run"
	"trevak/internal/setting"
	"trevak/internal/write"
)

// loadFlags are the flags of load.
type loadFlags struct {
	*flowFlags
	dryRun bool
	branch string
	page   pageFlag
}

// loadFlagNames are the settings of loads that stand with the command's own flags.
var loadFlagNames = []string{"into", "mode", "touching", "newest-by", "delete-where", "update-only", "upsert-as", "format", "drift",
	"split",
	"changed", "verify", "check"}

func (f *loadFlags) add(cmd *cobra.Command) {
	f.addTo(cmd)
	f.also(cmd, "again", "")
	f.page.add(cmd)
	cmd.Flags().StringVar(&f.branch, "branch", "", "load into a `branch` of the table, which begins with it; publish makes it the table")
	cmd.Flags().BoolVar(&f.dryRun, "dry-run", false, "tell column by column what the load would do, and write nothing")
}

// addTo adds the flags that say what is to be loaded, and how.
func (f *loadFlags) addTo(cmd *cobra.Command) {
	f.flowFlags = addFlow(cmd, setting.Reading, setting.Columns, setting.Records, setting.Form, setting.Layout)
	for _, name := range loadFlagNames {
		f.also(cmd, name, "")
	}
}

// loading makes of the flags what is to be loaded.
func (f *loadFlags) loading(a *app, cmd *cobra.Command, args []string) (l load.Request, err error) {
	defer func() { err = f.feed.blame(err) }()
	t, err := f.task(cmd, args)
	if err != nil {
		return l, err
	}
	w, err := a.openWarehouse()
	if err != nil {
		return l, err
	}
	if l, err = f.flow.LoadRequest(t, w, f.feed.path != ""); err != nil {
		return l, err
	}
	l.DryRun, l.Branch = f.dryRun, f.branch
	if f.dryRun {
		if err := idle(cmd, "on a dry run", "verify"); err != nil {
			return l, err
		}
	}
	return l, formatEffect(cmd, l.Format, false)
}

func (a *app) load() *cobra.Command {
	var flags loadFlags
	cmd := &cobra.Command{
		Use:   "load SOURCE… --into NAMESPACE.TABLE",
		Short: "Load files into a table, in one atomic commit",
		Long: `Load reads the source, writes its rows as Parquet files (or ORC or Avro, with --format) and makes them part of the
table in one commit. The table and its namespace are made on first use; later loads append, matching columns by name,
and what differs from the table is reported. Objects that were loaded before are passed over, so that the same command
twice adds nothing (--again loads them all the same; trevak ledger lists them). New columns are added and types widened,
unless --drift says otherwise; values that fit no column are misfits, kept in the column _misfit. --mode replace has the
load's rows take the place of the table's, and --mode upsert those whose --key the table has. Records that cannot become
rows go to a quarantine file; more of them than --tolerate allows stop the load, and the table stays as it was. Source
files are never changed.`,
		Example: `  trevak load trevak-demo/tides --into harbour.tides -w trevak-demo/warehouse
  trevak load trevak-demo/tides --into harbour.by_month --partition 'month(taken_at)' --sort station -w trevak-demo/warehouse
  trevak load trevak-demo/stations/stations.csv --into orrin.stations --dry-run -w trevak-demo/warehouse
  trevak load trevak-demo/observations --into orrin.measured --unnest readings --nested flatten -w trevak-demo/warehouse
  trevak load trevak-demo/observations --into orrin.visits --split readings=orrin.visit_readings -w trevak-demo/warehouse
  trevak load trevak-demo/stations/stations.csv --into harbour.by_code --mode upsert --key 'Station Code' -w trevak-demo/warehouse`,
		Args: func(cmd *cobra.Command, args []string) error { return sources(flags.flowFlags)(cmd, args) },
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := flags.loading(a, cmd, args)
			if err != nil {
				return err
			}
			if len(args) == 1 && isTable(args[0]) {
				if _, err := a.findTable(cmd.Context(), args[0]); err == nil {
					return fault.New(fault.Usage, "%s is a table, and a load reads objects", args[0]).
						Try("write its rows to a file first, and load that: trevak convert %s --to rows.parquet", args[0])
				}
			}
			a.untouched = "the table " + l.Into.String() + " is as it was"
			budget, done := a.budget()
			if flags.page.wanted() {
				report, err := a.loadWithPage(cmd.Context(), l, &flags.page, budget)
				done()
				return a.report(report, err)
			}
			report, err := load.Load(cmd.Context(), l, budget)
			done()
			return a.report(report, err)
		},
	}
	flags.add(cmd)
	first(cmd, "into", "mode", "dry-run", "partition", "sort", "type", "key", "drift", "tolerate", "feed", "warehouse")
	return cmd
}

// loadWithPage loads, and writes a page of what became of it, be it refused.
func (a *app) loadWithPage(ctx context.Context, l load.Request, page *pageFlag, b run.Budget) (*write.Report, error) {
	if err := page.check(ctx); err != nil {
		return nil, err
	}
	if err := l.Resolve(ctx); err != nil {
		return nil, err
	}
	l.Profile = true
	// What cannot be inferred is met again by the load, which tells of it.
	inferred, _ := infer.Infer(ctx, l.Reading, b)
	report, failed := load.Load(ctx, l, b)
	var refusal *write.Refusal
	var drift *write.DriftError
	if failed != nil && !errors.As(failed, &refusal) && !errors.As(failed, &drift) {
		return nil, failed
	}
	err := page.write(ctx, func(w io.Writer, info render.PageInfo) error {
		return render.LoadPage(w, l.Into.String(), report, failed, inferred, info)
	})
	if err != nil && failed == nil {
		// What was loaded is not undone by a page.
		b.Warned(err.Error())
		err = nil
	}
	return report, errors.Join(failed, err)
}

func (a *app) convert() *cobra.Command {
	var flags *flowFlags
	var to, format string
	var overwrite bool
	cmd := &cobra.Command{
		Use:   "convert SOURCE…|TABLE --to DEST",
		Short: "Write files as Parquet, ORC, Arrow, Avro or text, without a table",
		Long: `Convert writes the rows of the source, or of a table, as one file, whose ending says how (.parquet, .orc, .arrow,
.avro, .ndjson, .csv, .tsv, and text packed, like .csv.gz), or as a folder of them with a folder for each partition. --to - sends
them to standard output, as JSON lines or what --format says. The destination appears when all of it is written; what exists is
replaced only with --overwrite.`,
		Example: `  trevak convert trevak-demo/tides/tides.tsv --to trevak-demo/tides.parquet --overwrite
  trevak convert trevak-demo/observations --to - --format csv --unnest readings --nested flatten --lists json | head -n 3
  trevak convert trevak-demo/observations --to trevak-demo/by-area/ --partition sea_area --overwrite
  trevak convert trevak-demo/observations --to trevak-demo/measured.csv --unnest readings --nested flatten --lists json --overwrite`,
		Args: func(cmd *cobra.Command, args []string) error { return sources(flags)(cmd, args) },
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := flags.task(cmd, args)
			if err != nil {
				return err
			}
			if r.Favor, err = flags.flow.Favored(flags.feed.path != ""); err != nil {
				return err
			}
			c := convert.Request{Task: r, To: to, Out: a.rows(), Partition: flags.flow.Partition, Sort: flags.flow.Sort, Overwrite: overwrite,
				Hashes: a.json()}
			// Without a home folder there is none to be spared.
			c.Home, _ = os.UserHomeDir()
			if format != "" {
				var ok bool
				if c.Format, ok = columnar.FormatOf("." + format); !ok {
					return fault.Unknown("format", format, formatNames()...)
				}
			}
			written, single := convertFormat(to, c.Format)
			if err := a.readable(to, c.Format); err != nil {
				return err
			}
			if err := formatEffect(cmd, written, single); err != nil {
				return err
			}
			if c.Layout, err = flags.flow.LayoutOptions(); err != nil {
				return flags.feed.blame(err)
			}
			a.untouched = "what is at " + render.Harmless(to) + " is as it was"
			budget, done := a.budget()
			report, err := convert.Convert(cmd.Context(), c, budget)
			done()
			if to == convert.StandardOutput && errors.Is(err, syscall.EPIPE) {
				return errSeenEnough
			}
			if to == convert.StandardOutput {
				// Rows have standard output for themselves.
				a.out = a.err
			}
			return a.report(report, err)
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns, setting.Records, setting.Form, setting.Layout)
	flags.table = a.findTable
	cmd.Flags().StringVar(&to, "to", "", "a `file` ending in .parquet, .orc, .arrow, .avro, .ndjson, .csv or .tsv, text also packed, "+
		"like .csv.gz; a folder; or - for standard output")
	cmd.Flags().StringVar(&format, "format", "",
		"`format` of the files of a folder (default parquet), or of standard output (default ndjson)")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "replace what is at the destination")
	first(cmd, "to", "format", "overwrite", "partition", "sort", "codec", "where", "unnest", "nested", "feed")
	return cmd
}

// rows is where rows go that are sent to standard output.
func (a *app) rows() io.Writer {
	if o, ok := a.out.(*outlet); ok {
		return o.Writer
	}
	return a.out
}

// readable refuses to show what nobody can read on a terminal.
func (a *app) readable(to string, format columnar.Format) error {
	if _, ok := terminal(a.out); !ok || to != convert.StandardOutput || format == "" || slices.Contains(
		[]columnar.Format{columnar.JSONLines, columnar.CSV, columnar.TSV}, format) {
		return nil
	}
	return fault.New(fault.Usage, "what %s is cannot be read on a terminal", strings.TrimPrefix(string(format), ".")).
		Try("send it to another program or a file, or use --format csv")
}

// formatNames are the formats that are written, by the names that --format takes.
func formatNames() []string {
	names := columnar.Endings()
	for i := range names {
		names[i] = strings.TrimPrefix(names[i], ".")
	}
	return names
}

func (a *app) report(r *write.Report, err error) error {
	if err != nil {
		return err
	}
	a.done = whatWasDone(r)
	if a.json() {
		return render.ReportJSON(a.screen(), r)
	}
	s := a.reportScreen()
	if r.DryRun {
		// It is what was asked for.
		s = a.screen()
	}
	render.Report(s, r)
	return nil
}

// whatWasDone says in a few words what cannot be taken for undone because its report was lost.
func whatWasDone(r *write.Report) string {
	switch {
	case r.DryRun || r.NotMade || r.NothingNew:
		return ""
	case r.Table == "":
		return "written to " + render.Harmless(r.Destination)
	}
	text := fmt.Sprintf("loaded, snapshot %d of %s", r.SnapshotID, r.Table)
	for _, part := range r.Split {
		text += fmt.Sprintf(" and %d of %s", part.SnapshotID, part.Table)
	}
	return text
}
