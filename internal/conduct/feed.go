package conduct

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/locate"
	"trevak/internal/run"
	"trevak/internal/runsheet"
	"trevak/internal/table"
	"trevak/internal/write"
)

func isNothing(err error) bool {
	var nothing *locate.NothingError
	return errors.As(err, &nothing) || errors.Is(err, fs.ErrNotExist)
}

// carryOut carries out one feed, or those of a group, as often as it may help.
func (c *conductor) carryOut(ctx context.Context, list []*runsheet.Feed) []FeedResult {
	out := make([]FeedResult, len(list))
	first := list[0]
	for i, f := range list {
		out[i] = FeedResult{Feed: f.Name, Began: time.Now()}
		c.tell(Event{Kind: FeedBegan, Feed: f.Name, Try: 1})
	}
	var err error
	for try := 1; ; try++ {
		for i := range out {
			out[i].Tries, out[i].Unlike = try, nil
		}
		err = c.once(ctx, list, out)
		if err == nil || try > first.Retry.Times || !mayHelp(err) || ctx.Err() != nil {
			break
		}
		wait := first.Retry.Delay(try)
		c.tell(Event{Kind: FeedRetry, Feed: first.Name, Try: try + 1, Wait: wait, Err: err})
		if pause(ctx, wait) != nil {
			break
		}
	}
	err = why(ctx, err)
	var member *feedError
	for i := range out {
		r := &out[i]
		r.Ended = time.Now()
		switch {
		case err != nil && errors.As(err, &member) && member.at != i:
			r.Outcome, r.Why, r.Reports = Held, "its group is loaded all or none, and "+list[member.at].Name+" was not", nil
		case err != nil:
			r.Outcome, r.Err, r.Reports = outcomeOf(err), plainly(err), nil
		case r.Outcome == "":
			r.Outcome = Known
			for _, report := range r.Reports {
				if !report.NothingNew {
					r.Outcome = Done
				}
			}
		}
	}
	return out
}

// why is an error, or why the context ended by which it came about. What was begun to be committed is told as it is.
func why(ctx context.Context, err error) error {
	begun := errors.As(err, new(*load.GroupError)) || errors.As(err, new(*load.PartlyError)) || errors.Is(err, table.ErrUntold)
	if err == nil || ctx.Err() == nil || begun {
		return err
	}
	return context.Cause(ctx)
}

// feedError tells which feed of a group went wrong.
type feedError struct {
	at    int
	cause error
}

func (e *feedError) Error() string { return e.cause.Error() }

func (e *feedError) Unwrap() error { return e.cause }

// plainly is an error without which feed it is of.
func plainly(err error) error {
	var of *feedError
	if errors.As(err, &of) {
		return of.cause
	}
	return err
}

func pause(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// once carries feeds out once, all of them or none.
func (c *conductor) once(ctx context.Context, list []*runsheet.Feed, out []FeedResult) (err error) {
	if most := list[0].Timeout; most > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeoutCause(ctx, most, &tooLong{"the feed " + list[0].Name, most})
		defer stop()
		defer func() { err = why(ctx, err) }()
	}
	var requests []load.Request
	var of []int // the feed of each
	var settled []*settling
	for i, f := range list {
		s, err := c.settle(ctx, f)
		if s != nil {
			defer s.end()
		}
		if err != nil {
			return &feedError{i, s.blame(err)}
		}
		settled = append(settled, s)
		out[i].Dropped, out[i].Reports = s.dropped, nil
		if holds, why, err := s.when(ctx); err != nil {
			return &feedError{i, s.blame(err)}
		} else if !holds {
			out[i].Outcome, out[i].Why = Skipped, why
			return nil
		}
		for _, l := range s.requests {
			l.Judge = c.judge(f, &out[i])
			requests = append(requests, l)
			of = append(of, i)
		}
	}
	if len(requests) == 0 {
		return nil
	}
	reports, err := load.Together(ctx, requests, c.budget(list[0].Name))
	if err != nil {
		at := 0
		var member *load.MemberError
		if errors.As(err, &member) {
			at, err = of[member.Load], member.Cause
		}
		return &feedError{at, settled[at].blame(err)}
	}
	for i, r := range reports {
		out[of[i]].Reports = append(out[of[i]].Reports, r)
	}
	for i := range settled {
		if err := settled[i].adds(out[i].Reports); err != nil {
			return err
		}
	}
	return nil
}

// judge asks whether the load of a feed is out of the usual.
func (c *conductor) judge(f *runsheet.Feed, r *FeedResult) func(context.Context, *write.Report) error {
	if c.o.Judge == nil || f.Unlike == "off" || c.o.DryRun {
		return nil
	}
	return func(ctx context.Context, report *write.Report) error {
		unlike, err := c.o.Judge(ctx, f, report)
		if err != nil {
			return err
		}
		r.Unlike = append(r.Unlike, unlike...)
		if len(unlike) > 0 && f.Unlike == "stop" {
			return fault.New(fault.Input, "the load of %s is unlike those before: %s", report.Table, unlike[0]).
				Try("look at the objects; to load them all the same, run once with --allow-unlike")
		}
		return nil
	}
}

// budget is what a feed may use, and passes on how far it is.
func (c *conductor) budget(name string) run.Budget {
	b := c.share
	b.Events = func(e run.Event) { c.tell(Event{Kind: FeedGoes, Feed: name, Progress: e}) }
	b.Warn = func(text string) { c.tell(Event{Kind: FeedWarned, Feed: name, Text: text}) }
	return b
}
