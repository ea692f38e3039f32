package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"trevak/internal/chronicle"
	"trevak/internal/conduct"
	"trevak/internal/fault"
	"trevak/internal/gauge"
	"trevak/internal/notice"
	"trevak/internal/render"
	"trevak/internal/run"
	"trevak/internal/runlog"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// sheetFlags are the flags of commands that carry out run sheets.
type sheetFlags struct {
	set []string
	log string
}

func (f *sheetFlags) add(cmd *cobra.Command, log string) {
	cmd.Flags().StringArrayVar(&f.set, "set", nil, "give a parameter a value, `NAME=VALUE`; may be repeated")
	cmd.Flags().StringVar(&f.log, "log", log, "write a log to standard error, in a `form`: text, json or off")
}

// given is what a run gives a sheet.
func (f *sheetFlags) given(now time.Time) (runsheet.Given, error) {
	in := runsheet.Given{Stated: map[string]string{}, Env: os.Getenv, Now: now}
	for _, text := range f.set {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return in, fault.New(fault.Usage, "--set %q does not name a parameter and its value", text).Try("write it like --set day=2031-05-03")
		}
		if _, twice := in.Stated[name]; twice {
			return in, fault.New(fault.Usage, "--set gives %s two values", name).Try("keep one of them")
		}
		in.Stated[name] = value
	}
	return in, nil
}

// logger is where lines of the log go, nil for nowhere.
func (f *sheetFlags) logger(w io.Writer) (*slog.Logger, error) {
	options := &slog.HandlerOptions{Level: slog.LevelInfo}
	switch f.log {
	case "off":
		return nil, nil
	case "text":
		return slog.New(slog.NewTextHandler(w, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, options)), nil
	}
	return nil, fault.Unknown("log", f.log, "text", "json", "off")
}

// attended is what runs are attended by: the history, those who are told, and what is measured.
type attended struct {
	*chronicle.Chronicle
	telemetry *gauge.Telemetry
}

// attend prepares what is to take notice of the runs of a sheet.
func (a *app) attend(ctx context.Context, s *runsheet.Sheet, by string, w *table.Warehouse, log *slog.Logger) (*attended, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	known := *s
	if known.Path, err = stores.Canonical(s.Path); err != nil {
		return nil, err
	}
	out := &attended{Chronicle: &chronicle.Chronicle{Sheet: &known, By: by, Process: fmt.Sprintf("%s:%d", host, os.Getpid()), Log: log}}
	out.telemetry, err = gauge.OpenTelemetry(ctx, os.Getenv, func(err error) {
		out.Note(slog.LevelWarn, "", "telemetry could not be sent",
			"error", err.Error())
	})
	if err != nil {
		return nil, fault.New(fault.Usage, "%s", err).Try("mend the variable, or take it out of the environment")
	}
	out.Gauges = gauge.New(out.telemetry)
	if out.History, err = a.openHistory(ctx, w, true); err != nil {
		return nil, err
	}
	if out.History == nil {
		out.Note(slog.LevelWarn, "", noPlace(w).Error())
	}
	var to []notice.Receiver
	for _, t := range s.Tell {
		r := notice.Receiver{URL: t.URL, Of: t.Of}
		if len(r.Of) == 0 {
			r.Of = needAPerson
		}
		if r.Secret, err = secretFrom(ctx, t.SecretFrom, "the receiver "+storage.Shown(t.URL), s.Path); err != nil {
			return nil, err
		}
		to = append(to, r)
	}
	if len(to) > 0 {
		out.Teller = notice.NewTeller(context.WithoutCancel(ctx), "trevak/"+host, to, func(e notice.Event, to string, err error) {
			out.Note(slog.LevelWarn, "", "somebody could not be told", "of", e.Type, "at", storage.Shown(to), "error", err.Error())
		})
	}
	return out, nil
}

// needAPerson are the kinds of events that somebody is told of who does not say which.
var needAPerson = runsheet.EventKinds[1:]

