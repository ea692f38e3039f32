package cli

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// outcomes are those of the feeds of a run whose events were written as JSON, and the outcome of the run.
func outcomes(t *testing.T, out string) (feeds map[string]string, whole string) {
	t.Helper()
	feeds = map[string]string{}
	for line := range strings.Lines(out) {
		var e struct{ Event, Feed, Outcome cell }
		decode(t, line, &e)
		switch e.Event {
		case "feed_ended":
			feeds[string(e.Feed)] = string(e.Outcome)
		case "run_ended":
			whole = string(e.Outcome)
		}
	}
	return feeds, whole
}

// TestSheetOfManyFeeds has 40 feeds of which 3 fail, each in its own way; the others are loaded, and what fails is mended and continued.
func TestSheetOfManyFeeds(t *testing.T) {
	contents := map[string]string{}
	sheet := "sheet: 1\nat_once: 3\nretry: {times: 1, wait: 10ms}\nparameters:\n  day: {type: date}\nfeeds:\n"
	for i := range 40 {
		contents[fmt.Sprintf("in/f%02d/2031-05-03.csv", i)] = fmt.Sprintf("id,name\n%d,a\n%d,b\n", i, i+1)
		after := ""
		if i > 0 && i%10 != 0 {
			after = fmt.Sprintf(", after: f%02d", i-1)
		}
		sheet += fmt.Sprintf("  - {name: f%02d, source: {files: [\"in/f%02d/$(day).csv\"]}, table: {into: o.f%02d}%s}\n", i, i, i, after)
	}
	contents["in/f07/2031-05-03.csv"] = "id,name\n1,a,b\n2\n"
	delete(contents, "in/f18/2031-05-03.csv")
	contents["in/f29/2031-05-03.csv"] = "\x1f\x8b\x08 broken"
	contents["day.yaml"] = sheet
	testfolder.Make(t, contents)
	refused(t, 2, []string{"run", "day.yaml"}, "1 parameter is without a value: day")
	r := trevak(t, "run", "day.yaml", "--set", "day=2031-05-03", "-o", "json")
	feeds, whole := outcomes(t, r.out)
	counts := map[string]int{}
	for _, o := range feeds {
		counts[o]++
	}
	if r.code != 1 || whole != "failed" || counts["refused"] != 2 || counts["failed"] != 1 || counts["held_back"] != 3 || counts["loaded"] != 34 {
		t.Errorf("exit %d, %s, %v", r.code, whole, counts)
	}
	// What is mended is done by going on, and nothing else.
	if err := os.Mkdir("in/f18", 0o755); err != nil {
		t.Fatal(err)
	}
	for _, i := range []int{7, 18, 29} {
		if err := os.WriteFile(fmt.Sprintf("in/f%02d/2031-05-03.csv", i), []byte("id,name\n1,a\n2,b\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	feeds, whole = outcomes(t, must(t, []string{"run", "day.yaml", "--continue", "-o", "json"}).out)
	counts = map[string]int{}
	for _, o := range feeds {
		counts[o]++
	}
	if whole != "loaded" || counts["loaded"] != 6 || counts["done_before"] != 34 {
		t.Errorf("%s, %v", whole, counts)
	}
	refused(t, 2, []string{"run", "day.yaml", "--continue"}, "ended well, so there is nothing to continue")
	if out := must(t, []string{"tables"}).out; strings.Count(out, "o.f") != 40 {
		t.Errorf("%s", out)
	}
	must(t, []string{"runs"}, "FAILED", "loaded", "trevak run")
	var one struct {
		Parameters []struct{ Name, Value string }
		Loads      []struct{ Feed, Outcome, Message cell }
	}
	decode(t, must(t, []string{"runs", "1", "-o", "json"}).out, &one)
	if len(one.Loads) != 40 || one.Parameters[0].Value != "2031-05-03" {
		t.Errorf("%+v", one)
	}
	must(t, []string{"runs", "--feed", "f07", "--failed"}, "REFUSED")
	must(t, []string{"run", "day.yaml", "--set", "day=2031-05-03", "--only", "f03"}, "f03", "nothing new", "39 left out")
}

// TestRunChecks finds what is wrong with a sheet without touching data.
func TestRunChecks(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "day.yaml": `sheet: 1
feeds:
  - {name: good, source: {files: [r.csv]}, table: {into: o.good}}
  - {name: column, source: {files: [r.csv]}, table: {into: o.column}, drop: [no such column]}
  - {name: nothing, source: {files: ["none/*.csv"]}, table: {into: o.nothing}}
`, "wrong.yaml": "sheet: 1\nfeeds:\n  - {name: good, soruce: {files: [r.csv]}}\n"})
	r := trevak(t, "run", "day.yaml", "--check")
	if r.code != 2 || !strings.Contains(r.out, "day.yaml:4:") || strings.Count(r.out, "WRONG") != 2 || !strings.Contains(r.out, "no file matches") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	refused(t, 2, []string{"run", "wrong.yaml", "--check"}, `wrong.yaml:3: the key "soruce" is not known here; the nearest name is source`)
	refused(t, 1, []string{"run", "none.yaml"}, "cannot be read")
	refused(t, 2, []string{"run", "day.yaml", "--only", "god"}, "has no feed god")
	refused(t, 2, []string{"run", "day.yaml", "--set", "x=1"}, "has no parameter x")
	if _, err := os.Stat("warehouse"); err == nil {
		t.Error("checks made a warehouse")
	}
	if r := trevak(t, "run", "day.yaml", "--dry-run"); !strings.Contains(r.out, "nothing was written") || r.code != 2 {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if _, err := os.Stat("warehouse"); err == nil {
		t.Error("a dry run made a warehouse")
	}
}

// TestMaskedRun keeps values out of everything that is told, and the quarantine file sealed.
func TestMaskedRun(t *testing.T) {
	const secret = "Goldfinch"
	testfolder.Make(t, map[string]string{"crew.csv": "id,crew note\n1," + secret + "\n2,\"" + secret + " Nest\n", "first.csv": "id,crew note\n1,2\n",
		"day.yaml": "sheet: 1\nusual: {mask: [crew_note], limits: {tolerate: 1, quarantine_as: none}}\nfeeds:\n" +
			"  - {name: first, source: {files: [first.csv]}, table: {into: o.crew}}\n" +
			"  - {name: crew, after: first, source: {files: [crew.csv]}, table: {into: o.crew, drift: stop}}\n"})
	all := ""
	for _, args := range [][]string{{"run", "day.yaml", "--log", "text"}, {"run", "day.yaml", "-o", "json"}, {"runs", "1"}, {"runs", "2", "-o", "json"},
		{"preview", "crew.csv", "--mask", "crew note"}, {"infer", "crew.csv", "--mask", "all", "--evidence"}, {"preview", "crew.csv", "--mask", "all", "-o", "json"},
		{"infer", "crew.csv", "--mask", "crew_note", "-o", "json"}, {"convert", "crew.csv", "--to", "x.parquet", "--mask", "all", "--type", "crew note=long",
			"--quarantine-as", "none"}, {"infer", "crew.csv", "--mask", "crew note", "--report", "i.html"},
		{"weigh", "crew.csv", "--mask", "crew note", "--report", "w.html"}, {"load", "crew.csv", "--into", "o.page", "--mask", "all", "--report", "l.html"},
		{"reconcile", "crew.csv", "--with", "o.page", "--mask", "crew_note"}, {"reconcile", "first.csv", "--with", "o.page", "--mask", "crew_note"}} {
		r := trevak(t, args...)
		all += r.out + r.err
		if strings.Contains(r.out+r.err, secret) {
			t.Errorf("trevak %s tells of it: %s%s", strings.Join(args, " "), r.out, r.err)
		}
	}
	for _, page := range []string{"i.html", "w.html", "l.html"} {
		if text, err := os.ReadFile(page); err != nil || strings.Contains(string(text), secret) {
			t.Errorf("%s tells of it: %v", page, err)
		}
	}
	if !strings.Contains(all, "…") {
		t.Errorf("%s", all)
	}
	if left, err := filepath.Glob("**/quarantine*"); err != nil || len(left) > 0 {
		t.Errorf("%v, %v", left, err)
	}
}

// TestWebhookThatHangs delays no run, and one that answers is told.
func TestWebhookThatHangs(t *testing.T) {
	hang := make(chan struct{})
	hangs := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	defer hangs.Close()
	defer close(hang)
	heard := make(chan string, 10)
	hears := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var e struct{ Type, Subject string }
		if err := json.NewDecoder(r.Body).Decode(&e); err != nil {
			t.Error(err)
		}
		heard <- e.Type + " " + e.Subject + " " + fmt.Sprint(r.Header.Get("webhook-signature") != "")
	}))
	defer hears.Close()
	t.Setenv("HOOK_SECRET", "s")
	testfolder.Make(t, map[string]string{"r.csv": readings, "bad.csv": "a,b\n1\n1,2,3\n", "day.yaml": fmt.Sprintf(`sheet: 1
retry: {times: 0}
tell:
  - {url: "%s"}
  - {url: "%s", secret_from: "env:HOOK_SECRET", of: [loaded, refused]}
feeds:
  - {name: good, source: {files: [r.csv]}, table: {into: o.good}}
  - {name: bad, source: {files: [bad.csv]}, table: {into: o.bad}}
`, hangs.URL, hears.URL)})
	began := time.Now()
	r := trevak(t, "run", "day.yaml")
	if took := time.Since(began); r.code != 3 || took > 8*time.Second {
		t.Errorf("exit %d after %s: %s%s", r.code, took, r.out, r.err)
	}
	if first, second := <-heard, <-heard; first != "trevak.loaded good true" || second != "trevak.refused bad true" {
		t.Errorf("%q, %q", first, second)
	}
}

