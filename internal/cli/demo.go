package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/columnar"
	"trevak/internal/demo"
	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/sandbox"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// demoMark is the file by which a folder is known to hold demo data and nothing else.
const demoMark = ".trevak-demo"

func (a *app) demo() *cobra.Command {
	var dir string
	var scale int
	var inSandbox bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Go through the whole day on shipped data",
		Long: `Demo writes the data of a made-up buoy network to a folder, runs the commands of a day's work on it, each shown before what it
prints, and ends with the counts that must agree. It exits with 1 if they do not. A folder from an earlier demo is written anew.
With --sandbox the data and the tables lie in an object store, which the demo serves from the folder meanwhile.`,
		Example: `  trevak demo
  trevak demo --dir buoys --scale 5
  trevak demo --dir buoys --sandbox`,
		Args: few(0, 0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.plain("demo, which shows what its commands print"); err != nil {
				return err
			}
			if scale < 1 || scale > 100000 {
				return fault.New(fault.Usage, "--scale %d is not between 1 and 100000", scale).Try("1 is the smallest")
			}
			if err := clearDemo(dir); err != nil {
				return err
			}
			d := day{app: a, ctx: cmd.Context(), dir: dir}
			data := dir
			if inSandbox {
				d.dir, data = "s3://orrin", filepath.Join(dir, "sandbox", "orrin")
			}
			d.warehouse = storage.Join(d.dir, "warehouse")
			var err error
			if d.counts, err = demo.Write(data, d.dir, scale); err != nil {
				return fault.Wrap(fault.Storage, err, "the demo data cannot be written to %s", data)
			}
			if inSandbox {
				endpoint, _, stop, err := serve(filepath.Dir(data), "127.0.0.1:0", sandbox.Trouble{})
				if err != nil {
					return err
				}
				defer stop()
				d.served = filepath.Dir(data)
				for _, setting := range sandboxed(endpoint) {
					name, value, _ := strings.Cut(setting, "=")
					if err := os.Setenv(name, value); err != nil {
						return fault.Wrap(fault.Storage, err, "the environment cannot be set")
					}
				}
			}
			return d.run()
		},
	}
	cmd.Flags().StringVar(&dir, "dir", "trevak-demo", "`folder` to write the data to")
	cmd.Flags().BoolVar(&inSandbox, "sandbox", false, "have the data and the tables lie in an object store, which is served meanwhile")
	cmd.Flags().IntVar(&scale, "scale", 1, "how many `times` as large as the smallest")
	return cmd
}

// clearDemo makes the folder, or empties one that an earlier demo made. Any other folder with something in it is refused.
func clearDemo(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.Storage, err, "the folder %s cannot be read", dir)
	}
	if _, err := os.Stat(filepath.Join(dir, demoMark)); err != nil && len(entries) > 0 {
		return fault.New(fault.Usage, "the folder %s holds files that are not from a demo", dir).Try("choose another with --dir")
	}
	for _, entry := range entries {
		if err := os.RemoveAll(filepath.Join(dir, entry.Name())); err != nil {
			return fault.Wrap(fault.Storage, err, "the folder %s cannot be emptied", dir)
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fault.Wrap(fault.Storage, err, "the folder %s cannot be made", dir)
	}
	return fault.Wrap(fault.Storage, os.WriteFile(filepath.Join(dir, demoMark), nil, 0o644), "the folder %s cannot be written", dir)
}

// day runs the commands of the demo.
type day struct {
	app            *app
	ctx            context.Context
	dir, warehouse string
	// served is the folder of the sandbox that all lies in, empty for none.
	served string
	counts demo.Counts
}

// step is one command of the day, with a sentence before it and the exit code it must give.
type step struct {
	say  string
	args []string
	code int
	// before is done before the command, nil for nothing.
	before func() error
}

