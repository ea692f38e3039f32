package runlog_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/runlog"
)

var moment = time.Date(2031, 5, 3, 6, 0, 0, 0, time.UTC)

func open(t *testing.T, path string) *runlog.Log {
	t.Helper()
	l, err := runlog.Open(t.Context(), "sqlite:"+path, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l
}

// note notes a run of one load.
func note(t *testing.T, l *runlog.Log, n int, load runlog.Load, outcome string) int64 {
	t.Helper()
	at := moment.Add(time.Duration(n) * time.Hour)
	r, err := l.Begin(t.Context(), runlog.Start{Sheet: "day.yaml", At: at, By: "a test", Process: "here:1",
		Parameters: []runlog.Parameter{{Name: "day", Value: "2031-05-03"}, {Name: "text", Value: "a=b\nc\\"}}})
	if err != nil {
		t.Fatal(err)
	}
	r.Say(at, "INFO", load.Feed, "begins")
	load.Began, load.Outcome = at, outcome
	if err := r.Feed(t.Context(), load); err != nil {
		t.Fatal(err)
	}
	r.Say(at, "WARN", load.Feed, "ends")
	if err := r.End(t.Context(), at.Add(time.Minute), outcome, "said"); err != nil {
		t.Fatal(err)
	}
	return r.ID
}

func TestRunsReadBack(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "runs.db"))
	load := runlog.Load{Feed: "tides", Table: "orrin.tides", Seconds: 1.5, Tries: 2, Objects: 3, RecordsRead: 10, RowsWritten: 9, BytesRead: 100,
		BytesWritten: 50, RecordsQuarantined: 1, Misfits: 2, Snapshot: "77", Quarantine: "q.ndjson", Message: "m"}
	first := note(t, l, 0, load, "loaded")
	second := note(t, l, 1, load, "refused")
	if _, err := l.Begin(t.Context(), runlog.Start{Sheet: "other.yaml", At: moment.Add(2 * time.Hour)}); err != nil {
		t.Fatal(err)
	}
	e, err := l.Get(t.Context(), first)
	if err != nil {
		t.Fatal(err)
	}
	load.Began, load.Outcome = moment, "loaded"
	if got := fmt.Sprintf("%+v", e.Loads); got != fmt.Sprintf("%+v", []runlog.Load{load}) {
		t.Errorf("%s", got)
	}
	if len(e.Log) != 2 || e.Log[1].Message != "ends" || e.Parameters[1].Value != "a=b\nc\\" || !e.Ended.Equal(moment.Add(time.Minute)) ||
		e.Outcome != "loaded" || e.Rows != 9 || e.Message != "said" {
		t.Errorf("%+v", e)
	}
	for _, c := range []struct {
		filter runlog.Filter
		want   []int64
	}{{runlog.Filter{}, []int64{3, second, first}}, {runlog.Filter{Failed: true}, []int64{3, second}}, {runlog.Filter{Feed: "tides"}, []int64{second, first}},
		{runlog.Filter{Since: moment.Add(90 * time.Minute)}, []int64{3}}, {runlog.Filter{Most: 1}, []int64{3}},
		{runlog.Filter{Sheet: "day.yaml", Most: 1}, []int64{second}}, {runlog.Filter{Feed: "none"}, nil}} {
		list, err := l.List(t.Context(), c.filter)
		var got []int64
		for _, e := range list {
			got = append(got, e.ID)
		}
		if err != nil || fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("%+v: %v, %v", c.filter, got, err)
		}
	}
	if _, err := l.Get(t.Context(), 99); err == nil {
		t.Error("a run that is not there was found")
	}
	if last, err := l.Last(t.Context(), "day.yaml"); err != nil || last.ID != second {
		t.Errorf("%+v, %v", last, err)
	}
}

