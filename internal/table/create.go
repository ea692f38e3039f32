package table

import (
	"context"

	icetable "github.com/apache/iceberg-go/table"
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
