// Package chronicle writes down what runs do: in the run history, in the log, in the metrics, and to those who are told.
//
// What comes in are the events of runs; what goes out are entries, lines, numbers and notices.
package chronicle

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"trevak/internal/conduct"
	"trevak/internal/gauge"
	"trevak/internal/notice"
	"trevak/internal/run"
	"trevak/internal/runlog"
	"trevak/internal/runsheet"
	"trevak/internal/schema"
	"trevak/internal/write"
)

// Chronicle writes down the runs of one sheet, one at a time. What it is to write to may be nil.
type Chronicle struct {
	Sheet *runsheet.Sheet
	// By is what the runs are started by, Process where they run.
	By, Process string
	History     *runlog.Log
	Teller      *notice.Teller
	Gauges      *gauge.Set
	Log         *slog.Logger
	// Gathered says that loads gather what happens to come together.
	Gathered bool
	// Allow lets a load be made that is unlike those before, once.
	Allow bool

	mutex  sync.Mutex
	run    *runlog.Run // nil between runs
	id     int64
	end    func(error)
	feeds  map[string]func(error)
	stages map[string]stage
	ctx    context.Context
}

// stage is what a feed is at, and since when.
type stage struct {
	name run.Stage
	at   time.Time
}

// Begin notes that a run begins; the context that it returns belongs to it. Where the history cannot be written, the run goes on without.
func (c *Chronicle) Begin(ctx context.Context, at time.Time) context.Context {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.feeds, c.stages, c.run = map[string]func(error){}, map[string]stage{}, nil
	c.ctx, c.end = ctx, func(error) {}
	if c.Gauges != nil {
		c.ctx, c.end = c.Gauges.Span(ctx, "run", "trevak.sheet", c.Sheet.Path)
	}
	if c.History != nil {
		var parameters []runlog.Parameter
		texts := c.Sheet.Values.Texts()
		for _, name := range slices.Sorted(maps.Keys(texts)) {
			parameters = append(parameters, runlog.Parameter{Name: name, Value: texts[name]})
		}
		r, err := c.History.Begin(ctx, runlog.Start{Sheet: c.Sheet.Path, At: at, By: c.By, Process: c.Process, Parameters: parameters})
		if err == nil {
			c.run, c.id = r, r.ID
		} else {
			c.unkept(err)
		}
	}
	return c.ctx
}

// unkept says that the run history could not be written.
func (c *Chronicle) unkept(err error) {
	if c.Log != nil {
		c.Log.Warn("the run history could not be written", "error", err.Error())
	}
}

// ID is the number of the run in the history, that of the last one where it ended, 0 where there is none.
func (c *Chronicle) ID() int64 { return c.id }

// note adds a line to the log, and to that of the run.
func (c *Chronicle) note(level slog.Level, feed, message string, more ...any) {
	if c.Log != nil {
		if feed != "" {
			more = append([]any{"feed", feed}, more...)
		}
		c.Log.Log(c.ctx, level, message, more...)
	}
	if c.run == nil {
		return
	}
	for i := 0; i+1 < len(more); i += 2 {
		if more[i] != "feed" {
			message += fmt.Sprintf(" %s=%v", more[i], more[i+1])
		}
	}
	if level >= slog.LevelInfo {
		c.run.Say(time.Now(), level.String(), feed, message)
	}
}

// Event takes notice of what happens in a run.
func (c *Chronicle) Event(e conduct.Event) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	switch e.Kind {
	case conduct.FeedBegan:
		if c.Gauges != nil {
			_, c.feeds[e.Feed] = c.Gauges.Span(c.ctx, "feed", "trevak.feed", e.Feed)
		}
		c.note(slog.LevelDebug, e.Feed, "begins")
	case conduct.FeedGoes:
		c.enter(e.Feed, e.Progress.Stage, e.At)
	case conduct.FeedWarned:
		c.note(slog.LevelWarn, e.Feed, e.Text)
	case conduct.FeedRetry:
		c.note(slog.LevelWarn, e.Feed, "failed, and is tried again", "try", e.Try, "after", e.Wait.String(), "error", e.Err.Error())
	case conduct.FeedEnded:
		c.enter(e.Feed, "", e.At)
		c.ended(e.Result)
	}
}

// enter notes that a feed enters a stage, or leaves the last one.
func (c *Chronicle) enter(feed string, to run.Stage, at time.Time) {
	last := c.stages[feed]
	if last.name == to {
		return
	}
	if last.name != "" && c.Gauges != nil {
		c.Gauges.Stage(c.ctx, feed, string(last.name), at.Sub(last.at))
	}
	c.stages[feed] = stage{to, at}
}

