package conduct_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"trevak/internal/conduct"
	"trevak/internal/fault"
	"trevak/internal/run"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// flaky fails to open objects a few times.
type flaky struct {
	storage.Store
	name string
	left atomic.Int64
	wait time.Duration
}

func (f *flaky) Open(ctx context.Context, o storage.Object) (storage.File, error) {
	if strings.Contains(o.URI, f.name) && f.left.Add(-1) >= 0 {
		select {
		case <-time.After(f.wait):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		return nil, fault.New(fault.Storage, "the store does not answer").In(o.URI)
	}
	return f.Store.Open(ctx, o)
}

// carryOut carries out a sheet in the working folder, and returns what became of each feed, in a line each.
func carryOut(t *testing.T, text string, o conduct.Options) (string, *conduct.Result, []conduct.Event) {
	t.Helper()
	disk := storage.Disk{}
	if err := storage.WriteAll(t.Context(), disk, "day.yaml", []byte(text), storage.Creation{Mode: storage.Replace}); err != nil {
		t.Fatal(err)
	}
	s, err := runsheet.Read(t.Context(), disk, "day.yaml", runsheet.Given{Env: func(string) string { return "" }, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	if o.Store == nil {
		o.Store = disk
	}
	if o.Warehouse, err = table.OpenWarehouse(disk, "warehouse"); err != nil {
		t.Fatal(err)
	}
	var events []conduct.Event
	o.Events = func(e conduct.Event) { events = append(events, e) }
	result, err := conduct.Conduct(t.Context(), s, o, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for _, f := range result.Feeds {
		line := f.Feed + " " + string(f.Outcome)
		for _, r := range f.Reports {
			line += fmt.Sprintf(" %s:%d", r.Table, r.RowsWritten)
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n"), result, events
}

func files(t *testing.T) {
	testfolder.Make(t, map[string]string{"stations/a.csv": "code,area\n1,north\n2,south\n", "tides/t1.csv": "at,height\n2031-05-03,1.5\n",
		"bad/b.csv": "code,area\n1,north,x\n2,south\n", "in/north/1.csv": "id,kind\n1,alert\n2,reading\n", "in/south/2.csv": "id,kind\n3,alert\n",
		"in/west/3.csv": "id,kind\n4,other\n5,\n"})
}

func TestOrderAndOutcomes(t *testing.T) {
	files(t)
	sheet := `sheet: 1
at_once: 2
retry: {times: 0}
feeds:
  - {name: last, source: {files: [tides]}, table: {into: o.last}, after: [bad]}
  - {name: tides, source: {files: [tides]}, table: {into: o.tides}, after: [stations]}
  - {name: bad, source: {files: [bad]}, table: {into: o.bad}}
  - {name: stations, source: {files: [stations]}, table: {into: o.stations}}
  - {name: none, source: {files: ["none/*.csv"]}, table: {into: o.none}, when: objects > 0}
  - {name: missing, source: {files: ["none/*.csv"]}, table: {into: o.missing}}
`
	got, result, events := carryOut(t, sheet, conduct.Options{})
	want := "last held_back\ntides loaded o.tides:1\nbad refused\nstations loaded o.stations:2\nnone skipped\nmissing failed"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if err := result.Worst(); fault.KindOf(err) != fault.Storage || !strings.Contains(err.Error(), "no file matches") {
		t.Errorf("%v", err)
	}
	place := map[string]int{}
	for i, e := range events {
		place[string(e.Kind)+" "+e.Feed] = i
	}
	if place["feed_began tides"] < place["feed_ended stations"] {
		t.Error("a feed began before the one that it comes after had ended")
	}
	// Again: what is done is known, and what was refused is so still.
	got, _, _ = carryOut(t, sheet, conduct.Options{})
	if want := strings.NewReplacer("tides loaded o.tides:1", "tides nothing_new o.tides:0", "loaded o.stations:2", "nothing_new o.stations:0").
		Replace(want); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got, _, _ = carryOut(t, sheet, conduct.Options{Only: []string{"stations"}, From: "tides"}); !strings.Contains(got, "stations left_out") {
		t.Errorf("%s", got)
	}
	if got, _, _ = carryOut(t, sheet, conduct.Options{Before: map[string]bool{"bad": true}, DryRun: true}); !strings.HasPrefix(got, "last loaded o.last:1") ||
		!strings.Contains(got, "bad done_before") {
		t.Errorf("%s", got)
	}
}

func TestRetriesAndTimeouts(t *testing.T) {
	files(t)
	sheet := `sheet: 1
retry: {times: 2, wait: 10ms}
feeds:
  - {name: tides, source: {files: [tides]}, table: {into: o.tides}}
  - {name: stations, source: {files: [stations]}, table: {into: o.stations}}
`
	store := &flaky{Store: storage.Disk{}, name: "t1.csv"}
	store.left.Store(2)
	got, result, events := carryOut(t, sheet, conduct.Options{Store: store})
	tries := 0
	for _, e := range events {
		if e.Kind == conduct.FeedRetry {
			tries++
		}
	}
	if got != "tides loaded o.tides:1\nstations loaded o.stations:2" || tries == 0 || result.Feeds[0].Tries != tries+1 {
		t.Errorf("%s, %d tries", got, tries)
	}
	slow := &flaky{Store: storage.Disk{}, name: "a.csv", wait: time.Minute}
	slow.left.Store(100)
	testfolder.Make(t, map[string]string{"stations/a.csv": "code\n1\n", "tides/t1.csv": "at\n1\n"})
	sheet = strings.Replace(sheet, "into: o.stations}", "into: o.stations}, timeout: 50ms", 1)
	got, result, _ = carryOut(t, sheet, conduct.Options{Store: slow})
	if !strings.Contains(got, "stations failed") || !strings.Contains(result.Worst().Error(), "took longer than 50ms") {
		t.Errorf("%s: %v", got, result.Worst())
	}
}

func TestGroupsAreAllOrNone(t *testing.T) {
	files(t)
	sheet := `sheet: 1
retry: {times: 0}
feeds:
  - {name: tides, source: {files: [tides]}, table: {into: o.tides}, group: g}
  - {name: bad, source: {files: [bad]}, table: {into: o.bad}, group: g}
  - {name: stations, source: {files: [stations]}, table: {into: o.stations}, group: h}
  - {name: again, source: {files: [stations]}, table: {into: o.again}, group: h}
`
	got, result, _ := carryOut(t, sheet, conduct.Options{})
	if got != "tides held_back\nbad refused\nstations loaded o.stations:2\nagain loaded o.again:2" {
		t.Errorf("%s", got)
	}
	if !strings.Contains(result.Feeds[0].Why, "all or none, and bad was not") {
		t.Errorf("%s", result.Feeds[0].Why)
	}
	w, err := table.OpenWarehouse(storage.Disk{}, "warehouse")
	if err != nil {
		t.Fatal(err)
	}
	if names, err := w.Names(t.Context()); err != nil || len(names) != 2 {
		t.Errorf("%v, %v", names, err)
	}
}

func TestRoutes(t *testing.T) {
	files(t)
	byObjects := `sheet: 1
feeds:
  - name: in
    source: {files: [in]}
    add: {batch: 7}
    routes:
      - {objects: 'north/*', table: {into: o.north}, add: {area: north}}
      - {objects: '*2.csv', table: {into: o.south}}
      - {rest: true, table: {into: o.rest}}
`
	if got, _, _ := carryOut(t, byObjects, conduct.Options{}); got != "in loaded o.north:2 o.south:1 o.rest:2" {
		t.Errorf("%s", got)
	}
	dropped := strings.ReplaceAll(strings.Replace(byObjects, "{rest: true, table: {into: o.rest}}", "rest: drop", 1), "into: o.", "into: p.")
	got, result, _ := carryOut(t, dropped, conduct.Options{})
	if got != "in loaded p.north:2 p.south:1" || result.Feeds[0].Dropped != 1 {
		t.Errorf("%s, %d dropped", got, result.Feeds[0].Dropped)
	}
	overlap := strings.Replace(byObjects, "'*2.csv'", "'in/*/*'", 1)
	if got, result, _ := carryOut(t, overlap, conduct.Options{}); got != "in failed" || !strings.Contains(result.Worst().Error(), "two routes of the feed in take it") {
		t.Errorf("%s: %v", got, result.Worst())
	}
	// A record goes where the first condition holds; one for which none is known goes to the rest.
	byRecords := `sheet: 1
feeds:
  - name: in
    source: {files: [in]}
    routes:
      - {records: kind = 'alert', table: {into: q.alerts}}
      - {records: id > 1, table: {into: q.others}}
      - {rest: true, table: {into: q.rest}}
`
	if got, _, _ := carryOut(t, byRecords, conduct.Options{}); got != "in loaded q.alerts:2 q.others:3 q.rest:0" {
		t.Errorf("%s", got)
	}
	if got, _, _ := carryOut(t, byRecords, conduct.Options{}); got != "in nothing_new q.alerts:0 q.others:0 q.rest:0" {
		t.Errorf("%s", got)
	}
}

// TestJudged is asked before each commit, and may stop it.
func TestJudged(t *testing.T) {
	files(t)
	sheet := "sheet: 1\nunlike: UNLIKE\nfeeds:\n  - {name: stations, source: {files: [stations]}, table: {into: o.UNLIKE}}\n"
	judge := func(_ context.Context, f *runsheet.Feed, r *write.Report) ([]string, error) {
		if r.RowsWritten != 2 {
			return nil, errors.New("the account is not that of the load")
		}
		return []string{"2 rows; the last 20 runs had 900"}, nil
	}
	for unlike, want := range map[string]string{"stop": "stations refused", "tell": "stations loaded o.tell:2", "off": "stations loaded o.off:2"} {
		got, result, _ := carryOut(t, strings.ReplaceAll(sheet, "UNLIKE", unlike), conduct.Options{Judge: judge})
		if got != want || (unlike == "tell") != (len(result.Feeds[0].Unlike) == 1 && result.Feeds[0].Err == nil) {
			t.Errorf("%s: %s, %+v", unlike, got, result.Feeds[0])
		}
	}
}

func TestCheck(t *testing.T) {
	files(t)
	sheet := `sheet: 1
feeds:
  - {name: tides, source: {files: [tides]}, table: {into: o.tides}}
  - {name: none, source: {files: ["none/*"]}, table: {into: o.none}, when: objects > 0}
  - {name: wrong, source: {files: [stations]}, table: {into: o.wrong}, shape: {where: depth > 3}}
  - {name: missing, source: {files: ["none/*"]}, table: {into: o.missing}}
  - {name: file, file: f.yaml, table: {into: bad name}}
  - {name: infile, file: f.yaml}
`
	disk := storage.Disk{}
	if err := storage.WriteAll(t.Context(), disk, "day.yaml", []byte(sheet), storage.Creation{}); err != nil {
		t.Fatal(err)
	}
	if err := storage.WriteAll(t.Context(), disk, "f.yaml", []byte("feed: 1\nsource: {files: [tides]}\ntable: {into: o.f, mode: twice}\n"),
		storage.Creation{}); err != nil {
		t.Fatal(err)
	}
	s, err := runsheet.Read(t.Context(), disk, "day.yaml", runsheet.Given{Env: func(string) string { return "" }, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	w, err := table.OpenWarehouse(disk, "warehouse")
	if err != nil {
		t.Fatal(err)
	}
	list, err := conduct.Check(t.Context(), s, conduct.Options{Store: disk, Warehouse: w}, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	if list[0].Err != nil || list[0].Objects != 1 || list[0].Tables[0] != "o.tides" || list[1].Why == "" || list[2].Err == nil || list[3].Err == nil {
		t.Errorf("%+v", list)
	}
	var e *fault.Error
	if !errors.As(list[2].Err, &e) || e.Line != 5 || !strings.Contains(e.Error(), "depth") {
		t.Errorf("%v", list[2].Err)
	}
	for i, want := range map[int]string{4: "day.yaml:7: ", 5: "f.yaml:3: the key table.mode twice"} {
		if got := list[i].Err; got == nil || !strings.HasPrefix(got.Error(), want) {
			t.Errorf("%v, want %s", got, want)
		}
	}
	if names, err := w.Names(t.Context()); err != nil || len(names) != 0 {
		t.Errorf("a look at a sheet made %v, %v", names, err)
	}
}