// TestUnlikeRuns points out a thin day, and stops it where the sheet says so.
func TestUnlikeRuns(t *testing.T) {
	day := func(n int, area string) string {
		var b strings.Builder
		b.WriteString("id,area\n")
		for i := range n {
			fmt.Fprintf(&b, "%d,%s\n", i, []string{"north", "south", area}[i%3])
		}
		return b.String()
	}
	sheet := "sheet: 1\nunlike: UNLIKE\nparameters: {day: {type: date}}\nfeeds:\n" +
		"  - {name: tides, source: {files: [\"in/$(day).csv\"]}, table: {into: o.tides}}\n"
	contents := map[string]string{"day.yaml": strings.Replace(sheet, "UNLIKE", "tell", 1), "stop.yaml": strings.Replace(sheet, "UNLIKE", "stop", 1)}
	for i := 1; i <= 6; i++ {
		contents[fmt.Sprintf("in/2031-05-0%d.csv", i)] = day(1000+i, "south")
	}
	contents["in/2031-05-07.csv"], contents["in/2031-05-08.csv"] = day(300, "west"), day(1003, "gone")
	testfolder.Make(t, contents)
	for i := 1; i <= 6; i++ {
		if r := must(t, []string{"run", "day.yaml", "--set", fmt.Sprintf("day=2031-05-0%d", i)}); strings.Contains(r.out, "unlike") {
			t.Errorf("%s", r.out)
		}
	}
	r := trevak(t, "run", "stop.yaml", "--set", "day=2031-05-07")
	if r.code != 3 || !strings.Contains(r.out, "300 rows; the last 6 runs had 1,001 to 1,006") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	must(t, []string{"run", "stop.yaml", "--set", "day=2031-05-07", "--allow-unlike"}, "loaded")
	must(t, []string{"run", "day.yaml", "--set", "day=2031-05-08"}, `column area has "gone"`)
	must(t, []string{"runs", "--chart", "runs.svg"}, "day.yaml")
	if text, err := os.ReadFile("runs.svg"); err != nil || !strings.Contains(string(text), "<svg") {
		t.Errorf("%v", err)
	}
	must(t, []string{"runs", "--chart", "-"}, "rows", "█")
}

// TestTwoRunsOfASheet do not race: the second one is refused while the first goes on.
func TestTwoRunsOfASheet(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": areas(200_000), "day.yaml": "sheet: 1\nfeeds:\n" +
		"  - {name: a, source: {files: [r.csv]}, table: {into: o.a, partition: area}}\n  - {name: b, source: {files: [r.csv]}, table: {into: o.b, partition: area}}\n"})
	cmd := begin(t, "run", "day.yaml", "--log", "text")
	lines := bufio.NewScanner(cmd.errs)
	for lines.Scan() {
		if strings.Contains(lines.Text(), "feed=a") {
			break
		}
	}
	r := trevak(t, "run", "day.yaml")
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
	if r.code == 0 && !strings.Contains(r.out, "2 nothing new") || r.code != 0 && !strings.Contains(r.err, "somebody else carries the sheet") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
}
