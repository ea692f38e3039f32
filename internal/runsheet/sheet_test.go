package runsheet

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// moment is when the tests run.
var moment = time.Date(2031, 5, 3, 6, 30, 0, 0, time.UTC)

func given(stated ...string) Given {
	in := Given{Stated: map[string]string{}, Env: func(string) string { return "" }, Now: moment}
	for i := 0; i+1 < len(stated); i += 2 {
		in.Stated[stated[i]] = stated[i+1]
	}
	return in
}

// read reads a sheet's text, beside a feed file of the tides.
func read(t testing.TB, text string, in Given) (*Sheet, error) {
	t.Helper()
	s := storage.NewMemory()
	for name, content := range map[string]string{"mem://office/day.yaml": text,
		"mem://office/tides.feed.yaml": "feed: 1\nsource: {files: [tides/$(day).tsv]}\nreading: {delimiter: tab}\ntable: {into: orrin.tides}\n"} {
		if err := storage.WriteAll(t.Context(), s, name, []byte(content), storage.Creation{}); err != nil {
			t.Fatal(err)
		}
	}
	return Read(t.Context(), s, "mem://office/day.yaml", in)
}

const sample = `sheet: 1
meaning: The morning of the harbour office.
parameters:
  day: {type: date, usual: today - 1, from: DAY, meaning: the day that is loaded}
  area: {words: [north, south], usual: north}
  depth: {type: whole, usual: 40}
at_once: 2
timeout: 1h
retry: {times: 3, wait: 2s, factor: 3, most: 10s}
unlike: stop
tell:
  - {url: "https://office.example/events", secret_from: "env:SECRET", of: [failed, drift]}
arrival: {order: time, settle: 2s, marker: "{name}.done", every: 1m, gather: 5s, bytes: 64MiB, tries: 2, again: 10s}
usual:
  table: {drift: hold}
  limits: {tolerate: 1%}
feeds:
  - name: tides
    file: tides.feed.yaml
    after: [stations]
    mask: [crew_note]
  - name: stations
    source: {files: ["stations/$(area)/*.csv"]}
    shape: {where: water_depth > $(depth + 2)}
    limits: {max_columns: $(depth), tolerate: $(depth)}
    table: {into: orrin.stations, drift: grow}
    when: objects > 0
    silent_after: 26h
    add: {batch: $(day), number: 7, note: it's}
  - name: observations
    source: {files: [observations]}
    routes:
      - objects: '*north*'
        table: {into: orrin.north}
      - objects: '*south*'
        table: {into: orrin.south, drift: stop}
        add: {area: south}
      - rest: drop
`

func TestSheet(t *testing.T) {
	s, err := read(t, sample, given())
	if err != nil {
		t.Fatal(err)
	}
	tides, stations, observations := s.Feeds[0], s.Feeds[1], s.Feeds[2]
	for _, c := range []struct{ got, want any }{
		{s.AtOnce, 2}, {s.Timeout, time.Hour}, {len(s.Tell), 1}, {s.Tell[0].Of[1], "drift"}, {s.Arrival.Bytes, int64(64 << 20)},
		{s.Arrival.Marker, "{name}.done"}, {tides.One("source.files"), "tides/2031-05-02.tsv"}, {tides.One("table.drift"), "hold"},
		{tides.One("limits.tolerate"), "1%"}, {tides.One("mask"), "crew_note"}, {tides.One("reading.delimiter"), "tab"},
		{stations.One("shape.where"), "water_depth > 42"}, {stations.One("limits.max_columns"), "40"}, {stations.One("limits.tolerate"), "40"},
		{stations.One("table.drift"), "grow"}, {stations.Silent, 26 * time.Hour},
		{stations.One("source.files"), "stations/north/*.csv"}, {stations.Retry, Retry{3, 2 * time.Second, 3, 10 * time.Second}},
		{fmt.Sprint(stations.Add), "[{batch 2031-05-02 date} {number 7 whole} {note it's text}]"}, {observations.Unlike, "stop"},
		{observations.Routes[1].One("table.drift"), "stop"}, {observations.Routes[0].One("table.drift"), "hold"},
		{observations.Routes[2].Drop, true}, {observations.ByRecords(), false},
		{stations.Retry.Delay(1), 2 * time.Second}, {stations.Retry.Delay(2), 6 * time.Second}, {stations.Retry.Delay(9), 10 * time.Second},
	} {
		if c.got != c.want {
			t.Errorf("got %v, want %v", c.got, c.want)
		}
	}
	units, err := s.Units()
	if err != nil || len(units) != 3 || units[0].Feeds[0].Name != "stations" || units[1].Feeds[0].Name != "tides" || units[1].After[0] != 0 {
		t.Errorf("%+v, %v", units, err)
	}
	if s, err = read(t, sample, given("day", "2031-01-31", "area", "south")); err != nil || s.Feeds[0].One("source.files") != "tides/2031-01-31.tsv" ||
		s.Feeds[1].One("source.files") != "stations/south/*.csv" {
		t.Errorf("%v, %v", s, err)
	}
	in := given()
	in.Env = func(name string) string { return map[string]string{"DAY": "2030-12-24"}[name] }
	if s, err = read(t, sample, in); err != nil || s.Values["day"].Text != "2030-12-24" {
		t.Errorf("%v, %v", s, err)
	}
}

