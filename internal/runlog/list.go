package runlog

import (
	"context"
	"database/sql"
	"strconv"
	"strings"
	"time"

	"trevak/internal/fault"
)

// Entry is a run as it was.
type Entry struct {
	ID    int64
	Sheet string
	Began time.Time
	// Ended is nil for a run that is under way, or was killed.
	Ended            *time.Time
	Outcome          string
	By, Process      string
	Parameters       []Parameter
	Message          string
	Loads            []Load
	Log              []Line
	Objects, Records int64
	Rows, Bytes      int64
}

// Line is one of a run's log.
type Line struct {
	At                   time.Time
	Level, Feed, Message string
}

// Filter chooses runs.
type Filter struct {
	// Sheet and Feed are names, empty for all. Failed chooses runs that did not end well, Since those from an instant on.
	Sheet, Feed string
	Failed      bool
	Since       time.Time
	// Most bounds how many of the newest are listed, 0 for all.
	Most int
}

// List lists runs, the newest first, with their loads.
func (l *Log) List(ctx context.Context, f Filter) ([]Entry, error) {
	var conditions []string
	var values []any
	add := func(condition string, value any) {
		values = append(values, value)
		conditions = append(conditions, strings.ReplaceAll(condition, "$", "$"+strconv.Itoa(len(values))))
	}
	if f.Sheet != "" {
		add("sheet = $", f.Sheet)
	}
	if f.Feed != "" {
		add("run_id IN (SELECT run_id FROM trevak_loads WHERE feed = $)", f.Feed)
	}
	switch {
	case f.Failed && f.Feed != "":
		add("run_id IN (SELECT run_id FROM trevak_loads WHERE feed = $ AND outcome IN ('refused', 'failed', 'held_back'))", f.Feed)
	case f.Failed:
		conditions = append(conditions, "(outcome IS NULL OR outcome NOT IN ('loaded', 'nothing_new'))")
	}
	if !f.Since.IsZero() {
		add("started_at >= $", instant(f.Since))
	}
	where := ""
	if len(conditions) > 0 {
		where = " WHERE " + strings.Join(conditions, " AND ")
	}
	limit := ""
	if f.Most > 0 {
		limit = " LIMIT " + strconv.Itoa(f.Most)
	}
	var out []Entry
	err := l.each(ctx, `SELECT run_id, sheet, started_at, ended_at, outcome, started_by, parameters, message, process FROM trevak_runs`+where+
		` ORDER BY run_id DESC`+limit, values, func(scan func(...any) error) error {
		e, err := scanRun(scan)
		out = append(out, e)
		return err
	})
	if err != nil {
		return nil, err
	}
	for i := range out {
		if err := l.loadsOf(ctx, &out[i], f.Feed); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func scanRun(scan func(...any) error) (e Entry, err error) {
	var began, parameters string
	var ended, outcome, message sql.NullString
	err = scan(&e.ID, &e.Sheet, &began, &ended, &outcome, &e.By, &parameters, &message, &e.Process)
	e.Began, e.Outcome, e.Message, e.Parameters = parsed(began), outcome.String, message.String, parametersOf(parameters)
	if ended.Valid {
		at := parsed(ended.String)
		e.Ended = &at
	}
	return e, err
}

// loadsOf reads the loads of a run, and adds them up; feed may be empty for all.
func (l *Log) loadsOf(ctx context.Context, e *Entry, feed string) error {
	return l.each(ctx, `SELECT feed, table_name, started_at, seconds, outcome, tries, objects, records_read, rows_written, bytes_read,
		bytes_written,
		records_quarantined, misfits, snapshot_id, quarantine, message FROM trevak_loads WHERE run_id = $1 AND ($2 = '' OR feed = $2)
		ORDER BY started_at, feed, table_name`, []any{e.ID, feed}, func(scan func(...any) error) error {
		var f Load
		var began string
		err := scan(&f.Feed, &f.Table, &began, &f.Seconds, &f.Outcome, &f.Tries, &f.Objects, &f.RecordsRead, &f.RowsWritten, &f.BytesRead,
			&f.BytesWritten, &f.RecordsQuarantined, &f.Misfits, &f.Snapshot, &f.Quarantine, &f.Message)
		f.Began = parsed(began)
		e.Loads = append(e.Loads, f)
		e.Objects, e.Records, e.Rows, e.Bytes = e.Objects+f.Objects, e.Records+f.RecordsRead, e.Rows+f.RowsWritten, e.Bytes+f.BytesRead
		return err
	})
}

// Get returns one run whole, with its log.
func (l *Log) Get(ctx context.Context, id int64) (*Entry, error) {
	var out *Entry
	err := l.each(ctx, `SELECT run_id, sheet, started_at, ended_at, outcome, started_by, parameters, message, process FROM trevak_runs
		WHERE run_id = $1`, []any{id}, func(scan func(...any) error) error {
		e, err := scanRun(scan)
		out = &e
		return err
	})
	if err != nil {
		return nil, err
	}
	if out == nil {
		return nil, fault.New(fault.Usage, "there is no run %d", id).Try("list those that are there, and name one of them")
	}
	if err := l.loadsOf(ctx, out, ""); err != nil {
		return nil, err
	}
	return out, l.each(ctx, `SELECT at, level, feed, message FROM trevak_log WHERE run_id = $1 ORDER BY line`, []any{id},
		func(scan func(...any) error) error {
			var line Line
			var at string
			err := scan(&at, &line.Level, &line.Feed, &line.Message)
			line.At = parsed(at)
			out.Log = append(out.Log, line)
			return err
		})
}

// Last returns the newest run of a sheet, nil where there is none.
func (l *Log) Last(ctx context.Context, sheet string) (*Entry, error) {
	list, err := l.List(ctx, Filter{Sheet: sheet, Most: 1})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}
