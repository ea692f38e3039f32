package runlog

import (
	"context"
	"time"
)

// Parameter is the value of a parameter of a run.
type Parameter struct{ Name, Value string }

// Start is what is known of a run as it begins.
type Start struct {
	Sheet string
	At    time.Time
	// By is what started it: a command. Process is the process that it runs in.
	By, Process string
	Parameters  []Parameter
}

// Run is a run that is under way. It is for one goroutine at a time.
type Run struct {
	log *Log
	ID  int64
	// lines are those of the log that are not written yet, line the number of the last that is.
	lines []Line
	line  int
}

// Begin notes that a run begins.
func (l *Log) Begin(ctx context.Context, s Start) (*Run, error) {
	r := &Run{log: l}
	err := l.db.QueryRowContext(ctx, l.db.Query(`INSERT INTO trevak_runs (sheet, started_at, started_by, parameters, process)
		VALUES ($1, $2, $3, $4, $5) RETURNING run_id`), s.Sheet, instant(s.At), s.By, parametersText(s.Parameters), s.Process).Scan(&r.ID)
	return r, l.explain(err)
}

// Load is what became of a feed, or of one of the tables that it goes to.
type Load struct {
	Feed, Table string
	Began       time.Time
	Seconds     float64
	Outcome     string
	Tries       int
	Objects     int64
	RecordsRead, RowsWritten, BytesRead, BytesWritten,
	RecordsQuarantined, Misfits int64
	Snapshot, Quarantine, Message string
	// Columns are how the values of each column were spread, for those that are no secret.
	Columns []Column
}

// Column is what is kept of the values of a column: how many there were, and all of them where they were few.
type Column struct {
	Name          string
	Values, Nulls int64
	Few           bool
	Texts         []string
}

// Feed notes what became of a feed, once for each table.
func (r *Run) Feed(ctx context.Context, f Load) error {
	return r.log.change(ctx, func(do func(text string, values ...any)) {
		r.flush(do)
		r.feed(f, do)
	})
}

func (r *Run) feed(f Load, do func(text string, values ...any)) {
	do(`DELETE FROM trevak_loads WHERE run_id = $1 AND feed = $2 AND table_name = $3`, r.ID, f.Feed, f.Table)
	do(`INSERT INTO trevak_loads (run_id, feed, table_name, started_at, seconds, outcome, tries, objects, records_read, rows_written,
		bytes_read, bytes_written, records_quarantined, misfits, snapshot_id, quarantine, message)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)`, r.ID, f.Feed, f.Table, instant(f.Began), f.Seconds,
		f.Outcome, f.Tries, f.Objects, f.RecordsRead, f.RowsWritten, f.BytesRead, f.BytesWritten, f.RecordsQuarantined, f.Misfits, f.Snapshot,
		f.Quarantine, f.Message)
	for _, c := range f.Columns {
		few := 0
		if c.Few {
			few = 1
		}
		do(`INSERT INTO trevak_columns (run_id, feed, table_name, column_name, value_count, null_count, few)
			VALUES ($1, $2, $3, $4, $5, $6, $7)`, r.ID, f.Feed, f.Table, c.Name, c.Values, c.Nulls, few)
		for _, text := range c.Texts {
			do(`INSERT INTO trevak_values (run_id, feed, table_name, column_name, value_text) VALUES ($1, $2, $3, $4, $5)`, r.ID, f.Feed, f.Table,
				c.Name, text)
		}
	}
	if len(f.Columns) > 0 {
		// Values are kept of as many runs as a load is held against, and some more.
		do(`DELETE FROM trevak_values WHERE feed = $1 AND table_name = $2 AND run_id < (SELECT min(run_id) FROM (SELECT run_id FROM trevak_loads
			WHERE feed = $1 AND table_name = $2 AND outcome = 'loaded' ORDER BY run_id DESC LIMIT 60) AS newest)`, f.Feed, f.Table)
	}
}

// Say adds a line to the log of the run, which is written with what became of the next feed, or at the end.
func (r *Run) Say(at time.Time, level, feed, message string) {
	r.lines = append(r.lines, Line{at, level, feed, message})
}

// flush writes the lines of the log.
func (r *Run) flush(do func(text string, values ...any)) {
	for _, l := range r.lines {
		r.line++
		do(`INSERT INTO trevak_log (run_id, line, at, level, feed, message) VALUES ($1, $2, $3, $4, $5, $6)`, r.ID, r.line, instant(l.At),
			l.Level,
			l.Feed, l.Message)
	}
	r.lines = nil
}

// End notes that the run ended.
func (r *Run) End(ctx context.Context, at time.Time, outcome, message string) error {
	return r.log.change(ctx, func(do func(text string, values ...any)) {
		r.flush(do)
		do(`UPDATE trevak_runs SET ended_at = $1, outcome = $2, message = $3 WHERE run_id = $4`, instant(at), outcome, message, r.ID)
	})
}

// change makes changes in one transaction.
func (l *Log) change(ctx context.Context, f func(do func(text string, values ...any))) error {
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return l.explain(err)
	}
	defer tx.Rollback()
	f(func(text string, values ...any) {
		if err == nil {
			_, err = tx.ExecContext(ctx, l.db.Query(text), values...)
		}
	})
	if err == nil {
		err = tx.Commit()
	}
	return l.explain(err)
}