// TestWrongSheets names the line, and says what to do.
func TestWrongSheets(t *testing.T) {
	for _, c := range []struct {
		from, to, want string
		line           int64
	}{
		{"sheet: 1", "sheet: 2", "this file says", 1},
		{"sheet: 1", "feed: 1", "is a feed file, and no run sheet; load by it with --feed", 1},
		{"sheet: 1", "sheet: [1", "is no YAML here", 0},
		{"at_once: 2", "at_ounce: 2", `the key "at_ounce" is not known here; the nearest name is at_once`, 7},
		{"at_once: 2", "at_once: 0", "takes a whole number", 7},
		{"timeout: 1h", "timeout: soon", "takes a length of time", 8},
		{"after: [stations]", "after: [station]", "comes after station, which is no feed", 18},
		{"after: [stations]", "after: [tides]", "waits for itself", 18},
		{"file: tides.feed.yaml", "file: none.yaml", "cannot be read", 19},
		{"name: observations", "name: tides", "is there twice", 30},
		{"      - rest: drop\n", "", "leave open where the rest goes", 35},
		{"into: orrin.south", "into: orrin.north", "two routes of the feed observations go to the table orrin.north, the first in line 33", 35},
		{"$(depth + 2)", "$(dept + 2)", "there is no parameter dept; the nearest name is depth", 24},
		{"$(depth + 2)", "$(area + 2)", "it is a text, to which nothing can be added", 24},
		{"drift: grow", "drfit: grow", `the key "drfit" is not known here`, 26},
		{"usual: today - 1", "usual: yesterday", "there is no parameter yesterday", 4},
		{"of: [failed, drift]", "of: [failure]", `no events of the kind "failure"`, 12},
		{"unlike: stop", "unlike: shout", `does not take "shout"`, 10},
		{"objects: '*north*'", "records: area = 'north'", "by objects and by records", 33},
		{"when: objects > 0", "when: objects > 0\n    when: objects > 1", "is there twice", 0},
		{"words: [north, south], usual: north", "words: [north, south], usual: west", "does not take", 5},
	} {
		if !strings.Contains(sample, c.from) {
			t.Fatalf("%q is not in the sample", c.from)
		}
		_, err := read(t, strings.Replace(sample, c.from, c.to, 1), given())
		var e *fault.Error
		if !errors.As(err, &e) || e.Kind != fault.Usage || !strings.Contains(err.Error(), c.want) || c.line > 0 && e.Line != c.line ||
			e.Object == "" {
			t.Errorf("%s: %v, want %q in line %d", c.to, err, c.want, c.line)
		}
	}
}