// ended writes down what became of a feed.
func (c *Chronicle) ended(r *conduct.FeedResult) {
	if end := c.feeds[r.Feed]; end != nil {
		end(r.Err)
		delete(c.feeds, r.Feed)
	}
	if r.Outcome == conduct.Left {
		return
	}
	loads := Loads(r)
	if r.Outcome == conduct.Before {
		// A run that continues this one has it done, too.
		c.keep(loads[0])
		return
	}
	for _, l := range loads {
		if c.Gauges != nil {
			c.Gauges.Loaded(c.ctx, r.Feed, string(r.Outcome), gauge.Counts{Objects: l.Objects, Records: l.RecordsRead, Rows: l.RowsWritten,
				BytesRead: l.BytesRead, BytesWritten: l.BytesWritten, Misfits: l.Misfits, Quarantined: l.RecordsQuarantined})
		}
		c.keep(l)
		c.noteLoad(r, l)
	}
	if r.Dropped > 0 {
		c.note(slog.LevelInfo, r.Feed, "objects that no route takes were left out", "objects", r.Dropped)
		if c.Gauges != nil {
			c.Gauges.Passed(c.ctx, r.Feed, "no route", int64(r.Dropped))
		}
	}
	c.notices(r)
	c.silence(r)
}

// keep writes the entry of a load into the history.
func (c *Chronicle) keep(l runlog.Load) {
	if c.run == nil {
		return
	}
	if err := c.run.Feed(context.WithoutCancel(c.ctx), l); err != nil {
		c.unkept(err)
	}
}

func (c *Chronicle) noteLoad(r *conduct.FeedResult, l runlog.Load) {
	switch r.Outcome {
	case conduct.Failed, conduct.Refused:
		c.note(slog.LevelError, r.Feed, string(r.Outcome), "error", r.Err.Error(), "tries", r.Tries)
	case conduct.Held, conduct.Skipped:
		c.note(slog.LevelInfo, r.Feed, string(r.Outcome), "why", r.Why)
	default:
		c.note(slog.LevelInfo, r.Feed, string(r.Outcome), "table", l.Table, "objects", l.Objects, "records", l.RecordsRead, "rows",
			l.RowsWritten,
			"quarantined", l.RecordsQuarantined, "misfits", l.Misfits, "seconds", fmt.Sprintf("%.3f", l.Seconds))
	}
}

// notices tells of what needs a person, and of what was loaded.
func (c *Chronicle) notices(r *conduct.FeedResult) {
	switch r.Outcome {
	case conduct.Failed:
		c.tell(runsheet.Failed, r.Feed, map[string]any{"error": r.Err.Error(), "tries": r.Tries})
	case conduct.Refused:
		kind := runsheet.Refused
		var drift *write.DriftError
		if errors.As(r.Err, &drift) {
			kind = runsheet.Drifted
		}
		c.tell(kind, r.Feed, map[string]any{"error": r.Err.Error()})
	case conduct.Done:
		for _, report := range r.Reports {
			c.tell(runsheet.Loaded, r.Feed, map[string]any{"table": report.Table, "objects": len(report.Objects),
				"records_read": report.RecordsRead,
				"rows_written": report.RowsWritten, "records_quarantined": report.RecordsQuarantined})
		}
	}
	for _, report := range r.Reports {
		var changes []string
		for _, d := range report.Drift {
			changes = append(changes, write.Sentence(d))
		}
		for _, text := range changes {
			c.note(slog.LevelWarn, r.Feed, "drift: "+text)
		}
		if len(changes) > 0 {
			c.tell(runsheet.Drifted, r.Feed, map[string]any{"table": report.Table, "changes": changes})
		}
		for _, check := range report.Checks {
			if check.Broken == 0 {
				continue
			}
			text := fmt.Sprintf("%d rows break the rule %s", check.Broken, check.Text)
			c.note(slog.LevelWarn, r.Feed, text)
			c.tell(runsheet.Checked, r.Feed, map[string]any{"table": report.Table, "rule": check.Text, "rows": check.Broken})
		}
	}
	for _, text := range r.Unlike {
		c.note(slog.LevelWarn, r.Feed, "unlike those before: "+text)
	}
	if len(r.Unlike) > 0 {
		c.tell(runsheet.Differs, r.Feed, map[string]any{"differences": r.Unlike})
	}
}

// tell has those told who want to know of events of a kind.
func (c *Chronicle) tell(kind, feed string, data map[string]any) {
	if c.Teller == nil {
		return
	}
	data["feed"], data["sheet"] = feed, c.Sheet.Path
	if c.run != nil {
		data["run"] = c.run.ID
	}
	// What is told are texts and numbers, which JSON takes.
	body, _ := json.Marshal(data)
	c.Teller.Tell(kind, feed, time.Now(), body)
}