// tellTime is how long a program that ends waits for those who are told.
const tellTime = 3 * time.Second

// close has what waits told, and ends what is open.
func (at *attended) close() {
	ctx, stop := context.WithTimeout(context.Background(), tellTime)
	defer stop()
	var closing sync.WaitGroup
	if at.Teller != nil {
		closing.Go(func() { at.Teller.Close(ctx) })
	}
	// Neither takes the time of the other.
	closing.Go(func() { at.telemetry.Close(ctx) })
	closing.Wait()
	if at.History != nil {
		at.History.Close()
	}
}

func (a *app) runCommand() *cobra.Command {
	var flags sheetFlags
	var only []string
	var from string
	var dryRun, goOn, check, allow bool
	cmd := &cobra.Command{
		Use:   "run SHEET",
		Short: "Carry out a run sheet: many feeds, in their order",
		Long: `Run carries out the feeds of a run sheet: a YAML file that names feeds by their files or holds them in place, with
parameters, order, conditions, groups that are loaded all or none, and routes to several tables. A feed that fails holds back those that
come after it, and the others go on; the same run again, or --continue, finishes it, since each object is loaded once. What became of
each run is kept beside the tables: trevak runs lists it. -o json writes events, a line each. docs/running.md describes the keys.`,
		Example: `  trevak run trevak-demo/day.sheet.yaml --check -w trevak-demo/warehouse
  trevak run trevak-demo/day.sheet.yaml --dry-run -w trevak-demo/warehouse
  trevak run trevak-demo/day.sheet.yaml --set area='Lantern Bank' -w trevak-demo/warehouse
  trevak run trevak-demo/day.sheet.yaml --only stations -w trevak-demo/warehouse
  trevak run trevak-demo/day.sheet.yaml --from observations --allow-unlike --log text -w trevak-demo/warehouse`,
		Args: few(1, 1, "a run sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r := sheetRun{a: a, flags: &flags, path: args[0], options: conduct.Options{Only: only, From: from, DryRun: dryRun}, allow: allow,
				goOn: goOn}
			if check {
				if err := idle(cmd, "with --check", "only", "from", "dry-run", "continue", "allow-unlike", "log"); err != nil {
					return err
				}
				return r.check(cmd.Context())
			}
			if dryRun {
				if err := idle(cmd, "on a dry run", "continue", "allow-unlike"); err != nil {
					return err
				}
			}
			return r.run(cmd.Context())
		},
	}
	flags.add(cmd, "off")
	cmd.Flags().StringSliceVar(&only, "only", nil, "carry out these `feeds` alone")
	cmd.Flags().StringVar(&from, "from", "", "begin at this `feed`, as if those before it were done")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "tell what each feed would load, and write nothing")
	cmd.Flags().BoolVar(&goOn, "continue", false, "go on where the last run of the sheet failed or was killed, with its parameters")
	cmd.Flags().BoolVar(&check, "check", false, "check keys, columns, expressions, tables and sources, and load nothing")
	cmd.Flags().BoolVar(&allow, "allow-unlike", false, "load what is unlike the runs before, though the sheet would stop it")
	first(cmd, "set", "check", "dry-run", "only", "from", "continue", "warehouse")
	return cmd
}

// sheetRun is one run of a sheet.
type sheetRun struct {
	a       *app
	flags   *sheetFlags
	path    string
	options conduct.Options
	// allow has loads made that are unlike those before, goOn what is left of the last run.
	allow, goOn bool
}

