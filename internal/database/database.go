// Package database opens databases by their URIs: files of SQLite, and PostgreSQL.
//
// What comes in are URIs without secrets and what they are asked with; what goes out are connections, and errors that say what to do.
package database

import (
	"context"
	"database/sql"
	"errors"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"modernc.org/sqlite"
	sqlitecode "modernc.org/sqlite/lib"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Database is an open database. Whoever opened it closes it.
type Database struct {
	*sql.DB
	// Shown names it without anything secret.
	Shown string
	lite  bool
}

// Of takes a URI apart into its kind, sqlite or postgres, and what follows; ok is false for others.
func Of(uri string) (kind, rest string, ok bool) {
	if path, ok := strings.CutPrefix(uri, "sqlite:"); ok && path != "" {
		return "sqlite", path, true
	}
	if scheme := storage.Scheme(uri); scheme == "postgres" || scheme == "postgresql" {
		return "postgres", uri, true
	}
	return "", "", false
}

// Check refuses a URI of another kind, and one that has a password.
func Check(uri string) *fault.Error {
	kind, rest, ok := Of(uri)
	if !ok {
		return fault.New(fault.Usage, "%q is no address of a database", storage.Shown(uri)).
			Try("write it like sqlite:folder/catalog.db or postgres://user@host/database")
	}
	if kind == "postgres" {
		u, err := url.Parse(rest)
		if err != nil {
			return fault.New(fault.Usage, "the address of the database cannot be read").Try("write it like postgres://user@host/database")
		}
		if _, has := u.User.Password(); has || u.Query().Has("password") {
			return fault.New(fault.Usage, "the address of the database %s has a password in it", storage.Shown(rest)).
				Try("leave it out, and have the environment (PGPASSWORD) or a file (~/.pgpass) hold it")
		}
	}
	return nil
}

// connectTime is how long a connection may take.
const connectTime = 10 * time.Second

// Open opens a database; the first request connects. The password is empty where the platform has it: in the environment or in a file
// for passwords.
func Open(uri, password string) (*Database, error) {
	if e := Check(uri); e != nil {
		return nil, e
	}
	kind, rest, _ := Of(uri)
	if kind == "sqlite" {
		return openLite(rest)
	}
	config, err := pgx.ParseConfig(rest)
	if err != nil {
		// The library's error may repeat what is secret.
		return nil, fault.New(fault.Usage, "the address of the database %s cannot be read", storage.Shown(rest)).
			Try("write it like postgres://user@host/database")
	}
	if password != "" {
		config.Password = password
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = connectTime
	}
	config.RuntimeParams["application_name"] = "trevak"
	return &Database{DB: stdlib.OpenDB(*config), Shown: storage.Shown(rest)}, nil
}

// openLite opens a file, which need not exist. Others may write to it at the same time: who comes later waits.
func openLite(path string) (*Database, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "the path %s has no absolute form", path)
	}
	if err := os.MkdirAll(filepath.Dir(abs), 0o777); err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the folder of the database %s cannot be made", path)
	}
	place := url.URL{Scheme: "file", Opaque: (&url.URL{Path: filepath.ToSlash(abs)}).EscapedPath()}
	db, err := sql.Open("sqlite", place.String()+"?_pragma=busy_timeout(20000)&_pragma=journal_mode(WAL)"+
		"&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the database %s cannot be opened", path)
	}
	// One after the other is what the file allows anyway.
	db.SetMaxOpenConns(1)
	return &Database{DB: db, Shown: "sqlite:" + path, lite: true}, nil
}

// Query is a query as the database takes it, of one whose parameters are $1, $2 and so on.
func (d *Database) Query(text string) string {
	if d.lite {
		return strings.ReplaceAll(text, "$", "?")
	}
	return text
}

// Has reports whether a table has a column; a table that is not there has none.
func (d *Database) Has(ctx context.Context, table, column string) (bool, error) {
	text := "SELECT count(*) FROM information_schema.columns WHERE table_schema = ANY(current_schemas(false)) AND table_name = $1 " +
		"AND column_name = $2"
	if d.lite {
		text = "SELECT count(*) FROM pragma_table_info(?1) WHERE name = ?2"
	}
	n := 0
	err := d.QueryRowContext(ctx, text, table, column).Scan(&n)
	return n > 0, err
}

// May reports whether who asks has a right to a table; known is false where the database tells of none.
func (d *Database) May(ctx context.Context, right, table string) (may, known bool, err error) {
	if d.lite {
		may, known = storage.MayWrite(strings.TrimPrefix(d.Shown, "sqlite:"))
		return may || right == "SELECT", known, nil
	}
	err = d.QueryRowContext(ctx, "SELECT has_table_privilege($1, $2)", table, right).Scan(&may)
	return may, true, err
}

// Unanswered reports whether it cannot be told by an error whether a statement was carried out.
func Unanswered(err error) bool {
	if err == nil || errors.Is(err, sql.ErrNoRows) || errors.Is(err, context.Canceled) {
		return false
	}
	if told, ok := errors.AsType[*pgconn.PgError](err); ok {
		// Classes 08, 57P and 40: the connection broke, the server is going down, or statements got in each other's way.
		return strings.HasPrefix(told.Code, "08") || strings.HasPrefix(told.Code, "57P") || strings.HasPrefix(told.Code, "40")
	}
	if told, ok := errors.AsType[*sqlite.Error](err); ok {
		code := told.Code() & 0xff
		return code == sqlitecode.SQLITE_BUSY || code == sqlitecode.SQLITE_LOCKED
	}
	return true
}

// Explain makes of an error one that says what to do.
func (d *Database) Explain(err error) error {
	if err == nil || fault.KindOf(err) != 0 || errors.Is(err, context.Canceled) {
		return err
	}
	if told, ok := errors.AsType[*pgconn.PgError](err); ok {
		return d.explainAnswer(told)
	}
	if told, ok := errors.AsType[*sqlite.Error](err); ok {
		e := fault.New(fault.Storage, "the database %s does not do what it is asked", d.Shown).
			Try("check that it can be written to, and is one of SQLite")
		e.Cause = told
		return e
	}
	e := fault.New(fault.Storage, "the database %s cannot be reached", d.Shown).Try("check its address, and the network")
	var call *net.OpError
	var name *net.DNSError
	switch {
	case errors.As(err, &name):
		e.Cause = errors.New("there is no server " + name.Name)
	case errors.As(err, &call):
		e.Cause = call.Err
	}
	return e
}

func (d *Database) explainAnswer(told *pgconn.PgError) error {
	reason, way := "the database %s does not do what it is asked", "see what it says"
	switch told.Code {
	case "28P01", "28000":
		reason = "the database %s does not accept who asks"
		way = "have the environment (PGUSER, PGPASSWORD) or ~/.pgpass name a login that it knows"
	case "42501":
		reason, way = "the database %s refuses: a right is missing", "have it given to who asks, like GRANT SELECT, INSERT, UPDATE, DELETE"
	case "3D000":
		reason, way = "there is no such database: %s", "check its name, or have it made"
	case "53300", "53400":
		reason, way = "the database %s takes no more connections", "try again later"
	case "53100":
		reason, way = "the disk of the database %s is full", "make room on it"
	case "57014":
		reason, way = "the database %s gave up what took too long", "try again, or raise its statement_timeout"
	}
	e := fault.New(fault.Storage, reason, d.Shown).Try("%s", way)
	// The message names tables and rights, never values.
	e.Cause = errors.New(told.Message)
	return e
}
