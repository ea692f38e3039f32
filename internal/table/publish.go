package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Place is the folder that a new table of a name lies in.
func (w *Warehouse) Place(name Name) string { return storage.Join(w.dir, name.parts...) }

// keptByKey is the property that names the catalog which keeps a table; without it, the folder that it lies in does.
const keptByKey = "trevak.kept-by"

// keeping is the property that a table has which is kept by the warehouse's catalog.
func (w *Warehouse) keeping() string {
	if w.keeper == nil {
		return ""
	}
	return w.keeper.called()
}

// kept returns metadata that names the catalog of the warehouse as its keeper.
func (w *Warehouse) kept(m icetable.Metadata) (icetable.Metadata, error) {
	if m.Properties()[keptByKey] == w.keeping() {
		return m, nil
	}
	change := icetable.Update(icetable.NewRemovePropertiesUpdate([]string{keptByKey}))
	if name := w.keeping(); name != "" {
		change = icetable.NewSetPropertiesUpdate(iceberg.Properties{keptByKey: name})
	}
	return icetable.UpdateTableMetadata(m, []icetable.Update{change}, "")
}

// Keeper is the catalog that keeps the table, empty for the folder that it lies in.
func (t *Table) Keeper() string { return t.table.Properties()[keptByKey] }

// KeptBy is the description of the table as it is when another warehouse's catalog keeps it.
func (t *Table) KeptBy(w *Warehouse) ([]byte, error) {
	m, err := w.kept(t.table.Metadata())
	if err != nil {
		return nil, err
	}
	return json.Marshal(m)
}

// Planned is Place for a table that is to be as another is: a catalog that is told of new tables may have another place for it.
func (w *Warehouse) Planned(ctx context.Context, name Name, like *Table) (string, error) {
	home := w.Place(name)
	p, ok := w.keeper.(planner)
	if !ok {
		return home, nil
	}
	metadata, err := icetable.UpdateTableMetadata(like.table.Metadata(), []icetable.Update{icetable.NewSetLocationUpdate(home)}, "")
	if err != nil {
		return "", fault.Wrap(fault.Storage, err, "the table %s cannot lie in %s", name, home)
	}
	location, _, err := p.plan(ctx, name.parts, metadata)
	if err != nil || location == "" {
		return home, fault.Wrap(fault.Storage, err, "the table %s cannot be made", name)
	}
	return location, nil
}

// Show makes a table of metadata that nothing names yet. The error is of the kind Conflict where there is one of the name.
func (w *Warehouse) Show(ctx context.Context, name Name, metadata icetable.Metadata) error {
	metadata, err := w.kept(metadata)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the metadata of table %s cannot be written", name)
	}
	if w.keeper != nil {
		text, err := json.Marshal(metadata)
		if err != nil {
			return err
		}
		location := storage.Join(storage.Path(metadata.Location()), "metadata", fmt.Sprintf("00000-%s.metadata.json", uuid.New()))
		if err := storage.WriteAll(ctx, w.store, location, text, storage.Creation{Mode: storage.Exclusive, Durable: true}); err != nil {
			return fault.Wrap(fault.Storage, err, "the metadata of table %s cannot be written", name)
		}
		return w.Register(ctx, name, location)
	}
	return w.locked(ctx, func() error {
		if err := w.free(ctx, name); err != nil {
			return err
		}
		_, err := w.folder.publish(ctx, name.parts, 1, metadata)
		return shown(name, err)
	})
}

// Register makes a table of metadata that is there already, in a catalog that others keep.
func (w *Warehouse) Register(ctx context.Context, name Name, location string) error {
	if w.keeper == nil {
		return fault.New(fault.Usage, "the warehouse %s is a folder, whose tables lie in it", w.dir).
			Try("copy the files too, or name a catalog of another kind")
	}
	return shown(name, w.keeper.register(ctx, name, location))
}

