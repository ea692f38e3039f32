package table

import (
	"context"
	"database/sql"
	"errors"

	"trevak/internal/database"
	"trevak/internal/fault"
)

// Together makes commits to several tables of a warehouse one, where its catalog can: one in a database does. It is for one goroutine.
type Together struct {
	// Warehouse is what the tables are to be found and made by.
	Warehouse *Warehouse
	catalog   *sqlCatalog // nil where commits stand for themselves
}

// Together begins a group of commits.
func (w *Warehouse) Together() *Together {
	own := *w
	c, ok := w.keeper.(*sqlCatalog)
	if !ok {
		return &Together{Warehouse: &own}
	}
	in := &sqlCatalog{db: c.db, store: c.store, name: c.name, home: c.home}
	own.catalog, own.keeper = in, in
	return &Together{Warehouse: &own, catalog: in}
}

// Whole reports whether all commits of the group are one.
func (g *Together) Whole() bool { return g.catalog != nil }

// Commit makes the commits that f makes. Where they are one, an error of f, or of the database at the end, has none of them made.
func (g *Together) Commit(ctx context.Context, f func(context.Context) error) error {
	if g.catalog == nil {
		return f(ctx)
	}
	c := g.catalog
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
			e := fault.New(fault.Storage, "the database %s did not answer whether it made the commits of the group", c.db.Shown).
				Try("do the same again: what was loaded is known then")
			e.Cause = errors.Join(ErrUntold, err)
			return e
		}
		return c.db.Explain(err)
	}
	return nil
}
