package table

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"

	icebergio "github.com/apache/iceberg-go/io"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/database"
	"trevak/internal/fault"
	"trevak/internal/storage"
)

// sqlCatalog finds tables by rows of a database that name their newest metadata, as the SQL catalogs of Iceberg's libraries do, whose
// two tables these are. A commit changes its row only where that names the metadata still which the commit was built on.
type sqlCatalog struct {
	db    *database.Database
	store storage.Store
	// name is that of the catalog in the rows, home the folder that new tables lie in.
	name, home string

	// tx is the transaction that commits of a group are made in, nil outside of one.
	tx *sql.Tx

	mutex sync.Mutex
	// ready says that the tables are there, typed that theirs has a column for the type of an entry.
	ready, typed bool
}

// SQL is how a catalog in a database is reached.
type SQL struct {
	// Name is what it is called in the rows, Location the folder that the files of new tables lie in.
	Name, Location string
	Database       *database.Database
}

// OpenSQL prepares to use a catalog in a database. The database is asked when the first table is.
func OpenSQL(s storage.Store, of SQL) (*Warehouse, error) {
	location, err := s.Canonical(of.Location)
	if err != nil {
		return nil, err
	}
	if err := checkPlace(location); err != nil {
		return nil, err
	}
	own := &sqlCatalog{db: of.Database, store: s, name: of.Name, home: location}
	return &Warehouse{store: s, dir: location, catalog: own, keeper: own}, nil
}

// asked is what statements are put to.
type asked interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// conn is what statements are put to: the database, or the transaction that is under way.
func (c *sqlCatalog) conn() asked {
	if c.tx != nil {
		return c.tx
	}
	return c.db
}

func (c *sqlCatalog) called() string { return c.name }

// begin makes the tables where they are missing.
func (c *sqlCatalog) begin(ctx context.Context) error {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.ready {
		return nil
	}
	there, err := c.db.Has(ctx, "iceberg_tables", "metadata_location")
	if err != nil {
		return c.db.Explain(err)
	}
	if !there {
		for _, text := range []string{
			`CREATE TABLE IF NOT EXISTS iceberg_tables (catalog_name VARCHAR(255) NOT NULL, table_namespace VARCHAR(255) NOT NULL,
				table_name VARCHAR(255) NOT NULL, metadata_location VARCHAR(1000), previous_metadata_location VARCHAR(1000),
				iceberg_type VARCHAR(5), PRIMARY KEY (catalog_name, table_namespace, table_name))`,
			`CREATE TABLE IF NOT EXISTS iceberg_namespace_properties (catalog_name VARCHAR(255) NOT NULL, namespace VARCHAR(255) NOT NULL,
				property_key VARCHAR(255), property_value VARCHAR(1000), PRIMARY KEY (catalog_name, namespace, property_key))`,
		} {
			// Two who make them at once get in each other's way; then they are there.
			if _, err = c.db.ExecContext(ctx, text); err != nil {
				if there, again := c.db.Has(ctx, "iceberg_namespace_properties", "namespace"); again == nil && there {
					continue
				}
				return c.db.Explain(err)
			}
		}
	}
	c.typed, err = c.db.Has(ctx, "iceberg_tables", "iceberg_type")
	c.ready = err == nil
	return c.db.Explain(err)
}

// rows says which rows are those of tables.
func (c *sqlCatalog) rows() string {
	if c.typed {
		return " AND (iceberg_type IS NULL OR iceberg_type = 'TABLE')"
	}
	return ""
}

// ask runs a query, as often as the database has no time for it.
func (c *sqlCatalog) ask(ctx context.Context, f func() error) error {
	if err := c.begin(ctx); err != nil {
		return err
	}
	return patiently(ctx, func() error {
		err := f()
		if database.Unanswered(err) {
			return errors.Join(errUnanswered, c.db.Explain(err))
		}
		return err
	})
}

// change runs a statement, and returns how many rows it changed.
func (c *sqlCatalog) change(ctx context.Context, text string, values ...any) (n int64, err error) {
	got, err := c.conn().ExecContext(ctx, c.db.Query(text), values...)
	if err != nil {
		if database.Unanswered(err) {
			return 0, errors.Join(errUnanswered, c.db.Explain(err))
		}
		return 0, c.db.Explain(err)
	}
	return got.RowsAffected()
}

// newest returns the location of a table's newest metadata; the error is errNoTable where there is none.
func (c *sqlCatalog) newest(ctx context.Context, ident icetable.Identifier) (location string, err error) {
	err = c.ask(ctx, func() error {
		return c.conn().QueryRowContext(ctx, c.db.Query(`SELECT metadata_location FROM iceberg_tables
			WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3`+c.rows()), c.name, above(ident), last(ident)).Scan(&location)
	})
	if errors.Is(err, sql.ErrNoRows) {
		return "", errNoTable
	}
	return location, c.db.Explain(err)
}

func above(ident icetable.Identifier) string { return strings.Join(ident[:len(ident)-1], ".") }

func last(ident icetable.Identifier) string { return ident[len(ident)-1] }

func (c *sqlCatalog) files(ctx context.Context) (icebergio.IO, error) {
	return mending{files{context.WithoutCancel(ctx), c.store}}, nil
}

// LoadTable reads a table as its newest version has it.
func (c *sqlCatalog) LoadTable(ctx context.Context, ident icetable.Identifier) (*icetable.Table, error) {
	t, _, err := c.load(ctx, ident)
	return t, err
}

