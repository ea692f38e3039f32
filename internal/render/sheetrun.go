package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"trevak/internal/conduct"
	"trevak/internal/runsheet"
	"trevak/internal/write"
)

// SheetRun is a run of a sheet, to be shown.
type SheetRun struct {
	Sheet  string
	ID     int64
	DryRun bool
	Result *conduct.Result
}

// outcomeWords are outcomes for people.
var outcomeWords = map[string]string{"loaded": "loaded", "nothing_new": "nothing new", "refused": "REFUSED", "failed": "FAILED",
	"skipped": "skipped",
	"silent":  "silent", "set_aside": "set aside", "held_back": "held back", "done_before": "done before", "left_out": "left out"}

func endText(o string) string {
	if text, ok := outcomeWords[o]; ok {
		return text
	}
	return o
}

// SheetRunText writes what became of a run of a sheet.
func SheetRunText(s Screen, r SheetRun) {
	counts := map[conduct.Outcome]int{}
	for _, f := range r.Result.Feeds {
		counts[f.Outcome]++
	}
	var parts []string
	for _, o := range []conduct.Outcome{conduct.Done, conduct.Known, conduct.Skipped, conduct.Before, conduct.Left, conduct.Held,
		conduct.Refused,
		conduct.Failed} {
		if counts[o] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[o], strings.ToLower(endText(string(o)))))
		}
	}
	title := r.Sheet
	if r.ID > 0 {
		title += fmt.Sprintf(", run %d", r.ID)
	}
	if r.DryRun {
		title += ": nothing was written; a run would do this"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	runTable(r).Write(s)
	s.Printf("\n  %s: %s in %s\n", Count(len(r.Result.Feeds), "feed", "feeds"), strings.Join(parts, ", "),
		elapsed(r.Result.Ended.Sub(r.Result.Began)))
	for _, f := range r.Result.Feeds {
		feedNotes(s, f)
	}
}

func runTable(r SheetRun) Table {
	t := Table{Header: []string{"feed", "outcome", "table", "objects", "records", "rows", "bad", "took"},
		Right: []bool{false, false, false, true, true, true, true, true}, Indent: 2, Keep: true}
	for _, f := range r.Result.Feeds {
		took := ""
		if !f.Began.IsZero() {
			took = elapsed(f.Ended.Sub(f.Began))
		}
		if len(f.Reports) == 0 {
			t.Rows = append(t.Rows, []string{f.Feed, endText(string(f.Outcome)), "", "", "", "", "", took})
			continue
		}
		for i, report := range f.Reports {
			name, outcome := f.Feed, endText(string(f.Outcome))
			if i > 0 {
				name, took = "", ""
			}
			if report.NothingNew {
				outcome = endText(string(conduct.Known))
			}
			t.Rows = append(t.Rows, []string{name, outcome, report.Table, Number(int64(len(report.Objects))), Number(report.RecordsRead),
				Number(report.RowsWritten), Number(report.RecordsQuarantined), took})
		}
	}
	return t
}

// feedNotes tells what a person should know of a feed.
func feedNotes(s Screen, f conduct.FeedResult) {
	var lines []string
	if f.Err != nil {
		text := f.Err.Error()
		if f.Tries > 1 {
			text += fmt.Sprintf(" (tried %d times)", f.Tries)
		}
		lines = append(lines, text)
	}
	if f.Why != "" {
		lines = append(lines, f.Why)
	}
	if f.Dropped > 0 {
		lines = append(lines, fmt.Sprintf("%s taken by no route, and left out as the sheet has it", Count(f.Dropped, "object was",
			"objects were")))
	}
	for _, text := range f.Unlike {
		lines = append(lines, "unlike the runs before: "+text)
	}
	for _, r := range f.Reports {
		for _, d := range r.Drift {
			lines = append(lines, r.Table+": "+write.Sentence(d))
		}
		for _, c := range r.Checks {
			if c.Broken > 0 {
				lines = append(lines, fmt.Sprintf("%s: %s the rule %s", r.Table, Count(int(c.Broken), "row breaks", "rows break"), c.Text))
			}
		}
		if r.Quarantine != "" && r.RecordsQuarantined > 0 {
			lines = append(lines, fmt.Sprintf("%s: %s kept in %s", r.Table, Count(int(r.RecordsQuarantined), "bad record is", "bad records are"),
				r.Quarantine))
		}
	}
	for i, line := range lines {
		if i == 0 {
			s.Printf("\n  %s\n", s.Bold(f.Feed))
		}
		for _, part := range wrap(Harmless(line), max(24, s.Width-4)) {
			s.Printf("    %s\n", part)
		}
	}
}

// runEventJSON is an event of a run, a line each.
type runEventJSON struct {
	Event   string       `json:"event"`
	At      time.Time    `json:"at"`
	Run     null[string] `json:"run"`
	Sheet   null[string] `json:"sheet"`
	Feed    null[string] `json:"feed"`
	Outcome null[string] `json:"outcome"`
	Tries   null[int]    `json:"tries"`
	Stage   null[string] `json:"stage"`
	Wait    null[int64]  `json:"wait_seconds"`
	Message null[string] `json:"message"`
	Dropped int          `json:"objects_dropped"`
	Unlike  []string     `json:"unlike"`
	Loads   []reportJSON `json:"loads"`
	Error   *problemJSON `json:"error"`
}

