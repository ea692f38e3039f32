package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/fault"
)

// creation is the catalog behind a table that does not exist yet: the first commit writes version 1 of the metadata with the
// table and its first snapshot in it, so the table is never seen without its rows. The file names are those of the
// warehouse's catalog, which finds the table from then on.
type creation struct {
	warehouse *Warehouse
	base      icetable.Metadata
}

// LoadTable is not asked for before the first commit.
func (c *creation) LoadTable(ctx context.Context, ident icetable.Identifier) (*icetable.Table, error) {
	return c.warehouse.catalog.LoadTable(ctx, ident)
}

// CommitTable applies the updates to the table that was only planned so far, and publishes it unless there is one already.
func (c *creation) CommitTable(_ context.Context, ident icetable.Identifier, requirements []icetable.Requirement, updates []icetable.Update) (icetable.Metadata, string, error) {
	for _, r := range requirements {
		if err := r.Validate(c.base); err != nil {
			return nil, "", err
		}
	}
	builder, err := icetable.MetadataBuilderFromBase(c.base, "")
	if err != nil {
		return nil, "", err
	}
	for _, u := range updates {
		if err := u.Apply(builder); err != nil {
			return nil, "", fmt.Errorf("applying %s: %w", u.Action(), err)
		}
	}
	metadata, err := builder.Build()
	if err != nil {
		return nil, "", err
	}
	text, err := json.Marshal(metadata)
	if err != nil {
		return nil, "", err
	}
	location, err := c.publish(Name{ident}, text)
	return metadata, location, err
}

// publish writes the metadata under a name of its own and links it to version 1, which fails if that exists.
func (c *creation) publish(name Name, text []byte) (string, error) {
	var disk syncing
	dir := filepath.Join(c.base.Location(), "metadata")
	if err := disk.MkdirAll(dir); err != nil {
		return "", err
	}
	temporary, first := filepath.Join(dir, uuid.NewString()+".metadata.json"), filepath.Join(dir, "v1.metadata.json")
	if err := disk.WriteFile(temporary, text); err != nil {
		return "", err
	}
	if err := disk.RenameNoReplace(temporary, first); err != nil {
		if removal := disk.Remove(temporary); removal != nil {
			err = errors.Join(err, removal)
		}
		if errors.Is(err, fs.ErrExist) {
			return "", fault.New(fault.Conflict, "the table %s was made by another load meanwhile", name).Try("run the command again")
		}
		return "", err
	}
	return first, disk.WriteFile(filepath.Join(dir, "version-hint.text"), []byte("1"))
}
