package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"trevak/internal/arrival"
	"trevak/internal/chronicle"
	"trevak/internal/conduct"
	"trevak/internal/fault"
	"trevak/internal/feed"
	"trevak/internal/health"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/notice"
	"trevak/internal/run"
	"trevak/internal/runlog"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// watchFlags are the flags of watch.
type watchFlags struct {
	loadFlags
	sheet   sheetFlags
	arrival runsheet.Arrival
	gather  string
	once    bool
	events  bool

	listen, secretFrom, nats, subject, credentials string
}

func (f *watchFlags) add(cmd *cobra.Command) {
	f.loadFlags.addTo(cmd)
	f.sheet.add(cmd, "text")
	usual := runsheet.UsualArrival()
	flags := cmd.Flags()
	flags.StringVar(&f.arrival.Order, "order", usual.Order, "load objects in the `order` of: name, or time of their last change")
	flags.DurationVar(&f.arrival.Settle, "settle", usual.Settle,
		"take a file for whole when it has not changed for a `duration`, and nobody writes to it")
	flags.StringVar(&f.arrival.Marker, "marker", "",
		"take a file for whole when there is a marker `file` beside it, like '{name}.done' or _READY")
	flags.DurationVar(&f.arrival.Every, "every", usual.Every, "list the sources every `duration`")
	flags.DurationVar(&f.arrival.Gather, "gather", usual.Gather, "gather what arrives for a `duration` into one commit")
	flags.StringVar(&f.gather, "gather-size", "1GiB", "gather no more than this `size` into one commit")
	flags.IntVar(&f.arrival.Tries, "tries", usual.Tries, "set an object aside after so many `tries`")
	flags.DurationVar(&f.arrival.Again, "retry-after", usual.Again, "try an object that failed again after a `duration`")
	flags.BoolVar(&f.events, "events", true, "have the file system tell of what arrives on disks, besides listings")
	flags.BoolVar(&f.once, "once", false, "load what is there, and end: for schedulers")
	flags.StringVar(&f.listen, "listen", "", "answer /healthz, /readyz, /metrics and /events at an `address` like 127.0.0.1:0")
	flags.StringVar(&f.secretFrom, "secret-from", "", "where the secret for /events is: `env:NAME`, or a file")
	flags.StringVar(&f.nats, "nats", "", "hear of objects from a NATS server, by its `URL`")
	flags.StringVar(&f.subject, "subject", "", "the NATS `subject` that tells of objects")
	flags.StringVar(&f.credentials, "nats-credentials", "", "a `file` of credentials for the NATS server")
}

func (a *app) watch() *cobra.Command {
	var flags watchFlags
	cmd := &cobra.Command{
		Use:   "watch SHEET|SOURCE… [--into NAMESPACE.TABLE]",
		Short: "Keep loading what arrives",
		Long: `Watch loads objects as they arrive, each once, until it is ended: those of the feeds of a run sheet, or of the sources named, as
load would. It finds them by listing, by the file system's events, and by notifications (CloudEvents posted to /events, or a NATS subject),
and waits until they are whole. What arrives together is loaded in one commit. An object that fails is tried again later, and then set
	aside
with its reason, while the rest goes on. --once loads what is there and ends. docs/running.md tells more.`,
		Example: `  trevak watch trevak-demo/tides --into harbour.watched --once -w trevak-demo/warehouse
  trevak watch trevak-demo/arrivals.sheet.yaml --once --log json -w trevak-demo/warehouse`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return sources(flags.flowFlags)(cmd, args)
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return a.keepLoading(cmd, &flags, args) },
	}
	flags.add(cmd)
	first(cmd, "into", "once", "every", "settle", "marker", "gather", "tries", "listen", "secret-from", "nats", "set", "log", "warehouse")
	return cmd
}

// watching is a watch that goes on.
type watching struct {
	a     *app
	cmd   *cobra.Command
	flags *watchFlags
	sheet *runsheet.Sheet
	at    *attended
	w     *table.Warehouse
	// request makes the load that the command line describes; nil for a sheet.
	request func() (load.Request, error)

	turns    chan struct{} // as many as there are loads at a time
	budget   run.Budget
	watchers []*arrival.Watcher
	silences []*silence
}