func shown(name Name, err error) error {
	switch {
	case errors.Is(err, errRaced):
		return fault.New(fault.Conflict, "there is a table %s by now", name).Try("give the copy another name")
	case err != nil:
		return fault.Wrap(fault.Storage, err, "the table %s cannot be made", name)
	}
	return nil
}

// Reshow makes metadata the next version of a table in a folder, as long as it is the one that was looked at.
func (w *Warehouse) Reshow(ctx context.Context, t *Table, metadata icetable.Metadata) error {
	return w.locked(ctx, func() error {
		uri, version, err := w.folder.newest(ctx, t.Name.parts)
		if err != nil {
			return fault.Wrap(fault.Storage, err, "the table %s cannot be loaded", t.Name)
		}
		if uri != t.MetadataLocation() {
			return changedMeanwhile(t.Name, "was changed")
		}
		_, err = w.folder.publish(ctx, t.Name.parts, version+1, metadata)
		return shown(t.Name, err)
	})
}

// Discard removes files that were to be those of a table which has not come into being, and folders that are empty without them. It does
// nothing where it cannot be told whether the table comes into being meanwhile.
func (w *Warehouse) Discard(ctx context.Context, name Name, uris []string) {
	if _, locks := w.store.(storage.Locker); w.folder == nil || !locks && storage.Scheme(w.dir) != "" {
		return
	}
	// Files that stay are used by the next run.
	_ = w.locked(ctx, func() error {
		if _, err := w.folder.LoadTable(ctx, name.parts); !errors.Is(err, errNoTable) {
			return err
		}
		for _, uri := range uris {
			_ = w.store.Remove(ctx, uri)
			for dir := storage.Dir(uri); len(dir) > len(w.dir) && w.store.Remove(ctx, dir) == nil; {
				dir = storage.Dir(dir)
			}
		}
		return nil
	})
}

// MetadataLocation is where the description of the table lies.
func (t *Table) MetadataLocation() string { return storage.Path(t.table.MetadataLocation()) }

// IsFolder reports whether the warehouse is its own catalog.
func (w *Warehouse) IsFolder() bool { return w.folder != nil }

// SameAs reports whether another table, which may be nil, has the same newest state and is the same table: a copy that was registered.
func (t *Table) SameAs(other *Table) bool {
	return other != nil && t.table.Metadata().TableUUID() == other.table.Metadata().TableUUID()
}

// Shaped reports whether another table has the same columns, layout, properties and checks, and with its history the same tags and
// branches: what can change of a table while its state stays.
func (t *Table) Shaped(other *Table, history bool) bool {
	return t.table.Schema().Equals(other.table.Schema()) && slices.Equal(t.Spec, other.Spec) && slices.Equal(t.Sort, other.Sort) &&
		maps.Equal(t.Properties(), other.Properties()) && slices.Equal(t.Checks(), other.Checks()) &&
		(!history || slices.Equal(t.Refs(), other.Refs()))
}

// Summary is an entry of what the table's newest state tells of itself, empty for none.
func (t *Table) Summary(key string) string {
	if t.state == nil || t.state.Summary == nil {
		return ""
	}
	return t.state.Summary.Properties[key]
}

// HandOver has a table of a folder be kept by another warehouse's catalog, which knows it already: from then on it is only read here. An
// error says that it was changed meanwhile, or cannot be written; the other catalog forgets it then.
func (w *Warehouse) HandOver(ctx context.Context, t *Table, to *Warehouse, name Name) error {
	_, err := w.Commit(ctx, t.Name, "", Change{Quiet: true, Properties: map[string]string{keptByKey: to.keeping()},
		Check: func(now *Table) error {
			if now.MetadataLocation() != t.MetadataLocation() {
				return changedMeanwhile(t.Name, "was changed")
			}
			return nil
		}})
	if err != nil {
		return errors.Join(err, to.keeper.drop(context.WithoutCancel(ctx), name))
	}
	return nil
}