// Note writes something down that is no event of a run.
func (c *Chronicle) Note(level slog.Level, feed, message string, more ...any) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.ctx == nil {
		c.ctx = context.Background()
	}
	c.note(level, feed, message, more...)
}

// End notes that the run ended.
func (c *Chronicle) End(result *conduct.Result, failed error) error {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	worst := failed
	if worst == nil && result != nil {
		worst = result.Worst()
	}
	c.end(worst)
	if c.run == nil {
		return nil
	}
	message := ""
	if worst != nil {
		message = worst.Error()
	}
	r := c.run
	c.run = nil
	return r.End(context.WithoutCancel(c.ctx), time.Now(), Outcome(result, failed), message)
}

// Told writes down, in the history too, what is no load and needs a person: an event of a kind of runsheet's about a feed.
func (c *Chronicle) Told(kind, feed, message string, data map[string]any) {
	c.Note(slog.LevelWarn, feed, message)
	data["message"] = message
	c.mutex.Lock()
	c.tell(kind, feed, data)
	c.mutex.Unlock()
	if c.History == nil {
		return
	}
	ctx, now := context.Background(), time.Now()
	r, err := c.History.Begin(ctx, runlog.Start{Sheet: c.Sheet.Path, At: now, By: c.By, Process: c.Process})
	if err == nil {
		r.Say(now, slog.LevelWarn.String(), feed, message)
		err = r.Feed(ctx, runlog.Load{Feed: feed, Began: now, Outcome: kind, Message: message})
	}
	if err == nil {
		err = r.End(ctx, now, kind, message)
	}
	if err != nil {
		c.Note(slog.LevelWarn, feed, "the run history could not be written", "error", err.Error())
	}
}

// Outcome is that of a whole run.
func Outcome(result *conduct.Result, failed error) string {
	if failed != nil || result == nil {
		return string(conduct.Failed)
	}
	out := conduct.Known
	for _, f := range result.Feeds {
		switch f.Outcome {
		case conduct.Failed:
			return string(conduct.Failed)
		case conduct.Refused:
			out = conduct.Refused
		case conduct.Done:
			if out != conduct.Refused {
				out = conduct.Done
			}
		}
	}
	return string(out)
}

// Judge tells in what the load of a feed is unlike those before.
func (c *Chronicle) Judge(ctx context.Context, f *runsheet.Feed, r *write.Report) ([]string, error) {
	if c.History == nil || c.Allow || len(r.Objects) == 0 {
		return nil, nil
	}
	return c.History.Unlike(ctx, loadOf(f.Name, r), c.Gathered)
}

// Loads are the entries of a feed in the history.
func Loads(r *conduct.FeedResult) (out []runlog.Load) {
	for _, report := range r.Reports {
		l := loadOf(r.Feed, report)
		l.Began, l.Outcome, l.Tries = r.Began, string(r.Outcome), r.Tries
		if report.NothingNew {
			l.Outcome = string(conduct.Known)
		}
		out = append(out, l)
	}
	if len(out) == 0 {
		l := runlog.Load{Feed: r.Feed, Outcome: string(r.Outcome), Tries: r.Tries, Began: r.Began, Message: r.Why}
		if !r.Began.IsZero() {
			l.Seconds = r.Ended.Sub(r.Began).Seconds()
		} else {
			l.Began = time.Now()
		}
		if r.Err != nil {
			l.Message = r.Err.Error()
		}
		out = append(out, l)
	}
	return out
}

// loadOf makes an entry of a report.
func loadOf(feed string, r *write.Report) runlog.Load {
	l := runlog.Load{Feed: feed, Table: r.Table, Seconds: r.Seconds, Objects: int64(len(r.Objects)), RecordsRead: r.RecordsRead,
		RowsWritten: r.RowsWritten, BytesRead: r.BytesRead, BytesWritten: r.BytesWritten, RecordsQuarantined: r.RecordsQuarantined,
		Misfits: Misfits(r), Quarantine: r.Quarantine}
	if r.SnapshotID != 0 {
		l.Snapshot = fmt.Sprint(r.SnapshotID)
	}
	for _, s := range r.Spread {
		l.Columns = append(l.Columns, runlog.Column{Name: s.Path, Values: s.Values, Nulls: s.Nulls, Few: s.Few, Texts: s.Texts})
	}
	return l
}

// Misfits counts the records with values that fit no column.
func Misfits(r *write.Report) (n int64) {
	for _, d := range r.Drift {
		if d.Kind == schema.Unfit {
			n += d.Records
		}
	}
	return n
}
