package table

import (
	"context"
	"errors"
	"runtime"
	"slices"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"golang.org/x/sync/errgroup"

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
	manifests, err := t.manifestsInOrder(ctx)
	if err != nil {
		return err
	}
	for _, m := range manifests {
		if err := t.eachEntry(ctx, []iceberg.ManifestFile{m}, false, func(e iceberg.ManifestEntry) error {
			visit(e)
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// errEnough ends a look at entries early.
var errEnough = errors.New("enough")

// someEntries is entries until visit wants no more.
func (t *Table) someEntries(ctx context.Context, visit func(iceberg.ManifestEntry) bool) error {
	manifests, err := t.manifestsInOrder(ctx)
	if err != nil {
		return err
	}
	for _, m := range manifests {
		err := t.eachEntry(ctx, []iceberg.ManifestFile{m}, false, func(e iceberg.ManifestEntry) error {
			if !visit(e) {
				return errEnough
			}
			return nil
		})
		if errors.Is(err, errEnough) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// manifestsInOrder are the manifests of the state in the order in which they came.
func (t *Table) manifestsInOrder(ctx context.Context) ([]iceberg.ManifestFile, error) {
	if t.state == nil {
		return nil, nil
	}
	l, err := t.listsOf(ctx, []icetable.Snapshot{*t.state})
	if err != nil {
		return nil, err
	}
	sortManifests(l.manifests)
	return l.manifests, nil
}

// gather makes a list of the entries of a state, in their order, of which pick makes something or nothing. Manifests are read side by
// side, so pick is called by several at once.
func gather[T any](ctx context.Context, t *Table, pick func(iceberg.ManifestEntry) (T, bool)) ([]T, error) {
	manifests, err := t.manifestsInOrder(ctx)
	if err != nil {
		return nil, err
	}
	parts := make([][]T, len(manifests))
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i, m := range manifests {
		work.Go(func() error {
			return t.eachEntry(inner, []iceberg.ManifestFile{m}, false, func(e iceberg.ManifestEntry) error {
				if v, ok := pick(e); ok {
					parts[i] = append(parts[i], v)
				}
				return nil
			})
		})
	}
	err = work.Wait()
	return slices.Concat(parts...), err
}
