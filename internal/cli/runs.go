package cli

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"trevak/internal/config"
	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/runlog"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// openHistory opens the run history of a warehouse: what trevak.yaml names, the database of the catalog, or a file in the warehouse's
// folder. It is nil where there is no place for it, and where there is none yet and none is to be made.
func (a *app) openHistory(ctx context.Context, w *table.Warehouse, make bool) (*runlog.Log, error) {
	uri, from, err := a.historyPlace(w)
	if err != nil || uri == "" {
		return nil, err
	}
	if path, lite := strings.CutPrefix(uri, "sqlite:"); lite && !make {
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
	}
	password, err := secretFrom(ctx, from, "the run history", config.File)
	if err != nil {
		return nil, err
	}
	return runlog.Open(ctx, uri, password)
}

// historyPlace is the database of the run history of a warehouse, and where its password is; empty where there is no place for one.
func (a *app) historyPlace(w *table.Warehouse) (uri, from string, err error) {
	c, err := configured()
	if err != nil {
		return "", "", err
	}
	if c.Runs.URI != "" {
		return c.Runs.URI, c.Runs.CredentialFrom, nil
	}
	if of, ok := c.Catalogs[a.catalog]; a.catalog != "" && ok && of.Kind == config.SQL {
		return of.URI, of.CredentialFrom, nil
	}
	if storage.Scheme(w.Dir()) == "" {
		return "sqlite:" + filepath.Join(filepath.FromSlash(w.Dir()), runlog.FileName), "", nil
	}
	return "", "", nil
}

// noPlace says that there is no place for a run history.
func noPlace(w *table.Warehouse) error {
	return fault.New(fault.Usage, "no run history is kept for tables in the store %s", storage.Shown(w.Dir())).
		Try("name a database for it in %s, below the key runs, as docs/running.md shows", config.File)
}

// runsShown is how many runs are listed where nobody says.
const runsShown = 20

func (a *app) runs() *cobra.Command {
	var f runlog.Filter
	var since, chart string
	cmd := &cobra.Command{
		Use:   "runs [NUMBER]",
		Short: "List the runs of sheets and watchers, or show one whole",
		Long: `Runs lists what run and watch did, the newest first: when, for how long, what became of it, and how much it loaded.
With the number of a run it shows each feed, what differed from the tables, and the log. --chart draws rows, bytes and
seconds of each run over time, so that a slow or thin day is seen; in the terminal with --chart -.`,
		Example: `  trevak runs -w trevak-demo/warehouse
  trevak runs --feed observations --failed --since 2026-01-01 -o json -w trevak-demo/warehouse
  trevak runs 1 -w trevak-demo/warehouse
  trevak runs --chart trevak-demo/runs.png -w trevak-demo/warehouse`,
		Args: few(0, 1, "the number of a run"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			if f.Since, err = sinceOf(since, time.Now()); err != nil {
				return err
			}
			if f.Most < 1 {
				return fault.New(fault.Usage, "-n %d is below 1", f.Most).Try("leave it out for the newest %d", runsShown)
			}
			if uri, _, err := a.historyPlace(w); err != nil || uri == "" {
				return cmp.Or(err, noPlace(w))
			}
			log, err := a.openHistory(ctx, w, false)
			if err != nil {
				return err
			}
			if log != nil {
				defer log.Close()
			}
			if len(args) == 1 {
				if err := idle(cmd, "for one run", "feed", "failed", "since", "rows", "chart"); err != nil {
					return err
				}
				return a.oneRun(ctx, log, args[0])
			}
			var list []runlog.Entry
			if log != nil {
				if list, err = log.List(ctx, f); err != nil {
					return err
				}
			}
			switch {
			case chart == "-":
				render.RunsChartText(a.screen(), list)
				return nil
			case chart != "":
				if err := render.RunsChart(chart, list); err != nil {
					return err
				}
			}
			if a.json() {
				return render.RunsJSON(a.screen(), list)
			}
			render.Runs(a.screen(), list, f.Feed)
			return nil
		},
	}
	cmd.Flags().StringVar(&f.Feed, "feed", "", "list what became of this `feed` alone")
	cmd.Flags().BoolVar(&f.Failed, "failed", false, "list runs that did not end well, or have not ended")
	cmd.Flags().StringVar(&since, "since", "", "list runs from a `time` on: 2031-05-03, 2031-05-03T06:00:00Z, or 36h for so long ago")
	cmd.Flags().IntVarP(&f.Most, "rows", "n", runsShown, "list so many `runs`")
	cmd.Flags().StringVar(&chart, "chart", "", "draw rows, bytes and seconds into a `file` ending in .png or .svg, or - for the terminal")
	return a.addWarehouse(cmd)
}

// sinceOf reads a time, or a length of time before now.
func sinceOf(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(-d), nil
	}
	for _, form := range []string{time.DateOnly, time.RFC3339} {
		if at, err := time.Parse(form, text); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fault.New(fault.Usage, "--since %q is no time", text).Try("write it like 2031-05-03, 2031-05-03T06:00:00Z or 36h")
}

// oneRun shows a run whole.
func (a *app) oneRun(ctx context.Context, log *runlog.Log, text string) error {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return fault.New(fault.Usage, "%s is no number of a run", fault.Quote(text)).Try("trevak runs lists them")
	}
	if log == nil {
		return fault.New(fault.Usage, "there is no run %d", id).Try("no run is known here; name the warehouse with --warehouse")
	}
	e, err := log.Get(ctx, id)
	if err != nil {
		return err
	}
	if a.json() {
		return render.OneRunJSON(a.screen(), e)
	}
	render.OneRun(a.screen(), e)
	return nil
}
