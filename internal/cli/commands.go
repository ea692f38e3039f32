package cli

import (
	"io"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/inspect"
	"trevak/internal/mask"
	"trevak/internal/profile"
	"trevak/internal/render"
	"trevak/internal/schema"
	"trevak/internal/setting"
	"trevak/internal/storage"
)

func (a *app) preview() *cobra.Command {
	var flags *flowFlags
	var n int
	var shown []string
	cmd := &cobra.Command{
		Use:   "preview SOURCE…",
		Short: "Show how files or a table will be read, and the first records",
		Long: `Preview settles the reading rules (format, compression, encoding, delimiter, quote, header), says why, and shows the first
records as they stand. A source is a file, a folder or a pattern; columnar files and tables are shown too. In the table of
records · is null, "" an empty text, ⏎ a line break within a field. With flags that say something of columns or of the form of rows, the
rows are shown as they would be written.`,
		Example: `  trevak preview trevak-demo/stations/stations.csv
  trevak preview 'trevak-demo/observations/*.ndjson.gz' -n 3`,
		Args: func(cmd *cobra.Command, args []string) error { return sources(flags)(cmd, args) },
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.picks(shown); err != nil {
				return err
			}
			if n < 0 {
				return fault.New(fault.Usage, "-n %d is below 0", n).Try("use 0 to see the reading rules alone")
			}
			p, err := a.previewOf(cmd, args, flags, n)
			if err != nil {
				return err
			}
			if a.json() {
				return render.PreviewJSON(a.screen(), p)
			}
			if err := p.Pick(shown); err != nil {
				return err
			}
			render.Preview(a.sideways(a.screen()), p)
			return nil
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns, setting.Form)
	flags.asWritten = true
	cmd.Flags().IntVarP(&n, "rows", "n", 10, "how many `records` to show")
	columnsShown(cmd, &shown)
	first(cmd, "rows", "columns-shown", "delimiter", "no-header", "encoding", "records", "skip-rows", "where", "unnest", "feed")
	return cmd
}

func (a *app) previewOf(cmd *cobra.Command, args []string, flags *flowFlags, n int) (*inspect.Preview, error) {
	if len(args) == 1 && isTable(args[0]) {
		if err := idleBut(cmd, "on a table", "rows", "columns-shown", "at", "mask"); err != nil {
			return nil, err
		}
		t, err := a.findTable(cmd.Context(), args[0])
		if err != nil {
			return nil, err
		}
		return inspect.PreviewTable(cmd.Context(), t, n, mask.Of(flags.flow.Mask))
	}
	if err := idle(cmd, "on files", "warehouse", "at"); err != nil {
		return nil, err
	}
	r, err := flags.task(cmd, args)
	if err != nil {
		return nil, err
	}
	return inspect.PreviewSource(cmd.Context(), r.Reading, n)
}

func (a *app) infer() *cobra.Command {
	var flags *flowFlags
	var column, emit, expect string
	var shown []string
	var page pageFlag
	cmd := &cobra.Command{
		Use:   "infer SOURCE…|TABLE",
		Short: "Show the schema that would be inferred, and on what evidence",
		Long: `Infer reads every record and shows a line for each column: its legal name, the narrowest type that holds everything seen, how
many nulls and how many different values (~ before an estimate), the smallest and the largest value, the longest in
characters, and the first line that settled the type. Below stand columns worth a look, and what could serve as key or partition
field, with sizes measured on a sample. --column shows all that is known of one column. --emit feed writes a feed file, which holds
everything that was settled, --emit ddl a CREATE TABLE statement in standard SQL. --expect tells what a load into a table, or by a
feed file, would find different, and ends with exit code 3 where anything is.`,
		Example: `  trevak infer trevak-demo/stations/stations.csv
  trevak infer trevak-demo/observations --column battery
  trevak infer trevak-demo/stations/stations.csv --into orrin.stations --emit feed > trevak-demo/stations.feed.yaml
  trevak infer trevak-demo/stations/stations.csv --expect trevak-demo/stations.feed.yaml`,
		Args: func(cmd *cobra.Command, args []string) error { return sources(flags)(cmd, args) },
		RunE: func(cmd *cobra.Command, args []string) error {
			if emit != "" && emit != "feed" && emit != "ddl" {
				return fault.Unknown("emit", emit, "feed", "ddl")
			}
			if err := inferEffect(cmd, emit, column, a.json()); err != nil {
				return err
			}
			if err := a.picks(shown); err != nil {
				return err
			}
			if expect != "" {
				return a.expected(cmd, flags, args, expect)
			}
			if err := page.check(cmd.Context()); err != nil {
				return err
			}
			r, err := flags.task(cmd, args)
			if err != nil {
				return err
			}
			budget, done := a.budget()
			inferred, err := infer.Infer(cmd.Context(), r.Reading, budget)
			var columns []profile.Column
			if err == nil && page.wanted() {
				columns, err = inferred.Distribution(cmd.Context(), budget)
			}
			done()
			if err == nil {
				err = page.write(cmd.Context(), func(w io.Writer, info render.PageInfo) error {
					return render.InferencePage(w, inferred, columns, info)
				})
			}
			if err != nil {
				return err
			}
			return a.inferred(flags.flow, r.Reading, inferred, column, emit, shown)
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns, setting.Records, setting.Form, setting.Layout)
	flags.table = a.findTable
	flags.also(cmd, "into", "the `table` to name in a feed file or statement")
	flags.also(cmd, "drift", "the `policy` to name in a feed file: grow, hold or stop")
	cmd.Flags().StringVar(&column, "column", "", "show everything that is known of one `column`")
	cmd.Flags().StringVar(&emit, "emit", "", "write `what`: a feed file (feed) or a CREATE TABLE statement (ddl)")
	cmd.Flags().StringVar(&expect, "expect", "", "tell what a load into a `table`, or by a feed file, would find different")
	page.add(cmd)
	columnsShown(cmd, &shown)
	first(cmd, "column", "emit", "expect", "report", "type", "rename", "key", "no-header", "unnest", "feed")
	return cmd
}

// inferred writes what was inferred in the form that was asked for.
func (a *app) inferred(flow *setting.Flow, r infer.Reading, i *infer.Inference, column, emit string, shown []string) error {
	switch {
	case emit == "feed":
		shown := make([]string, len(r.Sources))
		for at, source := range r.Sources {
			// A feed file is kept, and what gives access is not.
			shown[at] = storage.Shown(source)
		}
		text, err := emitFeed(flow, shown, i)
		if err != nil {
			return err
		}
		_, err = a.out.Write(text)
		return err
	case emit == "ddl":
		into := flow.Into
		if into == "" {
			into = "new_table"
		}
		a.screen().Printf("%s", schema.DDL(into, i.Schema))
		return nil
	case a.json():
		return render.InferenceJSON(a.screen(), i, column)
	case column != "":
		return render.ColumnEvidence(a.screen(), i, column)
	}
	return render.Inference(a.sideways(a.screen()), i, shown)
}

// columnsShown registers which columns are shown.
func columnsShown(cmd *cobra.Command, to *[]string) {
	cmd.Flags().StringSliceVar(to, "columns-shown", nil, "show these `columns` alone: names, numbers from 1, or ranges like 4-9")
}

// picks checks that columns are picked where that has an effect.
func (a *app) picks(shown []string) error {
	if len(shown) > 0 && a.json() {
		return fault.New(fault.Usage, "--columns-shown has no effect with -o json, which has all columns").Try("leave one of them out")
	}
	return nil
}
