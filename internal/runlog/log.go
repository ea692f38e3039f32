// Package runlog keeps the history of runs in a database: when, by what they were started, what became of each feed and load, what was out
// of the usual, and what a watcher has set aside.
//
// What comes in are runs as they go on, and accounts of loads; what goes out are runs as they were, and in what a load is unlike those
// before it.
package runlog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"trevak/internal/database"
	"trevak/internal/fault"
)

// Log is the history of the runs of a warehouse. Whoever opens it closes it.
type Log struct {
	db *database.Database
	// lite is the path of a file of SQLite, beside which locks lie; empty for a server.
	lite string
}

// FileName is that of the database in the folder of a warehouse.
const FileName = ".trevak-runs.db"

// tables are those of the history, in both dialects of SQL. Instants are RFC 3339 in UTC, so that texts sort as they do.
var tables = []string{
	`CREATE TABLE IF NOT EXISTS trevak_runs (run_id %s, sheet TEXT NOT NULL, started_at TEXT NOT NULL, ended_at TEXT, outcome TEXT,
		started_by TEXT NOT NULL, parameters TEXT NOT NULL, message TEXT, process TEXT NOT NULL)`,
	`CREATE TABLE IF NOT EXISTS trevak_loads (run_id BIGINT NOT NULL, feed TEXT NOT NULL, table_name TEXT NOT NULL, started_at TEXT NOT NULL,
		seconds DOUBLE PRECISION NOT NULL, outcome TEXT NOT NULL, tries INTEGER NOT NULL, objects BIGINT NOT NULL, records_read BIGINT NOT NULL,
		rows_written BIGINT NOT NULL, bytes_read BIGINT NOT NULL, bytes_written BIGINT NOT NULL, records_quarantined BIGINT NOT NULL,
		misfits BIGINT NOT NULL, snapshot_id TEXT, quarantine TEXT, message TEXT, PRIMARY KEY (run_id, feed, table_name))`,
	`CREATE TABLE IF NOT EXISTS trevak_log (run_id BIGINT NOT NULL, line INTEGER NOT NULL, at TEXT NOT NULL, level TEXT NOT NULL,
		feed TEXT NOT NULL, message TEXT NOT NULL, PRIMARY KEY (run_id, line))`,
	`CREATE TABLE IF NOT EXISTS trevak_columns (run_id BIGINT NOT NULL, feed TEXT NOT NULL, table_name TEXT NOT NULL, column_name TEXT NOT
		NULL,
		value_count BIGINT NOT NULL, null_count BIGINT NOT NULL, few INTEGER NOT NULL,
		PRIMARY KEY (run_id, feed, table_name, column_name))`,
	`CREATE TABLE IF NOT EXISTS trevak_values (run_id BIGINT NOT NULL, feed TEXT NOT NULL, table_name TEXT NOT NULL, column_name TEXT NOT
		NULL,
		value_text TEXT NOT NULL)`,
	`CREATE TABLE IF NOT EXISTS trevak_waiting (sheet TEXT NOT NULL, feed TEXT NOT NULL, object TEXT NOT NULL, version TEXT NOT NULL,
		tries INTEGER NOT NULL, reason TEXT NOT NULL, since TEXT NOT NULL, aside INTEGER NOT NULL, PRIMARY KEY (sheet, feed, object))`,
	`CREATE TABLE IF NOT EXISTS trevak_positions (sheet TEXT NOT NULL, feed TEXT NOT NULL, what TEXT NOT NULL, place TEXT NOT NULL,
		PRIMARY KEY (sheet, feed, what))`,
	`CREATE INDEX IF NOT EXISTS trevak_loads_of ON trevak_loads (feed, table_name, run_id)`,
	`CREATE INDEX IF NOT EXISTS trevak_values_of ON trevak_values (feed, table_name, run_id)`,
}

// Open opens the history in a database, whose tables are made where they are missing.
func Open(ctx context.Context, uri, password string) (*Log, error) {
	db, err := database.Open(uri, password)
	if err != nil {
		return nil, err
	}
	l := &Log{db: db}
	id := "BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY"
	if kind, path, _ := database.Of(uri); kind == "sqlite" {
		l.lite, id = path, "INTEGER PRIMARY KEY"
	}
	there, err := db.Has(ctx, "trevak_positions", "place")
	if err == nil && !there {
		for i, text := range tables {
			if i == 0 {
				text = fmt.Sprintf(text, id)
			}
			// Two who make them at once get in each other's way; then they are there.
			if _, err = db.ExecContext(ctx, text); err != nil {
				if again, failed := db.Has(ctx, "trevak_positions", "place"); failed == nil && again {
					err = nil
					break
				}
				break
			}
		}
	}
	if err != nil {
		db.Close()
		return nil, fault.Wrap(fault.Storage, db.Explain(err), "the run history cannot be kept")
	}
	return l, nil
}

// Close closes the database.
func (l *Log) Close() error { return l.db.Close() }

func (l *Log) exec(ctx context.Context, text string, values ...any) error {
	_, err := l.db.ExecContext(ctx, l.db.Query(text), values...)
	return l.explain(err)
}

func (l *Log) explain(err error) error {
	if err == nil || errors.Is(err, sql.ErrNoRows) || errors.Is(err, context.Canceled) {
		return err
	}
	return fault.Wrap(fault.Storage, l.db.Explain(err), "the run history in %s cannot be used", l.db.Shown)
}

// each visits the rows of a query.
func (l *Log) each(ctx context.Context, text string, values []any, visit func(scan func(...any) error) error) error {
	rows, err := l.db.QueryContext(ctx, l.db.Query(text), values...)
	if err != nil {
		return l.explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := visit(rows.Scan); err != nil {
			return l.explain(err)
		}
	}
	return l.explain(rows.Err())
}

const instantForm = "2006-01-02T15:04:05.000000Z"

func instant(at time.Time) string { return at.UTC().Format(instantForm) }

func parsed(text string) time.Time {
	// What is no instant was written by another program; it sorts first.
	at, _ := time.Parse(instantForm, text)
	return at
}

// parametersText writes values one a line, sorted by name.
func parametersText(list []Parameter) string {
	var out strings.Builder
	for _, p := range list {
		out.WriteString(p.Name + "=" + strings.NewReplacer("\\", `\\`, "\n", `\n`).Replace(p.Value) + "\n")
	}
	return out.String()
}

func parametersOf(text string) (out []Parameter) {
	for line := range strings.Lines(text) {
		name, value, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
		if ok {
			out = append(out, Parameter{name, strings.NewReplacer(`\\`, "\\", `\n`, "\n").Replace(value)})
		}
	}
	return out
}
