package chronicle_test

import (
	"bytes"
	"errors"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/chronicle"
	"trevak/internal/conduct"
	"trevak/internal/gauge"
	"trevak/internal/run"
	"trevak/internal/runlog"
	"trevak/internal/runsheet"
	"trevak/internal/schema"
	"trevak/internal/write"
)

// TestSilence tells once of a feed that got nothing for longer than it should.
func TestSilence(t *testing.T) {
	history, err := runlog.Open(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "runs.db"), "")
	if err != nil {
		t.Fatal(err)
	}
	defer history.Close()
	var log bytes.Buffer
	c := &chronicle.Chronicle{Sheet: &runsheet.Sheet{Path: "day.yaml", Feeds: []runsheet.Feed{{Name: "tides", Silent: time.Hour}}}, History: history,
		Log: slog.New(slog.NewTextHandler(&log, nil))}
	carryOut := func(o conduct.Outcome) int {
		t.Helper()
		c.Begin(t.Context(), time.Now())
		c.Event(conduct.Event{Kind: conduct.FeedEnded, Feed: "tides", Result: &conduct.FeedResult{Feed: "tides", Outcome: o}})
		if err := c.End(&conduct.Result{}, nil); err != nil {
			t.Fatal(err)
		}
		return strings.Count(log.String(), "nothing arrived for 3h")
	}
	last := func(ago time.Duration) {
		text := time.Now().UTC().Add(-ago).Format(time.RFC3339)
		if err := history.SetPlace(t.Context(), "day.yaml", "tides", chronicle.LastArrival, text); err != nil {
			t.Fatal(err)
		}
	}
	for i, c := range []struct {
		ago  time.Duration // 0 leaves it
		is   conduct.Outcome
		told int
	}{{0, conduct.Known, 0}, {0, conduct.Known, 0}, {3 * time.Hour, conduct.Skipped, 1}, {0, conduct.Known, 1}, {0, conduct.Done, 1}, {0, conduct.Known, 1},
		{-24 * time.Hour, conduct.Known, 1}, {3 * time.Hour, conduct.Known, 2}} {
		if c.ago != 0 {
			last(c.ago)
		}
		if got := carryOut(c.is); got != c.told {
			t.Errorf("%d: told %d times, not %d", i, got, c.told)
		}
		if i == 5 {
			time.Sleep(time.Second) // so that the next moment is another
		}
	}
}

// TestChronicle writes the events of a run into the history, the log and the metrics.
func TestChronicle(t *testing.T) {
	history, err := runlog.Open(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "runs.db"), "")
	if err != nil {
		t.Fatal(err)
	}
	defer history.Close()
	var log bytes.Buffer
	c := &chronicle.Chronicle{Sheet: &runsheet.Sheet{Path: "day.yaml"}, By: "a test", History: history, Gauges: gauge.New(nil),
		Log: slog.New(slog.NewTextHandler(&log, nil))}
	began := time.Now()
	c.Begin(t.Context(), began)
	report := &write.Report{Table: "o.tides", SnapshotID: 7, Objects: []write.ObjectReport{{}}, Seconds: 1,
		Counts: write.Counts{RecordsRead: 10, RowsWritten: 9, RecordsQuarantined: 1},
		Drift:  []schema.Difference{{Kind: schema.Added, Column: "depth", Is: "double"}, {Kind: schema.Unfit, Column: "level", Was: "double", Records: 3}},
		Spread: []write.Spread{{Path: "area", Values: 9, Few: true, Texts: []string{"north"}}}}
	good := conduct.FeedResult{Feed: "tides", Outcome: conduct.Done, Reports: []*write.Report{report}, Tries: 1, Began: began, Ended: began,
		Unlike: []string{"9 rows; the last 20 runs had 900"}}
	bad := conduct.FeedResult{Feed: "log", Outcome: conduct.Failed, Err: errors.New("the store does not answer"), Tries: 3, Began: began, Ended: began}
	before := conduct.FeedResult{Feed: "stations", Outcome: conduct.Before}
	for _, e := range []conduct.Event{{Kind: conduct.FeedBegan, Feed: "tides"}, {Kind: conduct.FeedGoes, Feed: "tides", At: began, Progress: run.Event{
		Stage: run.Writing}}, {Kind: conduct.FeedRetry, Feed: "log", Try: 2, Err: bad.Err}, {Kind: conduct.FeedEnded, At: began.Add(time.Second),
		Feed: "tides", Result: &good}, {Kind: conduct.FeedEnded, Feed: "log", Result: &bad}, {Kind: conduct.FeedEnded, Feed: "stations", Result: &before},
		{Kind: conduct.FeedEnded, Feed: "other", Result: &conduct.FeedResult{Feed: "other", Outcome: conduct.Left}}} {
		c.Event(e)
	}
	result := &conduct.Result{Began: began, Ended: began, Feeds: []conduct.FeedResult{good, bad, before}}
	if err := c.End(result, nil); err != nil {
		t.Fatal(err)
	}
	e, err := history.Get(t.Context(), c.ID())
	if err != nil {
		t.Fatal(err)
	}
	feeds := map[string]runlog.Load{}
	for _, l := range e.Loads {
		feeds[l.Feed] = l
	}
	if l := feeds["tides"]; l.Table != "o.tides" || l.RowsWritten != 9 || l.Misfits != 3 || l.Snapshot != "7" || l.Outcome != "loaded" {
		t.Errorf("%+v", l)
	}
	if e.Outcome != "failed" || feeds["log"].Message != "the store does not answer" || feeds["log"].Tries != 3 || feeds["stations"].Outcome != "done_before" ||
		len(feeds) != 3 {
		t.Errorf("%+v", e)
	}
	var lines []string
	for _, l := range e.Log {
		lines = append(lines, l.Message)
	}
	for _, want := range []string{"drift: column depth is new, double", "unlike those before: 9 rows", "failed, and is tried again", "loaded table=o.tides"} {
		if !strings.Contains(strings.Join(lines, "\n"), want) || !strings.Contains(log.String(), strings.Fields(want)[0]) {
			t.Errorf("%s is not in\n%s", want, strings.Join(lines, "\n"))
		}
	}
	var metrics bytes.Buffer
	c.Gauges.Write(&metrics)
	for _, want := range []string{`trevak_rows_total{feed="tides"} 9`, `trevak_loads_total{feed="log",outcome="failed"} 1`,
		`trevak_stage_seconds_total{feed="tides",stage="writing"} 1`, `trevak_misfits_total{feed="tides"} 3`} {
		if !strings.Contains(metrics.String(), want) {
			t.Errorf("%s is not in\n%s", want, metrics.String())
		}
	}
	// What is told between runs has an entry of its own.
	c.Told(runsheet.Silent, "tides", "nothing arrived", map[string]any{})
	last, err := history.Last(t.Context(), "day.yaml")
	if err != nil || last.Outcome != "silent" || last.Message != "nothing arrived" || last.ID == e.ID {
		t.Errorf("%+v, %v", last, err)
	}
}
