package table

import (
	"context"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
)

// creation is the catalog behind a table that does not exist yet: the first commit writes version 1 of the metadata with the
// table and its first snapshot in it, so the table is never seen without its rows.
type creation struct {
	catalog
	base icetable.Metadata
}

// CommitTable applies the updates to the table that was only planned so far, and publishes it unless there is one already.
func (c *creation) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	for _, r := range requirements {
		if err := r.Validate(c.base); err != nil {
			return nil, "", err
		}
	}
	return c.create(ctx, ident, c.base, updates)
}

// planner is a catalog that is told of a new table before its files are written.
type planner interface {
	// plan returns where the files may be written, empty for where it was planned, and the namespaces that it made for the table.
	plan(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata) (location string, made [][]string, err error)
}

// place has the catalog of a new table say where its files lie.
func (a *Append) place(ctx context.Context) error {
	p, ok := a.warehouse.keeper.(planner)
	if !ok || !a.Creates || a.placed {
		return nil
	}
	a.placed = true
	location, made, err := p.plan(ctx, a.name.parts, a.base.Metadata())
	a.made = made
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the table %s cannot be made", a.name)
	}
	if location == "" || location == a.base.Location() {
		return nil
	}
	metadata, err := icetable.UpdateTableMetadata(a.base.Metadata(), []icetable.Update{icetable.NewSetLocationUpdate(location)}, "")
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the table %s cannot lie in %s", a.name, location)
	}
	c := a.warehouse.catalog
	a.base = icetable.New(a.name.parts, metadata, "", c.files, &creation{catalog: c, base: metadata})
	return nil
}