// TestParametersWithoutValues are all named before anything runs.
func TestParametersWithoutValues(t *testing.T) {
	text := "sheet: 1\nparameters:\n  day: {type: date}\n  area: {}\n  depth: {type: whole, usual: 4}\nfeeds:\n" +
		"  - {name: a, source: {files: [x]}, table: {into: a.b}}\n"
	_, err := read(t, text, given())
	if err == nil || !strings.Contains(err.Error(), "2 parameters are without a value: day, area; state --set day=date --set area=text") {
		t.Errorf("%v", err)
	}
	for _, c := range []struct{ name, value, want string }{{"day", "soon", "is a date, and \"soon\" is none"}, {"dya", "x", "the nearest name is day"}} {
		if _, err := read(t, text, given(c.name, c.value, "area", "x")); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

func TestExpand(t *testing.T) {
	v := Values{"day": {Type: Date, Text: "2031-03-31", time: time.Date(2031, 3, 31, 0, 0, 0, 0, time.UTC)}, "n": {Type: Whole, Text: "7"},
		"at": {Type: Timestamp, Text: "2031-05-03T06:00:00Z", time: moment.Truncate(time.Hour)}, "area": {Type: Text, Text: "north"}}
	for text, want := range map[string]string{
		"x": "x", "$(day)": "2031-03-31", "a/$(day - 1)/$(area)": "a/2031-03-30/north", "$(day - 1 month)": "2031-02-28",
		"$(day + 1 month as %Y/%m)": "2031/04", "$(day + 2 weeks)": "2031-04-14", "$(day - 1 year as %y%j)": "30090", "$(n + 3)": "10",
		"$(n - n)": "0", "$(at + 90 minutes)": "2031-05-03T07:30:00Z", "$(at - 1 day as %F %T)": "2031-05-02 06:00:00", "$$(day)": "$(day)",
		"$(day as %A, %d %B)": "Monday, 31 March", "$(day - n days)": "2031-03-24", "5 $ and (x)": "5 $ and (x)", "$(day as %G-W%V)": "2031-W14",
	} {
		if got, err := v.Expand(text); err != nil || got != want {
			t.Errorf("%s: %q, %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{"$(day": "has no end", "$(none)": "there is no parameter none", "$()": "does not begin with",
		"$(area as %Y)": "only dates and times", "$(day as %Q)": "%Q, which is not known", "$(day + 1 hour)": "has no hours",
		"$(day + area)": "cannot be added", "$(at + 1)": "has a unit", "$(day * 2)": `"* 2" is not understood`, "$(day + 99999999999)": "too large",
		"$(day + 9999999 days)": "the year"} {
		if got, err := v.Expand(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %q, %v, want %q", text, got, err, want)
		}
	}
}

func TestGroups(t *testing.T) {
	text := "sheet: 1\nfeeds:\n  - {name: a, source: {files: [x]}, table: {into: a.a}, group: g, after: c}\n" +
		"  - {name: b, source: {files: [x]}, table: {into: a.b}, group: g}\n  - {name: c, source: {files: [x]}, table: {into: a.c}}\n"
	s, err := read(t, text, given())
	if err != nil {
		t.Fatal(err)
	}
	units, err := s.Units()
	if err != nil || len(units) != 2 || units[0].Feeds[0].Name != "c" || len(units[1].Feeds) != 2 {
		t.Errorf("%+v, %v", units, err)
	}
	if _, err := read(t, strings.Replace(text, "a.b", "a.a", 1), given()); err == nil || !strings.Contains(err.Error(), "both go to the table a.a") {
		t.Errorf("%v", err)
	}
	if _, err := read(t, strings.Replace(text, "after: c", "after: b", 1), given()); err == nil || !strings.Contains(err.Error(), "loaded together") {
		t.Errorf("%v", err)
	}
}

func TestHolds(t *testing.T) {
	for condition, want := range map[string]bool{"objects > 0": true, "new >= 3": false, "bytes / 2 > 10 AND objects = 2": true} {
		if got, err := Holds(condition, Facts{Objects: 2, New: 1, Bytes: 30}); err != nil || got != want {
			t.Errorf("%s: %v, %v", condition, got, err)
		}
	}
	for _, condition := range []string{"objects", "files > 0", "objects >", "1 / (objects - 2) > 0"} {
		if _, err := Holds(condition, Facts{Objects: 2}); fault.KindOf(err) != fault.Usage {
			t.Errorf("%s: %v", condition, err)
		}
	}
}

// FuzzRead reads any text, and never fails but by an error.
func FuzzRead(f *testing.F) {
	f.Add(sample)
	f.Add("sheet: 1\nparameters:\n  a: $(a)\nfeeds: [{name: x, add: {a: 1}, routes: [{rest: true}]}]")
	f.Add("sheet: 1\nfeeds:\n  - name: |\n      $(today as %Y)\n")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := read(t, text, given())
		if err == nil && len(s.Feeds) == 0 {
			t.Error("a sheet without feeds")
		}
	})
}

// FuzzExpand expands any text; what has no parameter stays as it is.
func FuzzExpand(f *testing.F) {
	for _, text := range []string{"$(today - 1 month as %Y)", "$$(", "$(now + 2 hours)", "$(today as %"} {
		f.Add(text)
	}
	v, err := Resolve(nil, given())
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if got, err := v.Expand(text); !strings.Contains(text, "$(") && (err != nil || got != text) {
			t.Errorf("%q became %q, %v", text, got, err)
		}
	})
}
