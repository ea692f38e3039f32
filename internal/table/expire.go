package table

import (
	"context"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/storage"
)

// statesKeptKey is the property of a table that says how many of its states are kept: with a commit the oldest ones beyond these expire,
// but for those that a branch or tag names. Without it all are kept. What they had of files stays on the disk.
const statesKeptKey = "history.expire.min-snapshots-to-keep"

// expiring are the states of a table that expire with the next commit.
func expiring(metadata icetable.Metadata) (ids []int64) {
	kept := metadata.Properties().GetInt(statesKeptKey, 0)
	snapshots := metadata.Snapshots()
	beyond := len(snapshots) + 1 - kept
	if kept < 1 || beyond <= 0 {
		return nil
	}
	named := stays(metadata)
	// They stand in the order in which they came.
	for _, s := range snapshots[:beyond] {
		if !named[s.SnapshotID] {
			ids = append(ids, s.SnapshotID)
		}
	}
	return ids
}

// stays are the states that never expire by themselves: those that a tag names, the newest of each branch, and those by which a branch
// that is not published yet goes back to the table.
func stays(metadata icetable.Metadata) map[int64]bool {
	named := map[int64]bool{}
	for name, ref := range metadata.Refs() {
		named[ref.SnapshotID] = true
		if name == Main || ref.SnapshotRefType != icetable.BranchRef {
			continue
		}
		past, own := map[int64]bool{}, []int64{}
		ancestors(metadata, metadata.CurrentSnapshot(), func(s icetable.Snapshot) bool {
			past[s.SnapshotID] = true
			return true
		})
		ancestors(metadata, metadata.SnapshotByID(ref.SnapshotID), func(s icetable.Snapshot) bool {
			own = append(own, s.SnapshotID)
			return !past[s.SnapshotID]
		})
		for _, id := range own {
			named[id] = true
		}
	}
	return named
}

// cleanse removes what only states had of metadata that have expired with a commit: their manifest lists, manifests and segments of the
// ledger. Manifests are told only where the states that are left followed each other; where they did not, they stay. Files with rows stay
// in every case.
func (w *Warehouse) cleanse(ctx context.Context, before, now *Table) {
	kept := map[int64]bool{}
	segments := map[string]bool{}
	name := func(text string, there bool) {
		for _, s := range ledgerNames(text) {
			segments[s] = segments[s] || there
		}
	}
	left := now.table.Metadata().Snapshots()
	for _, s := range left {
		kept[s.SnapshotID] = true
		name(ledgerOf(s), true)
	}
	name(now.table.Properties()[ledgerKey], true)
	var expired []icetable.Snapshot
	for _, s := range before.table.Metadata().Snapshots() {
		if !kept[s.SnapshotID] {
			expired = append(expired, s)
			name(ledgerOf(s), false)
		}
	}
	if len(expired) == 0 || len(left) == 0 {
		return
	}
	var gone []string
	for s, there := range segments {
		if !there && s != "" {
			gone = append(gone, storage.Join(now.LedgerFolder(), s))
		}
	}
	gone = append(gone, w.manifestsOf(ctx, now, expired, left)...)
	for _, s := range expired {
		gone = append(gone, storage.Path(s.ManifestList))
	}
	for _, uri := range gone {
		if now.within(uri) {
			// What cannot be removed is named by nothing.
			_ = w.store.Remove(ctx, uri)
		}
	}
}

func ledgerOf(s icetable.Snapshot) string {
	if s.Summary == nil {
		return ""
	}
	return s.Summary.Properties[ledgerKey]
}

// manifestsOf are the manifests of expired states that no state which is left has: the oldest of these does not have them, and the others
// followed it, each the one before.
func (w *Warehouse) manifestsOf(ctx context.Context, now *Table, expired, left []icetable.Snapshot) (out []string) {
	for i, s := range left[1:] {
		if s.ParentSnapshotID == nil || *s.ParentSnapshotID != left[i].SnapshotID {
			return nil
		}
	}
	disk, err := now.table.FS(ctx)
	if err != nil {
		return nil
	}
	still := map[string]bool{}
	manifests, err := left[0].Manifests(disk)
	if err != nil {
		return nil
	}
	for _, m := range manifests {
		still[m.FilePath()] = true
	}
	for _, s := range expired {
		manifests, err := s.Manifests(disk)
		if err != nil {
			return nil
		}
		for _, m := range manifests {
			if !still[m.FilePath()] {
				still[m.FilePath()] = true
				out = append(out, storage.Path(m.FilePath()))
			}
		}
	}
	return out
}
