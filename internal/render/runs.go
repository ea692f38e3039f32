package render

import (
	"fmt"
	"strings"
	"time"

	"trevak/internal/runlog"
)

// Runs lists runs, the newest first; with what became of one feed, where it is named.
func Runs(s Screen, list []runlog.Entry, feed string) {
	if len(list) == 0 {
		s.Printf("no run is known\n")
		return
	}
	t := Table{Header: []string{"run", "began", "took", "outcome", "feeds", "objects", "records", "rows", "bytes", "bad", "started by",
		"sheet"},
		Right: []bool{true, false, true, false, true, true, true, true, true, true}, Ends: []bool{false, false, false, false, false, false,
			false, false,
			false, false, false, true}, Keep: true}
	for _, e := range list {
		var bad int64
		for _, l := range e.Loads {
			bad += l.RecordsQuarantined
		}
		took, outcome := runTook(e), runOutcome(e)
		if feed != "" && len(e.Loads) > 0 {
			took, outcome = elapsed(time.Duration(e.Loads[0].Seconds*float64(time.Second))), endText(e.Loads[0].Outcome)
		}
		t.Rows = append(t.Rows, []string{fmt.Sprint(e.ID), instant(&e.Began), took, outcome, Number(int64(feedsOf(e))),
			Number(e.Objects),
			Number(e.Records), Number(e.Rows), Size(e.Bytes), Number(bad), e.By, e.Sheet})
	}
	t.Write(s)
}

func feedsOf(e runlog.Entry) int {
	names := map[string]bool{}
	for _, l := range e.Loads {
		names[l.Feed] = true
	}
	return len(names)
}

func runTook(e runlog.Entry) string {
	if e.Ended == nil {
		return "-"
	}
	return elapsed(e.Ended.Sub(e.Began))
}

func runOutcome(e runlog.Entry) string {
	if e.Ended == nil {
		return "not ended"
	}
	return endText(e.Outcome)
}

// OneRun shows a run whole.
func OneRun(s Screen, e *runlog.Entry) {
	s.Printf("%s\n\n", s.Bold(fmt.Sprintf("run %d of %s: %s", e.ID, e.Sheet, runOutcome(*e))))
	facts := []fact{{name: "began", value: instant(&e.Began)}, {name: "took", value: runTook(*e)}, {name: "started by",
		value: e.By + " (" + e.Process + ")"}}
	for i, p := range e.Parameters {
		name := ""
		if i == 0 {
			name = "parameters"
		}
		facts = append(facts, fact{name: name, value: p.Name + " = " + p.Value})
	}
	if e.Message != "" {
		facts = append(facts, fact{name: "message", value: Harmless(e.Message)})
	}
	s.facts(facts)
	s.Printf("\n")
	t := Table{Header: []string{"feed", "outcome", "table", "objects", "records", "rows", "read", "written", "bad", "misfits", "took",
		"snapshot"},
		Right: []bool{false, false, false, true, true, true, true, true, true, true, true, true}, Indent: 2, Keep: true}
	for _, l := range e.Loads {
		t.Rows = append(t.Rows, []string{l.Feed, endText(l.Outcome), l.Table, Number(l.Objects), Number(l.RecordsRead), Number(l.RowsWritten),
			Size(l.BytesRead), Size(l.BytesWritten), Number(l.RecordsQuarantined), Number(l.Misfits),
			elapsed(time.Duration(l.Seconds * float64(time.Second))), l.Snapshot})
	}
	t.Write(s)
	if len(e.Log) == 0 {
		return
	}
	s.Printf("\n")
	log := Table{Header: []string{"at", "", "feed", "log"}, Indent: 2}
	for _, l := range e.Log {
		log.Rows = append(log.Rows, []string{l.At.UTC().Format("15:04:05.000"), strings.ToLower(l.Level), l.Feed, Harmless(l.Message)})
	}
	for _, row := range log.Rows {
		head := fmt.Sprintf("  %s  %-5s  %s  ", row[0], row[1], row[2])
		for i, part := range wrap(row[3], max(24, s.Width-length(head))) {
			if i > 0 {
				head = strings.Repeat(" ", length(head))
			}
			s.Printf("%s%s\n", head, part)
		}
	}
}

