package table

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"sync"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"golang.org/x/sync/errgroup"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// manifestsAtOnce bounds how many manifests are read at a time.
const manifestsAtOnce = 8

// lists are the manifests of some states of a table, each once, and the lists that name them.
type lists struct {
	places    []string // of the lists
	manifests []iceberg.ManifestFile
	known     map[string]bool // by path
}

// listsOf reads the manifest lists of some states.
func (t *Table) listsOf(ctx context.Context, snapshots []icetable.Snapshot) (*lists, error) {
	disk, err := t.table.FS(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the files of table %s cannot be listed", t.Name)
	}
	out := &lists{known: map[string]bool{}}
	seen := map[string]bool{}
	for _, s := range snapshots {
		if s.ManifestList == "" || seen[s.ManifestList] {
			continue
		}
		seen[s.ManifestList] = true
		out.places = append(out.places, storage.Path(s.ManifestList))
		manifests, err := s.Manifests(disk)
		if err != nil {
			return nil, t.unreadable(err)
		}
		for _, m := range manifests {
			if !out.known[m.FilePath()] {
				out.known[m.FilePath()] = true
				out.manifests = append(out.manifests, m)
			}
		}
	}
	return out, ctx.Err()
}

// eachEntry hands over the entries of manifests, some of which are read side by side; those of files that are no more too, where all are
// wanted. visit is called by one at a time.
func (t *Table) eachEntry(ctx context.Context, manifests []iceberg.ManifestFile, all bool, visit func(iceberg.ManifestEntry) error) error {
	disk, err := t.table.FS(ctx)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the files of table %s cannot be listed", t.Name)
	}
	var mutex sync.Mutex
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(manifestsAtOnce)
	for _, m := range manifests {
		work.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			for e, err := range m.Entries(disk, !all) {
				if err != nil {
					return fault.Wrap(fault.Storage, err, "a manifest of table %s cannot be read", t.Name)
				}
				mutex.Lock()
				err = visit(e)
				mutex.Unlock()
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	return work.Wait()
}

// spare takes out of a set of objects, by their URIs, those that the table names in any of its states: files with rows and with deletes,
// manifests and their lists, segments of the ledger, and files of statistics.
func (t *Table) spare(ctx context.Context, objects map[string]bool) error {
	metadata := t.table.Metadata()
	l, err := t.listsOf(ctx, metadata.Snapshots())
	if err != nil {
		return err
	}
	for _, place := range l.places {
		delete(objects, place)
	}
	for path := range l.known {
		delete(objects, storage.Path(path))
	}
	for _, name := range t.segments() {
		delete(objects, storage.Join(t.LedgerFolder(), name))
	}
	for s := range metadata.Statistics() {
		delete(objects, storage.Path(s.StatisticsPath))
	}
	for s := range metadata.PartitionStatistics() {
		delete(objects, storage.Path(s.StatisticsPath))
	}
	if len(objects) == 0 {
		return nil
	}
	return t.eachEntry(ctx, l.manifests, false, func(e iceberg.ManifestEntry) error {
		delete(objects, storage.Path(e.DataFile().FilePath()))
		return nil
	})
}

// segments are those of the ledger that any state of the table names, or any branch.
func (t *Table) segments() []string {
	seen := map[string]bool{}
	var out []string
	add := func(text string) {
		for _, name := range ledgerNames(text) {
			if name != "" && !seen[name] {
				seen[name] = true
				out = append(out, name)
			}
		}
	}
	for key, value := range t.table.Properties() {
		if key == ledgerKey || isBranchLedger(key) {
			add(value)
		}
	}
	for _, s := range t.table.Metadata().Snapshots() {
		add(ledgerOf(s))
	}
	return out
}

// isBranchLedger reports whether a property names the ledger of a branch.
func isBranchLedger(key string) bool {
	return strings.HasPrefix(key, branchPrefix) && strings.HasSuffix(key, "/"+ledgerKey)
}

// removeAll removes objects, and the folders for data in the folder of a table that are empty without them, and returns how many and how
// large the objects were. What cannot be removed stays, and is named by nothing.
func (w *Warehouse) removeAll(ctx context.Context, folder string, uris []string) (n int, bytes int64) {
	folders := map[string]bool{}
	for _, uri := range uris {
		o, err := w.store.Stat(ctx, uri)
		if errors.Is(err, fs.ErrNotExist) || ctx.Err() != nil {
			continue
		}
		if w.store.Remove(ctx, uri) == nil {
			n, bytes = n+1, bytes+o.Size
			folders[storage.Dir(uri)] = true
		}
	}
	data := storage.Join(folder, "data")
	for dir := range folders {
		for rel, in := storage.Rel(data, dir); in && rel != "." && !strings.HasPrefix(rel, ".."); rel, in = storage.Rel(data, dir) {
			if w.store.Remove(ctx, dir) != nil {
				break
			}
			dir = storage.Dir(dir)
		}
	}
	return n, bytes
}