// keepLoading watches.
func (a *app) keepLoading(cmd *cobra.Command, f *watchFlags, args []string) error {
	ctx := cmd.Context()
	if !cmd.Flags().Changed("log") {
		switch {
		case a.quiet:
			f.sheet.log = "off"
		case a.json():
			f.sheet.log = "json"
		}
	}
	n := watching{a: a, cmd: cmd, flags: f}
	if err := n.settle(ctx, args); err != nil {
		return err
	}
	log, err := f.sheet.logger(a.err)
	if err != nil {
		return err
	}
	if n.at, err = a.attend(ctx, n.sheet, "trevak watch", n.w, log); err != nil {
		return err
	}
	defer n.at.close()
	release, err := a.lockSheet(ctx, n.at)
	if err != nil {
		return err
	}
	defer release()
	n.budget, _ = a.budget()
	n.budget.Events, n.budget.Warn = nil, nil
	if n.budget, err = conduct.Share(n.budget, min(n.sheet.AtOnce, len(n.sheet.Feeds))); err != nil {
		return err
	}
	n.turns = make(chan struct{}, n.sheet.AtOnce)
	a.untouched = "what was committed stays"
	for i := range n.sheet.Feeds {
		w := n.watcher(&n.sheet.Feeds[i])
		if err := w.Locate(); err != nil {
			return err
		}
		n.watchers = append(n.watchers, w)
	}
	if err := n.listen(ctx); err != nil {
		return err
	}
	return n.run(ctx)
}

// settle reads the sheet, or makes one of the command line.
func (n *watching) settle(ctx context.Context, args []string) (err error) {
	f := n.flags
	if f.arrival.Bytes, err = layout.ParseSize("--gather-size", f.gather); err != nil {
		return err
	}
	if f.arrival.Order != "name" && f.arrival.Order != "time" {
		return fault.Unknown("order", f.arrival.Order, "name", "time")
	}
	if f.arrival.Tries < 1 || f.arrival.Every <= 0 || f.arrival.Again <= 0 || f.arrival.Settle < 0 || f.arrival.Gather < 0 {
		return fault.New(fault.Usage, "--tries counts from 1 on, --every and --retry-after are above 0, --settle and --gather not below")
	}
	if (f.nats == "") != (f.subject == "") {
		return fault.New(fault.Usage,
			"--nats and --subject go together").Try("state both, like --nats nats://127.0.0.1:4222 --subject harbour.objects")
	}
	if f.secretFrom != "" && f.listen == "" {
		return fault.New(fault.Usage, "--secret-from has no effect without --listen").Try("state --listen 127.0.0.1:0, or leave it out")
	}
	if len(args) == 1 && isSheet(ctx, args[0]) {
		return n.ofSheet(ctx, args[0])
	}
	if len(f.sheet.set) > 0 {
		return fault.New(fault.Usage, "--set has no effect where no run sheet is named").Try("leave it out")
	}
	l, err := f.loading(n.a, n.cmd, args)
	if err != nil {
		return err
	}
	if l.Mode == load.Replace && !l.Touching {
		return noReplacing(l.Into.String())
	}
	n.w = l.Warehouse
	if l.Quarantine == "" {
		l.QuarantineFolder = conduct.QuarantineFolder(n.w)
	}
	l.Spread = true
	n.request = func() (load.Request, error) {
		w := *l.Warehouse
		again := l
		again.Warehouse = &w
		return again, nil
	}
	n.sheet = &runsheet.Sheet{Path: strings.Join(l.Sources, " ") + " into " + l.Into.String(), AtOnce: 1, Arrival: f.arrival}
	n.sheet.Feeds = []runsheet.Feed{{Name: l.Into.String(), Unlike: "tell",
		Feed: &feed.Feed{Version: feed.Version, Values: map[string][]string{"source.files": l.Sources, "table.into": {l.Into.String()}}}}}
	return nil
}

// isSheet reports whether an argument is a run sheet.
func isSheet(ctx context.Context, path string) bool {
	if !strings.HasSuffix(path, ".yaml") && !strings.HasSuffix(path, ".yml") {
		return false
	}
	text, err := feed.ReadBounded(ctx, stores, path)
	return err == nil && runsheet.IsSheet(text)
}

