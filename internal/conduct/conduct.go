// Package conduct carries out run sheets: feeds in their order, side by side as far as the sheet allows, tried again where that may help.
//
// What comes in is a sheet and what its feeds find where they run; what goes out is what became of each feed, as events while it happens
// and as a result at the end.
package conduct

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Outcome is what became of a feed.
type Outcome string

// The outcomes. Known says that every object was loaded before, Skipped that the feed's condition did not hold, Held that a feed failed
// that it comes after, Before that a former run that is continued did it, and Left that it was not asked for.
const (
	Done    Outcome = "loaded"
	Known   Outcome = "nothing_new"
	Refused Outcome = "refused"
	Failed  Outcome = "failed"
	Skipped Outcome = "skipped"
	Held    Outcome = "held_back"
	Before  Outcome = "done_before"
	Left    Outcome = "left_out"
)

// Went reports whether what comes after may go on.
func (o Outcome) Went() bool { return o != Refused && o != Failed && o != Held && o != "" }

// FeedResult is what became of one feed.
type FeedResult struct {
	Feed    string
	Outcome Outcome
	// Reports are the accounts of the loads that the feed came to, one a table.
	Reports []*write.Report
	// Dropped counts objects that no route took, where the sheet has them left out.
	Dropped int
	Err     error
	// Why says in words why nothing was done.
	Why    string
	Tries  int
	Began  time.Time
	Ended  time.Time
	Unlike []string
}

// Result is what became of a run.
type Result struct {
	Began, Ended time.Time
	Feeds        []FeedResult
}

// Worst is the error that decides how the run ended, nil for none: one that failed before one that was refused.
func (r *Result) Worst() error {
	var refused error
	for _, f := range r.Feeds {
		switch {
		case f.Outcome == Failed:
			return f.Err
		case f.Outcome == Refused && refused == nil:
			refused = f.Err
		}
	}
	return refused
}

// Event is something that happens while a sheet is carried out.
type Event struct {
	At   time.Time
	Kind Kind
	Feed string
	// Try is the number of the try, Wait how long it waits, and Err why the former one failed, of one that is made again.
	Try  int
	Wait time.Duration
	Err  error
	// Progress is how far a feed is, Result what became of it.
	Progress run.Event
	Result   *FeedResult
	Text     string
}

// Kind is what sort of event it is.
type Kind string

// The kinds of events.
const (
	FeedBegan  Kind = "feed_began"
	FeedRetry  Kind = "feed_tried_again"
	FeedGoes   Kind = "feed_progress"
	FeedWarned Kind = "feed_warning"
	FeedEnded  Kind = "feed_ended"
)

// Options are what a run is asked.
type Options struct {
	Store     storage.Store
	Warehouse *table.Warehouse
	// Only are the feeds that are wanted, all without any; From is the feed that the run begins at. DryRun writes nothing.
	Only   []string
	From   string
	DryRun bool
	// Before are feeds that are done, of a run that is continued.
	Before map[string]bool
	// Events is told of what happens, from one goroutine at a time; it may be nil.
	Events func(Event)
	// Judge is asked before each commit what is out of the usual in the account of a feed; it may be nil.
	Judge func(ctx context.Context, f *runsheet.Feed, r *write.Report) (unlike []string, err error)
	// Given are objects that feeds read in the place of what their sources name, by feed; others read what their sources name.
	Given map[string][]storage.Object
	// Request makes the load of a feed that a command line describes; nil for feeds that the sheet does.
	Request func() (load.Request, error)
}

// Conduct carries a sheet out. The error is one of the whole run; what went wrong with feeds stands in the result.
func Conduct(ctx context.Context, s *runsheet.Sheet, o Options, b run.Budget) (*Result, error) {
	units, err := s.Units()
	if err != nil {
		return nil, err
	}
	wanted, err := o.wanted(s, units)
	if err != nil {
		return nil, err
	}
	atOnce := min(s.AtOnce, len(units))
	share, err := Share(b, atOnce)
	if err != nil {
		return nil, err
	}
	c := &conductor{sheet: s, o: o, share: share, results: make([]Outcome, len(units))}
	if s.Timeout > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeoutCause(ctx, s.Timeout, &tooLong{"the run", s.Timeout})
		defer stop()
	}
	out := &Result{Began: time.Now()}
	c.run(ctx, units, wanted, atOnce)
	for _, f := range s.Feeds {
		at := slices.IndexFunc(c.done, func(r FeedResult) bool { return r.Feed == f.Name })
		out.Feeds = append(out.Feeds, c.done[at])
	}
	out.Ended = time.Now()
	if ctx.Err() != nil {
		return out, context.Cause(ctx)
	}
	return out, nil
}