func (d *day) run() error {
	in := func(parts ...string) string { return storage.Join(d.dir, parts...) }
	steps := []step{
		{"Look at what came: a file with units in its headers.", []string{"preview", in("stations", "stations.csv"), "-n", "4"}, 0, nil},
		{"See which schema that gives. The codes keep their leading zeros.", []string{"infer", in("stations", "stations.csv")}, 0, nil},
		{"Load it. The headers become legal names, and the report says which.",
			[]string{"load", in("stations", "stations.csv"), "--into", "orrin.stations"}, 0, nil},
		{"The same command again adds nothing: the table knows what it has taken in.",
			[]string{"load", in("stations", "stations.csv"), "--into", "orrin.stations"}, 0, nil},
		{"Nested records, packed: a list of readings within each, and new fields on the last day.",
			[]string{"preview", in("observations"), "-n", "3"}, 0, nil},
		{"The battery was a number until the new firmware: everything that is known of it, with the values that stand against the others.",
			[]string{"infer", in("observations"), "--column", "battery"}, 0, nil},
		{"Load the first three days by day and sea area, nested as they are.",
			[]string{"load", in("observations", "2031-05-{01..03}.ndjson.gz"), "--into", "orrin.observations", "--partition",
				"day(observed_at),sea_area"}, 0, nil},
		{"Give what is there a name, so that it can be gone back to.", []string{"tag", "orrin.observations", "three-days"}, 0, nil},
		{"On the fourth day fields are new, and the battery is sometimes a word. What would a load do?",
			[]string{"load", in("observations", "2031-05-04.ndjson.gz"), "--into", "orrin.observations", "--dry-run"}, 0, nil},
		{"The table grows, and the words are kept aside.",
			[]string{"load", in("observations", "2031-05-04.ndjson.gz"), "--into", "orrin.observations"}, 0, nil},
		{"How the schema came about.", []string{"schema", "orrin.observations", "--history"}, 0, nil},
		{"The southern stations come with decimal commas. Columns are found by name.",
			[]string{"load", in("stations-south"), "--into", "orrin.stations", "--decimal-mark", "comma"}, 0, nil},
		{"Their file is sent once more, with a depth mended. What it had is in the table already, so a load asks what is to become of it.",
			[]string{"load", in("stations-south"), "--into", "orrin.stations", "--decimal-mark", "comma"}, 3, d.mendSouth},
		{"It takes the place of exactly the rows that came of it.",
			[]string{"load", in("stations-south"), "--into", "orrin.stations", "--decimal-mark", "comma", "--changed", "replace"}, 0, nil},
		{"News of some stations: those that are known by their code are updated, and one is new.",
			[]string{"load", in("station-changes"), "--into", "orrin.stations", "--mode", "upsert", "--key", "Station Code"}, 0, nil},
		{"Tabs and spaces in names.", []string{"load", in("tides", "tides.tsv"), "--into", "orrin.tides", "--partition",
			"month(taken_at)"}, 0, nil},
		{"Give it a name.", []string{"tag", "orrin.tides", "once"}, 0, nil},
		{"The same file once more, on purpose: now each row is there twice.",
			[]string{"load", in("tides", "tides.tsv"), "--into", "orrin.tides", "--again"}, 0, nil},
		{"That was wrong. Every commit is in the history of the table, and it can be made again what it was.",
			[]string{"rollback", "orrin.tides", "--to", "once"}, 0, nil},
		{"Nothing is lost from the history.", []string{"history", "orrin.tides"}, 0, nil},
		{"Which codec pays, and what would an order or partitions bring?",
			[]string{"weigh", in("tides", "tides.tsv"), "--try-sort", "station", "--try-partition", "day(taken_at)"}, 0, nil},
		{"The same rows as one file, without a table.", []string{"convert", in("tides", "tides.tsv"), "--to", in("tides.parquet")}, 0, nil},
		{"A log without a header, with line breaks in its notes and a few broken records: it is refused, and nothing is changed.",
			[]string{"load", in("service_log"), "--into", "orrin.service_log", "--quarantine", in("refused.ndjson")}, 3, nil},
		{"Mended, it loads.", []string{"load", in("service_log_mended"), "--into", "orrin.service_log"}, 0, nil},
		{"Prove that the table holds what the files hold: both are read anew.",
			[]string{"reconcile", in("observations"), "--with", "orrin.observations"}, 0, nil},
		{"What was settled by hand runs by itself from here on: a run sheet has the feeds of the morning, in their order.",
			[]string{"run", in(demo.Sheet), "--check"}, 0, nil},
		{"It sends records of one source to two tables, and loads two feeds together or not at all.", []string{"run", in(demo.Sheet)}, 0, nil},
		{"Tomorrow’s run finds only what is new; the same again, nothing.", []string{"run", in(demo.Sheet)}, 0, nil},
	}
	if d.served == "" {
		// The history of runs lies in a file, or in a database, which stores have none of.
		steps = append(steps, step{"Each run is known.", []string{"runs"}, 0, nil})
	}
	steps = append(steps, step{"Check what arrived.", []string{"tables"}, 0, nil},
		step{"And how it lies.", []string{"describe", "orrin.observations"}, 0, nil})
	s := d.app.reportScreen()
	for i, step := range steps {
		if err := d.ctx.Err(); err != nil {
			return err
		}
		if i > 0 {
			s.Printf("\n")
		}
		args := step.args
		if slices.Contains([]string{"load", "tables", "describe", "schema", "tag", "rollback", "history", "reconcile", "run", "runs"}, args[0]) {
			args = append(args, "--warehouse", d.warehouse)
		}
		if step.before != nil {
			if err := step.before(); err != nil {
				return err
			}
		}
		s.Printf("%s\n%s\n\n", s.Faint("# "+step.say), s.Bold("$ trevak "+quoteArgs(args)))
		if code := carryOut(d.ctx, args, s.Writer, s.Writer); code != step.code {
			return fault.New(fault.Storage, "the command ended with exit code %d, not %d", code, step.code)
		}
	}
	return d.check(s)
}