// ofSheet reads a sheet. Flags override what it says of arrival.
func (n *watching) ofSheet(ctx context.Context, path string) error {
	var names []string
	for _, s := range loadFlagNames {
		if n.cmd.Flags().Lookup(s) != nil {
			names = append(names, s)
		}
	}
	if err := idle(n.cmd, "with a run sheet, which says it itself", names...); err != nil {
		return err
	}
	r := sheetRun{a: n.a, flags: &n.flags.sheet, path: path}
	s, err := r.read(ctx)
	if err != nil {
		return err
	}
	n.w, n.sheet = r.options.Warehouse, s
	for flag, set := range map[string]func(){
		"order": func() { s.Arrival.Order = n.flags.arrival.Order }, "settle": func() { s.Arrival.Settle = n.flags.arrival.Settle },
		"marker": func() { s.Arrival.Marker = n.flags.arrival.Marker }, "every": func() { s.Arrival.Every = n.flags.arrival.Every },
		"gather": func() { s.Arrival.Gather = n.flags.arrival.Gather }, "gather-size": func() { s.Arrival.Bytes = n.flags.arrival.Bytes },
		"tries": func() { s.Arrival.Tries = n.flags.arrival.Tries }, "retry-after": func() { s.Arrival.Again = n.flags.arrival.Again }} {
		if n.cmd.Flags().Changed(flag) {
			set()
		}
	}
	for _, f := range s.Feeds {
		if f.One("table.mode") == load.Replace.String() && f.One("table.touching") != "true" {
			return noReplacing(f.Name)
		}
		if f.Group != "" {
			return fault.New(fault.Usage, "the feed %s is of a group, whose feeds are loaded together, and what arrives comes one by one",
				f.Name).In(path).
				Try("carry the sheet out by a schedule, or take the feed out of the group")
		}
	}
	return nil
}

// noReplacing refuses loads that would leave of a table only what arrived last.
func noReplacing(what string) error {
	return fault.New(fault.Usage, "%s is loaded by --mode replace, which would leave of the table only what arrived last", what).
		Try("watch it with --mode append or --mode upsert, or replace by a schedule")
}

// watcher watches the sources of a feed.
func (n *watching) watcher(f *runsheet.Feed) *arrival.Watcher {
	own := &chronicle.Chronicle{Sheet: n.at.Sheet, By: n.at.By, Process: n.at.Process, History: n.at.History, Teller: n.at.Teller,
		Gauges: n.at.Gauges, Log: n.at.Log, Gathered: true}
	o := arrival.Options{Arrival: n.sheet.Arrival, Feed: f.Name, Sources: f.Values["source.files"], Store: stores, Events: n.flags.events,
		Once: n.flags.once,
		Load: func(ctx context.Context, objects []storage.Object) error { return n.load(ctx, own, f, objects) },
		Known: func(ctx context.Context) (func(storage.Object) bool, error) {
			return conduct.TakenIn(ctx, f, n.options())
		}}
	if n.at.History != nil {
		o.Memory = memory{n.at.History, n.at.Sheet.Path, f.Name}
	}
	quiet := &silence{feed: f, at: own}
	o.Tell = func(e arrival.Event) { n.heard(own, f, quiet, e) }
	w := arrival.New(o)
	n.at.Gauges.Gauge("lag_seconds", f.Name, func() float64 { return w.Lag().Seconds() })
	n.at.Gauges.Gauge("waiting_objects", f.Name, func() float64 { pending, _, _ := w.Counts(); return float64(pending) })
	n.at.Gauges.Gauge("set_aside_objects", f.Name, func() float64 { _, aside, _ := w.Counts(); return float64(aside) })
	if f.Silent > 0 {
		n.silences = append(n.silences, quiet)
	}
	return w
}

func (n *watching) options() conduct.Options {
	return conduct.Options{Store: stores, Warehouse: n.w, Request: n.request}
}

// load loads objects of a feed, as a run of its own.
func (n *watching) load(ctx context.Context, own *chronicle.Chronicle, f *runsheet.Feed, objects []storage.Object) error {
	select {
	case n.turns <- struct{}{}:
		defer func() { <-n.turns }()
	case <-ctx.Done():
		return ctx.Err()
	}
	one := *n.sheet
	single := *f
	// What comes one by one is tried again one by one, and what it would come after is loaded by itself.
	single.After, single.When, single.Retry = nil, "", runsheet.Retry{}
	one.Feeds, one.AtOnce, one.Timeout = []runsheet.Feed{single}, 1, 0
	within := own.Begin(ctx, time.Now())
	o := n.options()
	o.Events, o.Judge, o.Given = own.Event, own.Judge, map[string][]storage.Object{f.Name: objects}
	result, err := conduct.Conduct(within, &one, o, n.budget)
	if failed := own.End(result, err); failed != nil {
		own.Note(slog.LevelWarn, f.Name, "the run history could not be written", "error", failed.Error())
	}
	if err == nil {
		err = result.Feeds[0].Err
	}
	return err
}