// Share is what each of several feeds may use that run at a time.
func Share(b run.Budget, atOnce int) (run.Budget, error) {
	if atOnce < 2 {
		return b, nil
	}
	share := run.NewBudget(memoryOf(b) / int64(atOnce))
	if share.Workers = max(1, min(share.Workers, b.Workers/atOnce)); share.Memory < run.LeastMemory {
		return share, fault.New(fault.Usage, "%d feeds at once have %d MiB of memory each, and need %d", atOnce, share.Memory>>20,
			run.LeastMemory>>20).Try("have fewer at_once, or give the run more with --memory")
	}
	return share, nil
}

func memoryOf(b run.Budget) int64 {
	if b.Memory == 0 {
		return run.UsualMemory
	}
	return b.Memory
}

// wanted tells which feeds are to be carried out.
func (o Options) wanted(s *runsheet.Sheet, units []runsheet.Unit) (map[string]bool, error) {
	out := map[string]bool{}
	for _, f := range s.Feeds {
		out[f.Name] = len(o.Only) == 0
	}
	for _, name := range o.Only {
		if _, err := s.FeedNamed(name); err != nil {
			return nil, err
		}
		out[name] = true
	}
	if o.From == "" {
		return out, nil
	}
	if _, err := s.FeedNamed(o.From); err != nil {
		return nil, err
	}
	for _, u := range units {
		if slices.ContainsFunc(u.Feeds, func(f *runsheet.Feed) bool { return f.Name == o.From }) {
			break
		}
		for _, f := range u.Feeds {
			out[f.Name] = false
		}
	}
	return out, nil
}

// conductor carries one sheet out.
type conductor struct {
	sheet *runsheet.Sheet
	o     Options
	share run.Budget

	mutex   sync.Mutex
	results []Outcome // by unit, empty while one is under way
	done    []FeedResult
}

// run carries units out, so many at once, each as soon as those are done that it comes after.
func (c *conductor) run(ctx context.Context, units []runsheet.Unit, wanted map[string]bool, atOnce int) {
	ended := make(chan int)
	began, over, running := make([]bool, len(units)), make([]bool, len(units)), 0
	for {
		for i, u := range units {
			if began[i] || running == atOnce || slices.ContainsFunc(u.After, func(at int) bool { return !over[at] }) {
				continue
			}
			began[i] = true
			running++
			go func() {
				c.unit(ctx, units, i, wanted)
				ended <- i
			}()
		}
		if running == 0 {
			return
		}
		over[<-ended] = true
		running--
	}
}

// unit carries out one unit.
func (c *conductor) unit(ctx context.Context, units []runsheet.Unit, i int, wanted map[string]bool) {
	u := units[i]
	var todo []*runsheet.Feed
	for _, f := range u.Feeds {
		switch {
		case !wanted[f.Name]:
			c.end(i, FeedResult{Feed: f.Name, Outcome: Left})
		case c.o.Before[f.Name]:
			c.end(i, FeedResult{Feed: f.Name, Outcome: Before})
		default:
			todo = append(todo, f)
		}
	}
	if len(todo) == 0 {
		return
	}
	held := ""
	for _, at := range u.After {
		if c.mutex.Lock(); !c.results[at].Went() {
			held = units[at].Feeds[0].Name
		}
		c.mutex.Unlock()
	}
	if held != "" || ctx.Err() != nil {
		why := "it comes after " + held
		if held == "" {
			why = "the run was stopped"
		}
		for _, f := range todo {
			c.end(i, FeedResult{Feed: f.Name, Outcome: Held, Why: why})
		}
		return
	}
	for _, r := range c.carryOut(ctx, todo) {
		c.end(i, r)
	}
}

// end notes what became of a feed.
func (c *conductor) end(unit int, r FeedResult) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.done = append(c.done, r)
	if was := c.results[unit]; was == "" || was.Went() {
		c.results[unit] = r.Outcome
	}
	if c.o.Events != nil {
		c.o.Events(Event{At: time.Now(), Kind: FeedEnded, Feed: r.Feed, Result: &c.done[len(c.done)-1]})
	}
}

func (c *conductor) tell(e Event) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.o.Events != nil {
		e.At = time.Now()
		c.o.Events(e)
	}
}

// tooLong says that something took longer than it may.
type tooLong struct {
	what string
	most time.Duration
}

func (t *tooLong) Error() string { return t.what + " took longer than " + t.most.String() }

// Unwrap returns the error with its kind and way out.
func (t *tooLong) Unwrap() error {
	return fault.New(fault.Storage, "%s took longer than %s, which the sheet allows, and was stopped", t.what, t.most).
		Try("look at what it waits for, or allow more with timeout")
}

// outcomeOf tells what an error makes of a feed.
func outcomeOf(err error) Outcome {
	switch kind := fault.KindOf(err); {
	case err == nil:
		return Done
	case kind == fault.Input || kind == fault.Schema:
		return Refused
	}
	return Failed
}

// mayHelp reports whether it may help to do the same again.
func mayHelp(err error) bool {
	var late *tooLong
	switch fault.KindOf(err) {
	case fault.Usage, fault.Input, fault.Schema:
		return false
	}
	return !errors.As(err, &late) && !errors.Is(err, context.Canceled) && !isNothing(err)
}