type runJSON struct {
	Run         string       `json:"run"`
	Sheet       string       `json:"sheet"`
	StartedAt   *time.Time   `json:"started_at"`
	EndedAt     *time.Time   `json:"ended_at"`
	Outcome     null[string] `json:"outcome"`
	StartedBy   string       `json:"started_by"`
	Process     string       `json:"process"`
	Parameters  []valueJSON  `json:"parameters"`
	Message     null[string] `json:"message"`
	Objects     int64        `json:"objects"`
	RecordsRead int64        `json:"records_read"`
	RowsWritten int64        `json:"rows_written"`
	BytesRead   int64        `json:"bytes_read"`
	Loads       []loadJSON   `json:"loads"`
	Log         []logJSON    `json:"log"`
}

type loadJSON struct {
	Feed         string       `json:"feed"`
	Table        null[string] `json:"table"`
	StartedAt    *time.Time   `json:"started_at"`
	Seconds      float64      `json:"seconds"`
	Outcome      string       `json:"outcome"`
	Tries        int          `json:"tries"`
	Objects      int64        `json:"objects"`
	RecordsRead  int64        `json:"records_read"`
	RowsWritten  int64        `json:"rows_written"`
	BytesRead    int64        `json:"bytes_read"`
	BytesWritten int64        `json:"bytes_written"`
	Bad          int64        `json:"records_quarantined"`
	Misfits      int64        `json:"misfits"`
	SnapshotID   null[string] `json:"snapshot_id"`
	Quarantine   null[string] `json:"quarantine"`
	Message      null[string] `json:"message"`
}

type logJSON struct {
	At      *time.Time   `json:"at"`
	Level   string       `json:"level"`
	Feed    null[string] `json:"feed"`
	Message string       `json:"message"`
}

func runOf(e runlog.Entry) runJSON {
	out := runJSON{Run: fmt.Sprint(e.ID), Sheet: e.Sheet, StartedAt: instantOf(e.Began), EndedAt: e.Ended, Outcome: orNull(e.Outcome),
		StartedBy: e.By,
		Process:   e.Process, Parameters: []valueJSON{}, Message: orNull(e.Message), Objects: e.Objects, RecordsRead: e.Records,
		RowsWritten: e.Rows,
		BytesRead:   e.Bytes, Loads: []loadJSON{}, Log: []logJSON{}}
	for _, p := range e.Parameters {
		out.Parameters = append(out.Parameters, valueJSON{p.Name, p.Value})
	}
	for _, l := range e.Loads {
		out.Loads = append(out.Loads, loadJSON{l.Feed, orNull(l.Table), instantOf(l.Began), l.Seconds, l.Outcome, l.Tries, l.Objects,
			l.RecordsRead,
			l.RowsWritten, l.BytesRead, l.BytesWritten, l.RecordsQuarantined, l.Misfits, orNull(l.Snapshot), orNull(l.Quarantine),
			orNull(l.Message)})
	}
	for _, l := range e.Log {
		out.Log = append(out.Log, logJSON{instantOf(l.At), strings.ToLower(l.Level), orNull(l.Feed), l.Message})
	}
	return out
}

// RunsJSON lists runs for programs.
func RunsJSON(s Screen, list []runlog.Entry) error {
	out := []runJSON{}
	for _, e := range list {
		out = append(out, runOf(e))
	}
	return JSON(s, struct {
		Runs []runJSON `json:"runs"`
	}{out})
}

// OneRunJSON shows a run to programs.
func OneRunJSON(s Screen, e *runlog.Entry) error { return JSON(s, runOf(*e)) }
