package table

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

	icecatalog "github.com/apache/iceberg-go/catalog"
	"github.com/apache/iceberg-go/catalog/rest"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/database"
	"trevak/internal/fault"
)

// Together makes commits to several tables of a warehouse one, where its catalog can: one in a database does, and a service may. It is for
// one goroutine.
type Together struct {
	// Warehouse is what the tables are to be found and made by.
	Warehouse *Warehouse
	database  *sqlCatalog // nil for others
	service   *gathering  // likewise
}

// Together begins a group of commits.
func (w *Warehouse) Together() *Together {
	own := *w
	g := &Together{Warehouse: &own}
	switch c := w.keeper.(type) {
	case *sqlCatalog:
		g.database = &sqlCatalog{db: c.db, store: c.store, name: c.name, home: c.home}
		own.catalog, own.keeper = g.database, g.database
	case *service:
		g.service = &gathering{service: c}
		own.catalog, own.keeper = g.service, g.service
	}
	return g
}

// Whole reports whether all commits of the group are one.
func (g *Together) Whole() bool { return g.database != nil || g.service != nil && !g.service.direct }

// Commit makes the commits that f makes, which may be called again. Where they are one, an error of f, or of the catalog at the end, has
// none of them made.
func (g *Together) Commit(ctx context.Context, f func(context.Context) error) error {
	switch {
	case g.database != nil:
		return g.inDatabase(ctx, f)
	case g.service != nil && !g.service.direct:
		return g.atService(ctx, f)
	}
	return f(ctx)
}

func (g *Together) inDatabase(ctx context.Context, f func(context.Context) error) error {
	c := g.database
	if err := c.begin(ctx); err != nil {
		return err
	}
	tx, err := c.db.BeginTx(ctx, &sql.TxOptions{})
	if err != nil {
		return c.db.Explain(err)
	}
	c.tx = tx
	defer func() { c.tx = nil }()
	if err := f(ctx); err != nil {
		// What was asked within it does not count.
		_ = tx.Rollback()
		return err
	}
	if err := tx.Commit(); err != nil {
		if database.Unanswered(err) {
			return untoldGroup("the database "+c.db.Shown, err)
		}
		return c.db.Explain(err)
	}
	return nil
}

func untoldGroup(who string, cause error) error {
	e := fault.New(fault.Storage, "%s did not answer whether it made the commits of the group", who).
		Try("do the same again: what was loaded is known then")
	e.Cause = errors.Join(ErrUntold, cause)
	return e
}

// gathering is a service whose commits are gathered, to be sent as one (Iceberg REST protocol, "transactions/commit").
type gathering struct {
	*service
	commits []icetable.TableCommit
	// direct says that the service does not take several commits as one, so that each is sent by itself.
	direct bool
}

func (g *Together) atService(ctx context.Context, f func(context.Context) error) error {
	s := g.service
	s.commits = nil
	if err := f(ctx); err != nil || len(s.commits) == 0 {
		return err
	}
	err := s.Catalog.CommitTransaction(ctx, s.commits)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, rest.ErrEndpointNotSupported), errors.Is(err, icecatalog.ErrNoSuchTable):
		s.direct = true
		return f(ctx)
	case errors.Is(err, icetable.ErrCommitFailed), errors.Is(err, rest.ErrCommitFailed):
		// Others were first: all is to be looked at anew.
		return errors.Join(ErrChanged, s.told("commit to", "the tables of the group", err))
	case unanswered(err):
		return untoldGroup("the catalog "+s.name, err)
	}
	return s.told("commit to", "the tables of the group", err)
}

// LoadTable reads a table whose commits are gathered.
func (s *gathering) LoadTable(ctx context.Context, ident icetable.Identifier) (*icetable.Table, error) {
	t, _, err := s.load(ctx, ident)
	return t, err
}

func (s *gathering) load(ctx context.Context, ident icetable.Identifier) (*icetable.Table, int, error) {
	t, version, err := s.service.load(ctx, ident)
	if err != nil {
		return nil, 0, err
	}
	return icetable.New(ident, t.Metadata(), t.MetadataLocation(), s.files, s), version, nil
}

// CommitTable keeps a commit for later, and tells what the table will be.
func (s *gathering) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	if s.direct {
		return s.service.CommitTable(ctx, ident, requirements, updates)
	}
	now, err := s.LoadTable(ctx, ident)
	if err != nil {
		return nil, "", err
	}
	for _, r := range requirements {
		if err := r.Validate(now.Metadata()); err != nil {
			return nil, "", errors.Join(errRaced, err)
		}
	}
	next, err := icetable.UpdateTableMetadata(now.Metadata(), updates, now.MetadataLocation())
	if err != nil {
		return nil, "", fmt.Errorf("making the next version of the metadata: %w", err)
	}
	s.commits = append(s.commits, icetable.TableCommit{Identifier: ident, Requirements: requirements, Updates: updates})
	return next, now.MetadataLocation(), nil
}

// create keeps the first commit of a table for later.
func (s *gathering) create(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	if s.direct {
		return s.service.create(ctx, ident, planned, updates)
	}
	if err := s.makeNamespace(ctx, ident[:len(ident)-1]); err != nil {
		return nil, "", err
	}
	next, err := icetable.UpdateTableMetadata(planned, updates, "")
	if err != nil {
		return nil, "", err
	}
	s.commits = append(s.commits, icetable.TableCommit{Identifier: ident, Requirements: []icetable.Requirement{icetable.AssertCreate()},
		Updates: slices.Concat(firstUpdates(planned), updates)})
	return next, "", nil
}
