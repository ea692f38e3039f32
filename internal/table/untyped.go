package table

import (
	"context"

	"github.com/apache/iceberg-go"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// KeepTypes ends the search for a type of those columns without one that have values all the same, which another program may
// have written, and of those that partitions or the order of rows go by: their types stay.
func (t *Table) KeepTypes(ctx context.Context) error {
	if len(t.Schema.Untyped()) == 0 {
		return nil
	}
	others := false
	for _, s := range t.table.Metadata().Snapshots() {
		others = others || s.Summary == nil || s.Summary.Properties[commitIDKey] == ""
	}
	used := map[int]bool{}
	for _, f := range t.Spec {
		used[t.Schema.IDOf(f.Column)] = true
	}
	for _, f := range t.Sort {
		used[t.Schema.IDOf(f.Column)] = true
	}
	err := t.entries(ctx, func(e iceberg.ManifestEntry) {
		f := e.DataFile()
		values, nulls := f.ValueCounts(), f.NullValueCounts()
		t.Schema.Walk(func(_ string, field *schema.Field) {
			n, counted := values[field.ID]
			if field.Untyped && (n > nulls[field.ID] || !counted && others) {
				used[field.ID] = true
			}
		})
	})
	t.Schema.Walk(func(_ string, f *schema.Field) { f.Untyped = f.Untyped && !used[f.ID] })
	return err
}

// entries hands over the files of the state, data and deletes.
func (t *Table) entries(ctx context.Context, visit func(iceberg.ManifestEntry)) error {
	snapshot := t.state
	if snapshot == nil {
		return nil
	}
	disk, err := t.table.FS(ctx)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the files of table %s cannot be listed", t.Name)
	}
	manifests, err := snapshot.Manifests(disk)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the manifests of table %s cannot be read", t.Name)
	}
	sortManifests(manifests)
	for _, m := range manifests {
		entries, err := m.FetchEntries(disk, true)
		if err != nil {
			return fault.Wrap(fault.Storage, err, "a manifest of table %s cannot be read", t.Name)
		}
		for _, e := range entries {
			visit(e)
		}
	}
	return nil
}
