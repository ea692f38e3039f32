package table

import (
	"context"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
)

// Manifests is how many manifests a state has.
type Manifests struct {
	Data, Deletes int
	// Bytes are those of the manifests of data files.
	Bytes int64
}

// ManifestBytes is how large manifests become that are written anew.
const ManifestBytes = icetable.ManifestTargetSizeBytesDefault

// Manifests counts the manifests of the state.
func (t *Table) Manifests(ctx context.Context) (m Manifests, err error) {
	if t.state == nil {
		return m, nil
	}
	l, err := t.listsOf(ctx, []icetable.Snapshot{*t.state})
	if err != nil {
		return m, err
	}
	for _, manifest := range l.manifests {
		if manifest.ManifestContent() == iceberg.ManifestContentDeletes {
			m.Deletes++
			continue
		}
		m.Data++
		m.Bytes += manifest.Length()
	}
	return m, nil
}

// MergeManifests makes few manifests of many small ones, in one commit.
func (w *Warehouse) MergeManifests(ctx context.Context, name Name) error {
	_, err := w.Commit(ctx, name, newID(), Change{Manifests: true})
	return err
}