// heard writes down what happens to what arrives.
func (n *watching) heard(own *chronicle.Chronicle, f *runsheet.Feed, quiet *silence, e arrival.Event) {
	ctx := context.Background()
	switch e.Kind {
	case arrival.Listed:
		n.at.Gauges.Listed(ctx, f.Name, e.Objects, e.Requests)
		level := slog.LevelDebug
		if n.flags.once || e.Took > time.Second || quiet.first() {
			level = slog.LevelInfo
		}
		own.Note(level, f.Name, "listed", "objects", e.Objects, "requests", e.Requests, "seconds", fmt.Sprintf("%.3f", e.Took.Seconds()))
	case arrival.Passed:
		n.at.Gauges.Passed(ctx, f.Name, e.Why, e.Objects)
		more := []any{"objects", e.Objects, "why", e.Why}
		if e.Object != "" {
			more = append(more, "object", e.Object)
		}
		own.Note(slog.LevelInfo, f.Name, "passed over", more...)
	case arrival.Loaded:
		quiet.heard()
	case arrival.Trying:
		own.Note(slog.LevelWarn, f.Name, "an object could not be loaded, and is tried again", "object", e.Object, "after", e.Wait.String(),
			"error", e.Err.Error())
	case arrival.Aside:
		n.at.Gauges.Passed(ctx, f.Name, "set aside", 1)
		own.Told(runsheet.Aside, f.Name, storage.Shown(e.Object)+" was set aside "+e.Why+": "+e.Err.Error(),
			map[string]any{"object": storage.Shown(e.Object), "error": e.Err.Error()})
	case arrival.Failing:
		own.Note(slog.LevelError, f.Name, e.Why, "again_in", e.Wait.String(), "error", e.Err.Error())
	}
}

// listen answers who asks, and hears of objects.
func (n *watching) listen(ctx context.Context) error {
	told := func(ctx context.Context, uri string) bool {
		is := false
		for _, w := range n.watchers {
			is = w.Notice(ctx, uri) || is
		}
		return is
	}
	refused := func(from, why string) {
		n.at.Gauges.Passed(ctx, "", "notification refused", 1)
		n.at.Note(slog.LevelWarn, "", "a notification was not heard", "from", from, "why", why)
	}
	if n.flags.listen != "" {
		secret, err := secretFrom(ctx, n.flags.secretFrom, "senders of notifications", "--secret-from")
		if err != nil {
			return err
		}
		s := &health.Server{Gauges: n.at.Gauges, Ready: n.ready, Secret: secret, Told: told, Refused: refused}
		address, err := s.Listen(ctx, n.flags.listen)
		if err != nil {
			return err
		}
		n.at.Note(slog.LevelInfo, "", "listening", "address", "http://"+address)
	}
	if n.flags.nats == "" {
		return nil
	}
	return notice.Subscribe(ctx, n.flags.nats, n.flags.subject, n.flags.credentials, func(text []byte) {
		list, err := notice.Decode("", text)
		if err != nil {
			refused(n.flags.subject, err.Error())
			return
		}
		health.Take(ctx, list, told, func(why string) { refused(n.flags.subject, why) })
	}, func(connected bool, err error) {
		level, text := slog.LevelInfo, "the NATS server is connected again"
		if !connected {
			level, text = slog.LevelWarn, "the NATS server is not connected"
		}
		if err != nil {
			text += ": " + err.Error()
		}
		n.at.Note(level, "", text)
		if connected {
			// What was said meanwhile is not said again.
			for _, w := range n.watchers {
				w.List()
			}
		}
	})
}

// ready tells why the watch is not ready.
func (n *watching) ready() error {
	for _, w := range n.watchers {
		if _, _, ready := w.Counts(); !ready {
			return errors.New("the sources of the feed " + w.Feed + " were not listed yet")
		}
	}
	return nil
}

// run has all feeds watched until the end.
func (n *watching) run(ctx context.Context) error {
	var running sync.WaitGroup
	errs := make([]error, len(n.watchers))
	within, stop := context.WithCancel(ctx)
	defer stop()
	for i, w := range n.watchers {
		running.Go(func() {
			if errs[i] = w.Run(within); errs[i] != nil && !n.flags.once {
				stop()
			}
		})
	}
	if !n.flags.once {
		for _, s := range n.silences {
			running.Go(func() { s.run(within) })
		}
	}
	running.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		n.at.Note(slog.LevelInfo, "", "ended; what was committed stays, and what was not is loaded by the next start")
	}
	return nil
}

// memory keeps objects of a feed that could not be loaded.
type memory struct {
	log         *runlog.Log
	sheet, feed string
}

func (m memory) Waiting(ctx context.Context) ([]runlog.Waiting, error) {
	return m.log.Waiting(ctx, m.sheet, m.feed)
}

func (m memory) Wait(ctx context.Context, w runlog.Waiting) error {
	return m.log.Wait(ctx, m.sheet, m.feed, w)
}

func (m memory) Arrived(ctx context.Context, object string) error {
	return m.log.Arrived(ctx, m.sheet, m.feed, object)
}