// mendSouth mends a depth in the file of the southern stations, as if it had been sent once more.
func (d *day) mendSouth() error {
	place := storage.Join(d.dir, "stations-south", "stations_south.csv")
	text, err := storage.ReadAll(d.ctx, stores, place)
	if err == nil {
		mended := bytes.Replace(text, []byte(";78,7;"), []byte(";79,1;"), 1)
		err = storage.WriteAll(d.ctx, stores, place, mended, storage.Creation{Mode: storage.Replace})
	}
	return fault.Wrap(fault.Storage, err, "the file %s cannot be mended", place)
}

// quoteArgs writes arguments as a shell takes them.
func quoteArgs(args []string) string {
	out := make([]string, len(args))
	for i, arg := range args {
		out[i] = arg
		if strings.ContainsAny(arg, " {}()*?'\"$&;|<>") {
			out[i] = "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

// check holds the rows in the tables, counted in their files, against the records that were written to the raw files.
func (d *day) check(s render.Screen) error {
	w, err := table.OpenWarehouse(stores, d.warehouse)
	if err != nil {
		return err
	}
	s.Printf("\n%s\n\n", s.Faint("# Records made, and rows counted in the tables' files."))
	t := render.Table{Header: []string{"table", "records", "rows", ""}, Right: []bool{false, true, true}, Indent: 2}
	agree := true
	for _, part := range []struct {
		table string
		want  int
	}{{"orrin.stations", d.counts.Stations + d.counts.South + d.counts.NewStations}, {"orrin.observations", d.counts.Observations},
		{"orrin.tides", d.counts.Tides}, {"orrin.service_log", d.counts.ServiceLog}} {
		got, err := countRows(d.ctx, w, part.table)
		if err != nil {
			return err
		}
		verdict := "agree"
		if got != int64(part.want) {
			verdict, agree = "DIFFER", false
		}
		t.Rows = append(t.Rows, []string{part.table, render.Number(int64(part.want)), render.Number(got), verdict})
	}
	t.Write(s)
	if !agree {
		return fault.New(fault.Storage, "the counts do not agree")
	}
	if d.served != "" {
		s.Printf("\nEverything is in %s. Go on with: trevak sandbox --dir %s -- tables -w %s\n", d.served, d.served, d.warehouse)
		return nil
	}
	s.Printf("\nEverything is in %s. Go on with: trevak tables -w %s\n", d.dir, d.warehouse)
	return nil
}

// countRows adds up the rows that the footers of a table's files count.
func countRows(ctx context.Context, w *table.Warehouse, text string) (int64, error) {
	name, err := table.ParseName(text)
	if err != nil {
		return 0, err
	}
	t, err := w.Find(ctx, name)
	if err != nil {
		return 0, err
	}
	files, err := t.Files(ctx)
	if err != nil {
		return 0, err
	}
	var rows int64
	for _, f := range files {
		opened, err := columnar.Open(context.Background(), stores, f.URI)
		if err != nil {
			return 0, fmt.Errorf("counting the rows of %s: %w", text, err)
		}
		rows += opened.Rows()
		opened.Close()
	}
	return rows, nil
}