// RunEventJSON writes an event as one line; events of how far a feed is are written when its stage is another.
func RunEventJSON(w io.Writer, id int64, e conduct.Event) error {
	out := runEventJSON{Event: string(e.Kind), At: e.At.UTC(), Run: idText(id), Feed: orNull(e.Feed), Unlike: []string{},
		Loads: []reportJSON{}}
	switch e.Kind {
	case conduct.FeedGoes:
		out.Stage = orNull(string(e.Progress.Stage))
	case conduct.FeedRetry:
		out.Tries, out.Wait, out.Error = orNull(e.Try), orNull(int64(e.Wait.Seconds())), anyProblem(e.Err)
	case conduct.FeedWarned:
		out.Message = orNull(e.Text)
	case conduct.FeedEnded:
		r := e.Result
		out.Outcome, out.Tries, out.Message = orNull(string(r.Outcome)), orNull(r.Tries), orNull(r.Why)
		out.Dropped, out.Unlike = r.Dropped, orEmpty(r.Unlike)
		for _, report := range r.Reports {
			out.Loads = append(out.Loads, reportOf(report))
		}
		if r.Err != nil {
			out.Error = anyProblem(r.Err)
		}
	}
	return line(w, out)
}

// RunBoundJSON writes that a run began or ended.
func RunBoundJSON(w io.Writer, event string, r SheetRun, outcome string, at time.Time, failed error) error {
	out := runEventJSON{Event: event, At: at.UTC(), Run: idText(r.ID), Sheet: orNull(r.Sheet), Outcome: orNull(outcome), Unlike: []string{},
		Loads: []reportJSON{}}
	if failed != nil {
		out.Error = anyProblem(failed)
	}
	return line(w, out)
}

// CheckedSheet is what a look at a sheet found, without touching data.
type CheckedSheet struct {
	Path       string
	Parameters []runsheet.Parameter
	Values     runsheet.Values
	Feeds      []CheckedFeed
}

// CheckedFeed is what it found of a feed.
type CheckedFeed struct {
	Name    string
	Tables  []string
	Objects int
	Err     error
	Why     string
}

// CheckedSheetText tells what a look at a sheet found.
func CheckedSheetText(s Screen, c CheckedSheet) {
	s.Printf("%s\n\n", s.Bold(c.Path))
	if len(c.Parameters) > 0 {
		t := Table{Header: []string{"parameter", "type", "value", ""}, Indent: 2}
		for _, p := range c.Parameters {
			t.Rows = append(t.Rows, []string{p.Name, string(p.Type), c.Values[p.Name].Text, p.Meaning})
		}
		t.Write(s)
		s.Printf("\n")
	}
	t := Table{Header: []string{"feed", "", "objects", "tables"}, Right: []bool{false, false, true}, Indent: 2, Keep: true}
	wrong := 0
	for _, f := range c.Feeds {
		state := "fine"
		if f.Err != nil {
			state = "WRONG"
			wrong++
		} else if f.Why != "" {
			state = "waits"
		}
		t.Rows = append(t.Rows, []string{f.Name, state, Number(int64(f.Objects)), strings.Join(f.Tables, ", ")})
	}
	t.Write(s)
	for _, f := range c.Feeds {
		switch {
		case f.Err != nil:
			s.Printf("\n  %s\n", s.Bold(f.Name))
			for _, part := range wrap(Harmless(f.Err.Error()), max(24, s.Width-4)) {
				s.Printf("    %s\n", part)
			}
		case f.Why != "":
			s.Printf("\n  %s: %s\n", s.Bold(f.Name), Harmless(f.Why))
		}
	}
	if wrong == 0 {
		s.Printf("\n  %s, nothing wrong\n", Count(len(c.Feeds), "feed", "feeds"))
	}
}

// CheckedSheetJSON tells it to programs.
func CheckedSheetJSON(s Screen, c CheckedSheet) error {
	type feedJSON struct {
		Feed    string       `json:"feed"`
		Valid   bool         `json:"valid"`
		Objects int          `json:"objects"`
		Tables  []string     `json:"tables"`
		Message null[string] `json:"message"`
		Error   *problemJSON `json:"error"`
	}
	out := struct {
		Sheet      string      `json:"sheet"`
		Valid      bool        `json:"valid"`
		Parameters []valueJSON `json:"parameters"`
		Feeds      []feedJSON  `json:"feeds"`
	}{Sheet: c.Path, Valid: true, Parameters: []valueJSON{}, Feeds: []feedJSON{}}
	for _, p := range c.Parameters {
		out.Parameters = append(out.Parameters, valueJSON{p.Name, c.Values[p.Name].Text})
	}
	for _, f := range c.Feeds {
		one := feedJSON{Feed: f.Name, Valid: f.Err == nil, Objects: f.Objects, Tables: orEmpty(f.Tables), Message: orNull(f.Why)}
		if f.Err != nil {
			one.Error = anyProblem(f.Err)
			out.Valid = false
		}
		out.Feeds = append(out.Feeds, one)
	}
	return JSON(s, out)
}

// valueJSON is a parameter with its value.
type valueJSON struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}