// read reads the sheet and finds the warehouse.
func (r *sheetRun) read(ctx context.Context) (*runsheet.Sheet, error) {
	in, err := r.flags.given(time.Now())
	if err != nil {
		return nil, err
	}
	r.options.Store = stores
	if r.options.Warehouse, err = r.a.openWarehouse(); err != nil {
		return nil, err
	}
	if r.goOn {
		if err := r.resume(ctx, &in); err != nil {
			return nil, err
		}
	}
	s, err := runsheet.Read(ctx, stores, r.path, in)
	if err != nil {
		return nil, err
	}
	for _, name := range append(slices.Clone(r.options.Only), r.options.From) {
		if name == "" {
			continue
		}
		if _, err := s.FeedNamed(name); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// check checks the sheet.
func (r *sheetRun) check(ctx context.Context) error {
	s, err := r.read(ctx)
	if err != nil {
		return err
	}
	b, done := r.a.budget()
	b.Warn = nil
	list, err := conduct.Check(ctx, s, r.options, b)
	done()
	if err != nil {
		return err
	}
	c := render.CheckedSheet{Path: r.path, Parameters: s.Parameters, Values: s.Values}
	var wrong error
	for _, f := range list {
		c.Feeds = append(c.Feeds, render.CheckedFeed{Name: f.Feed, Tables: f.Tables, Objects: f.Objects, Err: withSteps(f.Err), Why: f.Why})
		if f.Err != nil && wrong == nil {
			wrong = f.Err
		}
	}
	if r.a.json() {
		err = render.CheckedSheetJSON(r.a.screen(), c)
	} else {
		render.CheckedSheetText(r.a.screen(), c)
	}
	if err == nil && wrong != nil {
		err = told{wrong}
	}
	return err
}

// told is an error that was told of already, whose exit code is that of the command.
type told struct{ error }

func (t told) Unwrap() error { return t.error }

// run carries the sheet out.
func (r *sheetRun) run(ctx context.Context) error {
	s, err := r.read(ctx)
	if err != nil {
		return err
	}
	log, err := r.flags.logger(r.a.err)
	if err != nil {
		return err
	}
	if r.options.DryRun {
		return r.dry(ctx, s)
	}
	at, err := r.a.attend(ctx, s, "trevak run", r.options.Warehouse, log)
	if err != nil {
		return err
	}
	defer at.close()
	release, err := r.a.lockSheet(ctx, at)
	if err != nil {
		return err
	}
	defer release()
	at.Allow = r.allow
	r.a.untouched = "no table was changed by what had not ended"
	began := time.Now()
	result, failed := r.carryOut(at.Begin(ctx, began), s, at, began)
	if err := at.End(result, failed); err != nil {
		r.a.warn("the run history could not be written: " + err.Error())
	}
	return r.report(s, at, result, failed)
}

func (a *app) warn(text string) { fmt.Fprintln(a.err, "trevak: "+render.Harmless(text)) }

// carryOut has the feeds carried out, and events written down.
func (r *sheetRun) carryOut(ctx context.Context, s *runsheet.Sheet, at *attended, began time.Time) (*conduct.Result, error) {
	r.options.Judge = at.Judge
	if r.a.json() {
		if err := render.RunBoundJSON(r.a.out, "run_began", render.SheetRun{Sheet: s.Path, ID: at.ID()}, "", began, nil); err != nil {
			return nil, err
		}
	}
	b, done := r.a.budget()
	draw := b.Events
	stages := map[string]run.Stage{}
	r.options.Events = func(e conduct.Event) {
		at.Event(e)
		if e.Kind == conduct.FeedGoes {
			if draw != nil {
				draw(e.Progress)
			}
			if stages[e.Feed] == e.Progress.Stage {
				return
			}
			stages[e.Feed] = e.Progress.Stage
		}
		if r.a.json() {
			// What cannot be written is told of at the end.
			_ = render.RunEventJSON(r.a.out, at.ID(), e)
		} else if e.Kind == conduct.FeedWarned && at.Log == nil {
			r.a.warn(e.Feed + ": " + e.Text)
		}
	}
	result, err := conduct.Conduct(ctx, s, r.options, b)
	done()
	return result, err
}

// report tells what became of the run.
func (r *sheetRun) report(s *runsheet.Sheet, at *attended, result *conduct.Result, failed error) error {
	shown := render.SheetRun{Sheet: r.path, ID: at.ID(), DryRun: r.options.DryRun, Result: result}
	if result != nil {
		for i := range result.Feeds {
			if result.Feeds[i].Err != nil {
				result.Feeds[i].Err = withSteps(result.Feeds[i].Err)
			}
			if result.Feeds[i].Outcome == conduct.Done {
				r.a.done = "carried out in part, as the tables tell"
			}
		}
	}
	if r.a.json() {
		if err := render.RunBoundJSON(r.a.out, "run_ended", shown, chronicle.Outcome(result, failed), time.Now(), failed); err != nil {
			return err
		}
	} else if result != nil {
		render.SheetRunText(r.a.reportScreen(), shown)
	}
	switch {
	case failed != nil:
		return failed
	case result.Worst() != nil && (r.a.quiet && !r.a.json()):
		return result.Worst()
	case result.Worst() != nil:
		return told{result.Worst()}
	}
	return nil
}

// dry tells what a run would do.
func (r *sheetRun) dry(ctx context.Context, s *runsheet.Sheet) error {
	began := time.Now()
	at := &attended{Chronicle: &chronicle.Chronicle{Sheet: s}}
	result, err := r.carryOut(at.Begin(ctx, began), s, at, began)
	return r.report(s, at, result, err)
}

// resume takes up the last run of the sheet: its parameters, and what it did.
func (r *sheetRun) resume(ctx context.Context, in *runsheet.Given) error {
	if uri, _, err := r.a.historyPlace(r.options.Warehouse); err != nil || uri == "" {
		return cmp.Or(err, noPlace(r.options.Warehouse))
	}
	history, err := r.a.openHistory(ctx, r.options.Warehouse, false)
	if err != nil {
		return err
	}
	nothing := fault.New(fault.Usage, "no run of the sheet %s is known, so there is nothing to continue",
		r.path).Try("run it without --continue")
	if history == nil {
		return nothing
	}
	defer history.Close()
	path, err := stores.Canonical(r.path)
	if err != nil {
		return err
	}
	last, err := history.Last(ctx, path)
	switch {
	case err != nil:
		return err
	case last == nil:
		return nothing
	case last.Ended != nil && (last.Outcome == string(conduct.Done) || last.Outcome == string(conduct.Known)):
		return fault.New(fault.Usage, "the last run of %s, run %d, ended well, so there is nothing to continue", r.path, last.ID).
			Try("run it without --continue")
	}
	r.options.Before, in.Before, in.Now = map[string]bool{}, map[string]string{}, last.Began
	for _, l := range last.Loads {
		went := conduct.Outcome(l.Outcome).Went()
		if was, ok := r.options.Before[l.Feed]; ok {
			went = went && was
		}
		r.options.Before[l.Feed] = went
	}
	for _, p := range last.Parameters {
		in.Before[p.Name] = p.Value
	}
	return nil
}

// lockSheet has nobody else carry the sheet out meanwhile.
func (a *app) lockSheet(ctx context.Context, at *attended) (func(), error) {
	if at.History == nil {
		return func() {}, nil
	}
	path := at.Sheet.Path
	release, err := at.History.Lock(ctx, path)
	if err == nil {
		holder := fmt.Sprintf("%s, process %s, since %s", at.By, at.Process, time.Now().UTC().Format(time.RFC3339))
		if err = at.History.SetPlace(ctx, path, "", lockHolder, holder); err != nil {
			release()
		}
		return release, err
	}
	if !errors.Is(err, runlog.ErrHeld) {
		return nil, err
	}
	e := fault.New(fault.Conflict, "somebody else carries the sheet %s out at this time", storage.Shown(path))
	if holder, err := at.History.Place(ctx, path, "", lockHolder); err == nil && holder != "" {
		e.Reason += ": " + holder
	}
	return nil, e.Try("wait until it has ended, or end it")
}

// lockHolder is what the run history calls who carries a sheet out.
const lockHolder = "lock_holder"
