package table

import (
	"context"
	"slices"
	"strconv"
	"time"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Expiry says which states of a table end.
type Expiry struct {
	// Before is the time before which states came about that end; zero for whenever they did.
	Before time.Time
	// Keep is how many of the newest of each branch stay in every case; at least one does.
	Keep int
}

// Expired is what came of an expiry.
type Expired struct {
	// Snapshots are the states that ended, the oldest first, of All that there were.
	Snapshots []Snapshot
	All       int
	// Files with rows or deletes and Metadata are what only these states had, and what was removed.
	Files, Metadata int
	Bytes           int64
}

// Expire ends states of a table, and removes the files that no other state has. The newest state of each branch stays, and so do those
// that tags name. A dry run only tells.
func (w *Warehouse) Expire(ctx context.Context, name Name, e Expiry, dry bool) (*Expired, error) {
	for {
		now, err := w.Find(ctx, name)
		if err == nil {
			err = w.writable(now)
		}
		if err != nil {
			return nil, err
		}
		ended, left := e.choose(now.table.Metadata())
		out := &Expired{All: len(ended) + len(left)}
		if len(ended) == 0 {
			return out, nil
		}
		var ids []int64
		for _, s := range ended {
			ids = append(ids, s.SnapshotID)
			out.Snapshots = append(out.Snapshots, describeSnapshot(s))
		}
		held, err := now.only(ctx, ended, left)
		if err != nil {
			return nil, err
		}
		if dry {
			out.Files, out.Metadata, out.Bytes = len(held.files), len(held.metadata), held.bytes
			return out, nil
		}
		c := Change{Quiet: true, Expire: ids, Check: func(fresh *Table) error {
			if fresh.table.MetadataLocation() != now.table.MetadataLocation() {
				return errAltered
			}
			return nil
		}}
		if _, err = w.Commit(ctx, name, "", c); err != nil {
			if isAltered(err) {
				continue
			}
			return nil, err
		}
		var bytes int64
		out.Files, out.Bytes = w.removeAll(ctx, storage.Path(now.Location()), held.files)
		out.Metadata, bytes = w.removeAll(ctx, storage.Path(now.Location()), held.metadata)
		out.Bytes += bytes
		return out, ctx.Err()
	}
}

// choose divides the states into those that end and those that are left.
func (e Expiry) choose(metadata icetable.Metadata) (ended, left []icetable.Snapshot) {
	stay := stays(metadata)
	for _, ref := range metadata.Refs() {
		n := 0
		if ref.SnapshotRefType != icetable.BranchRef {
			continue
		}
		ancestors(metadata, metadata.SnapshotByID(ref.SnapshotID), func(s icetable.Snapshot) bool {
			if n < max(1, e.Keep) {
				stay[s.SnapshotID] = true
			}
			n++
			return n < e.Keep
		})
	}
	for _, s := range metadata.Snapshots() {
		if stay[s.SnapshotID] || !e.Before.IsZero() && !time.UnixMilli(s.TimestampMs).Before(e.Before) {
			left = append(left, s)
		} else {
			ended = append(ended, s)
		}
	}
	return ended, left
}

// holding is what only some states of a table have, in the table's folder.
type holding struct {
	files, metadata []string
	bytes           int64
}

// partFiles bounds how many files are held against those of other states at a time.
const partFiles = 1 << 19

// only finds what some states have that others have not.
func (t *Table) only(ctx context.Context, ended, left []icetable.Snapshot) (*holding, error) {
	gone, err := t.listsOf(ctx, ended)
	if err != nil {
		return nil, err
	}
	still, err := t.listsOf(ctx, left)
	if err != nil {
		return nil, err
	}
	out := &holding{}
	var own []iceberg.ManifestFile
	for _, m := range gone.manifests {
		if !still.known[m.FilePath()] {
			own = append(own, m)
			out.metadata = append(out.metadata, storage.Path(m.FilePath()))
		}
	}
	for _, place := range gone.places {
		if !slices.Contains(still.places, place) {
			out.metadata = append(out.metadata, place)
		}
	}
	out.metadata = append(out.metadata, t.segmentsOf(ended, left)...)
	out.metadata = slices.DeleteFunc(out.metadata, func(uri string) bool { return !t.within(uri) })
	sizes := map[string]int64{}
	settle := func() error {
		if err := t.eachEntry(ctx, still.manifests, false, func(e iceberg.ManifestEntry) error {
			delete(sizes, storage.Path(e.DataFile().FilePath()))
			return nil
		}); err != nil {
			return err
		}
		for uri, size := range sizes {
			if t.within(uri) {
				out.files, out.bytes = append(out.files, uri), out.bytes+size
			}
		}
		clear(sizes)
		return nil
	}
	err = t.eachEntry(ctx, own, true, func(e iceberg.ManifestEntry) error {
		sizes[storage.Path(e.DataFile().FilePath())] = e.DataFile().FileSizeBytes()
		if len(sizes) < partFiles {
			return nil
		}
		return settle()
	})
	if err == nil {
		err = settle()
	}
	slices.Sort(out.files)
	out.files = slices.Compact(out.files)
	return out, err
}

// segmentsOf are the segments of the ledger that only some states name.
func (t *Table) segmentsOf(ended, left []icetable.Snapshot) (out []string) {
	named := map[string]bool{}
	for key, value := range t.table.Properties() {
		if key == ledgerKey || isBranchLedger(key) {
			for _, name := range ledgerNames(value) {
				named[name] = true
			}
		}
	}
	for _, s := range left {
		for _, name := range ledgerNames(ledgerOf(s)) {
			named[name] = true
		}
	}
	for _, s := range ended {
		for _, name := range ledgerNames(ledgerOf(s)) {
			if name != "" && !named[name] {
				named[name] = true
				out = append(out, storage.Join(t.LedgerFolder(), name))
			}
		}
	}
	return out
}

// ParseAge reads how old something is to be: 36h, 7d, 2w.
func ParseAge(flag, text string) (time.Duration, error) {
	units := map[byte]time.Duration{'w': 7 * 24 * time.Hour, 'd': 24 * time.Hour}
	if n := len(text); n > 1 && units[text[n-1]] > 0 {
		if f, err := strconv.ParseFloat(text[:n-1], 64); err == nil && f >= 0 && f < 1e5 {
			return time.Duration(f * float64(units[text[n-1]])), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return d, nil
	}
	return 0, fault.New(fault.Usage, "%s %q is no length of time", flag, text).Try("write it like 36h, 7d or 2w")
}