func (c *sqlCatalog) load(ctx context.Context, ident icetable.Identifier) (*icetable.Table, int, error) {
	location, err := c.newest(ctx, ident)
	if err != nil {
		return nil, 0, err
	}
	t, err := icetable.NewFromLocation(ctx, ident, location, c.files, c)
	return t, 0, err
}

// versionPart is the number that the name of a metadata file begins with.
var versionPart = regexp.MustCompile(`^v?([0-9]+)[-.]`)

// write writes the next metadata of a table, which nothing names yet.
func (c *sqlCatalog) write(ctx context.Context, before string, metadata icetable.Metadata) (location string, err error) {
	text, err := json.Marshal(metadata)
	if err != nil {
		return "", err
	}
	number := 0
	if m := versionPart.FindStringSubmatch(storage.Base(before)); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil {
			number = n + 1
		}
	}
	folder := storage.Join(storage.Path(metadata.Location()), "metadata")
	location = storage.Join(folder, fmt.Sprintf("%05d-%s.metadata.json", number, uuid.New()))
	err = storage.WriteAll(ctx, c.store, location, text, storage.Creation{Mode: storage.Exclusive, Durable: true})
	if err == nil {
		err = storage.Sync(ctx, c.store, folder)
	}
	return location, err
}

// CommitTable makes the next version of a table, unless a requirement does not hold any more.
func (c *sqlCatalog) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	current, _, err := c.load(ctx, ident)
	if err != nil {
		return nil, "", err
	}
	for _, r := range requirements {
		if err := r.Validate(current.Metadata()); err != nil {
			return nil, "", errors.Join(errRaced, err)
		}
	}
	before := current.MetadataLocation()
	next, err := icetable.UpdateTableMetadata(current.Metadata(), updates, before)
	if err != nil {
		return nil, "", fmt.Errorf("making the next version of the metadata: %w", err)
	}
	location, err := c.write(ctx, before, next)
	if err != nil {
		return nil, "", err
	}
	n, err := c.change(ctx, `UPDATE iceberg_tables SET metadata_location = $1, previous_metadata_location = $2
		WHERE catalog_name = $3 AND table_namespace = $4 AND table_name = $5 AND metadata_location = $2`, location, before, c.name,
		above(ident), last(ident))
	if err = c.settle(ctx, ident, location, n, err); err != nil {
		return nil, "", err
	}
	c.prune(ctx, current.Metadata(), next)
	return next, location, nil
}

// settle finds out what became of a change that was to have a table's row name a location, and removes that where it does not.
func (c *sqlCatalog) settle(ctx context.Context, ident icetable.Identifier, location string, changed int64, err error) error {
	if err == nil && changed == 1 {
		return nil
	}
	ctx = context.WithoutCancel(ctx)
	now, found := c.newest(ctx, ident)
	switch {
	case found == nil && now == location:
		return nil
	case err == nil, found == nil && !unanswered(err):
		// The row names another, and what this one was to do is not under way any more.
		_ = c.store.Remove(ctx, location)
	}
	if err == nil {
		return errRaced
	}
	return err
}

// prune removes versions of the metadata that the table does not name any more, where its properties say so.
func (c *sqlCatalog) prune(ctx context.Context, before, now icetable.Metadata) {
	if !now.Properties().GetBool(icetable.MetadataDeleteAfterCommitEnabledKey, icetable.MetadataDeleteAfterCommitEnabledDefault) {
		return
	}
	named := map[string]bool{}
	for entry := range now.PreviousFiles() {
		named[entry.MetadataFile] = true
	}
	for entry := range before.PreviousFiles() {
		if !named[entry.MetadataFile] {
			// What cannot be removed is found by who looks for what nothing names.
			_ = c.store.Remove(ctx, storage.Path(entry.MetadataFile))
		}
	}
}

// create makes the first version of a table.
func (c *sqlCatalog) create(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	metadata, err := icetable.UpdateTableMetadata(planned, updates, "")
	if err != nil {
		return nil, "", err
	}
	if err := c.makeNamespace(ctx, ident[:len(ident)-1]); err != nil {
		return nil, "", err
	}
	location, err := c.write(ctx, "", metadata)
	if err != nil {
		return nil, "", err
	}
	return metadata, location, c.insert(ctx, ident, location, true)
}

// insert adds the row of a table; own says that its metadata was written for it.
func (c *sqlCatalog) insert(ctx context.Context, ident icetable.Identifier, location string, own bool) error {
	if err := c.begin(ctx); err != nil {
		return err
	}
	columns, values := "", ""
	if c.typed {
		columns, values = ", iceberg_type", ", 'TABLE'"
	}
	n, err := c.change(ctx, `INSERT INTO iceberg_tables (catalog_name, table_namespace, table_name, metadata_location`+columns+`)
		VALUES ($1, $2, $3, $4`+values+`) ON CONFLICT DO NOTHING`, c.name, above(ident), last(ident), location)
	if own {
		return c.settle(ctx, ident, location, n, err)
	}
	if err == nil && n == 0 {
		return errRaced
	}
	return err
}

func (c *sqlCatalog) register(ctx context.Context, name Name, metadata string) error {
	if err := c.makeNamespace(ctx, name.parts[:len(name.parts)-1]); err != nil {
		return err
	}
	return c.insert(ctx, name.parts, metadata, false)
}

func (c *sqlCatalog) drop(ctx context.Context, name Name) error {
	_, err := c.change(ctx, `DELETE FROM iceberg_tables WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3`, c.name,
		above(name.parts), last(name.parts))
	return fault.Wrap(fault.Storage, err, "the table %s cannot be dropped", name)
}