func TestUnlike(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "runs.db"))
	of := func(rows int64, nulls int64, texts ...string) runlog.Load {
		return runlog.Load{Feed: "tides", Table: "orrin.tides", RowsWritten: rows, BytesRead: 10 * rows,
			Columns: []runlog.Column{{Name: "area", Values: rows - nulls, Nulls: nulls, Few: true, Texts: texts}, {Name: "note", Values: rows}}}
	}
	for i := range 4 {
		note(t, l, i, of(1000+int64(i), 10, "north", "south"), "loaded")
	}
	if list, err := l.Unlike(t.Context(), of(1, 0, "west"), false); err != nil || len(list) > 0 {
		t.Errorf("after four runs there is nothing to be unlike: %q, %v", list, err)
	}
	note(t, l, 4, of(1200, 12, "north"), "loaded")
	note(t, l, 5, of(1, 1), "refused") // counts for nothing
	for _, c := range []struct {
		load runlog.Load
		want []string
	}{
		{of(1100, 11, "north", "south"), nil}, {of(1300, 11, "north"), nil},
		{of(300, 3, "north"), []string{"300 rows; the last 5 runs had 1,000 to 1,200", "3,000 bytes; the last 5 runs had 10,000 to 12,000"}},
		{of(1100, 400, "north"), []string{"column area: 36.4 % nulls; the last 5 runs had 1.0 to 1.0 %"}},
		{of(1100, 11, "north", "west", "gone"), []string{`column area has "west", "gone", which the last 5 runs did not have`}},
		{runlog.Load{Feed: "other", Table: "orrin.tides", RowsWritten: 1}, nil},
	} {
		got, err := l.Unlike(t.Context(), c.load, false)
		if err != nil || strings.Join(got, "|") != strings.Join(c.want, "|") {
			t.Errorf("%d rows: %q, %v, want %q", c.load.RowsWritten, got, err, c.want)
		}
	}
}

// TestUnlikeAnObject holds what is gathered against what an object had before.
func TestUnlikeAnObject(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "runs.db"))
	of := func(objects, rows int64) runlog.Load {
		return runlog.Load{Feed: "tides", Table: "orrin.tides", Objects: objects, RowsWritten: rows, BytesRead: 10 * rows}
	}
	for i, n := range []int64{1, 7, 2, 40, 3} {
		note(t, l, i, of(n, 100*n+n), "loaded")
	}
	if got, err := l.Unlike(t.Context(), of(90, 9000), true); err != nil || len(got) > 0 {
		t.Errorf("%q, %v", got, err)
	}
	if got, err := l.Unlike(t.Context(), of(2, 20), true); err != nil || len(got) != 2 || got[0] != "10 rows an object; the last 5 runs had 101" {
		t.Errorf("%q, %v", got, err)
	}
}

func TestLockAndWaiting(t *testing.T) {
	path := filepath.Join(t.TempDir(), "runs.db")
	a, b := open(t, path), open(t, path)
	release, err := a.Lock(t.Context(), "day.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Lock(t.Context(), "day.yaml"); !errors.Is(err, runlog.ErrHeld) {
		t.Errorf("%v", err)
	}
	if other, err := b.Lock(t.Context(), "night.yaml"); err != nil {
		t.Errorf("%v", err)
	} else {
		other()
	}
	release()
	if again, err := b.Lock(t.Context(), "day.yaml"); err != nil {
		t.Errorf("%v", err)
	} else {
		again()
	}
	for tries := 1; tries <= 2; tries++ {
		w := runlog.Waiting{Object: "in/a.csv", Version: "1", Tries: tries, Reason: "it is refused", Since: moment, Aside: tries == 2}
		if err := a.Wait(t.Context(), "day.yaml", "tides", w); err != nil {
			t.Fatal(err)
		}
	}
	list, err := b.Waiting(t.Context(), "day.yaml", "")
	if err != nil || len(list) != 1 || !list[0].Aside || list[0].Tries != 2 || !list[0].Since.Equal(moment) {
		t.Errorf("%+v, %v", list, err)
	}
	if err := a.Arrived(t.Context(), "day.yaml", "tides", "in/a.csv"); err != nil {
		t.Fatal(err)
	}
	if list, _ := b.Waiting(t.Context(), "day.yaml", "tides"); len(list) != 0 {
		t.Errorf("%+v", list)
	}
	for _, place := range []string{"first", "second"} {
		if err := a.SetPlace(t.Context(), "day.yaml", "tides", "last", place); err != nil {
			t.Fatal(err)
		}
	}
	if place, err := b.Place(t.Context(), "day.yaml", "tides", "last"); err != nil || place != "second" {
		t.Errorf("%q, %v", place, err)
	}
}
