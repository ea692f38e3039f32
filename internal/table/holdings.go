package table

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/apache/iceberg-go"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Holdings is what a table has in its folder, of all its states.
type Holdings struct {
	// Data are its files with rows and with deletes, Metadata what tells of them.
	Data, Metadata []string
	DataBytes      int64
	// Rows are those in the data files of its current state, of which Deletes says that some are deleted by files of their own; Snapshots
	// is how many states there are.
	Rows      int64
	Deletes   bool
	Snapshots int
	// Elsewhere counts files that lie outside of the table's folder, which are not its own; Foreign are these.
	Elsewhere int
	Foreign   []string
}

// Holdings lists what the table has, by what its metadata names.
func (t *Table) Holdings(ctx context.Context) (*Holdings, error) {
	out := &Holdings{Snapshots: len(t.table.Metadata().Snapshots())}
	if s, ok := t.Current(); ok {
		out.Rows = s.Rows
	}
	disk, err := t.table.FS(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the files of table %s cannot be listed", t.Name)
	}
	data, metadata := map[string]int64{}, map[string]bool{}
	segments := map[string]bool{}
	for _, name := range ledgerNames(t.table.Properties()[ledgerKey]) {
		segments[name] = true
	}
	for _, s := range t.table.Metadata().Snapshots() {
		if s.Summary != nil {
			for _, name := range ledgerNames(s.Summary.Properties[ledgerKey]) {
				segments[name] = true
			}
		}
		if s.ManifestList == "" || metadata[s.ManifestList] {
			continue
		}
		metadata[s.ManifestList] = true
		manifests, err := s.Manifests(disk)
		if err != nil {
			return nil, t.unreadable(err)
		}
		for _, m := range manifests {
			if metadata[m.FilePath()] {
				continue
			}
			metadata[m.FilePath()] = true
			entries, err := m.FetchEntries(disk, false)
			if err != nil {
				return nil, fault.Wrap(fault.Storage, err, "a manifest of table %s cannot be read", t.Name)
			}
			for _, e := range entries {
				if e.Status() != iceberg.EntryStatusDELETED {
					data[e.DataFile().FilePath()] = e.DataFile().FileSizeBytes()
				}
			}
		}
	}
	files, err := t.AllFiles(ctx)
	if err != nil {
		return nil, err
	}
	out.Deletes = slices.ContainsFunc(files, File.Deletes)
	for _, path := range slices.Sorted(maps.Keys(data)) {
		if uri := storage.Path(path); t.within(uri) {
			out.Data, out.DataBytes = append(out.Data, uri), out.DataBytes+data[path]
		} else {
			out.Elsewhere++
			out.Foreign = append(out.Foreign, uri)
		}
	}
	delete(segments, "")
	for _, name := range slices.Sorted(maps.Keys(segments)) {
		out.Metadata = append(out.Metadata, storage.Join(t.LedgerFolder(), name))
	}
	for _, path := range slices.Sorted(maps.Keys(metadata)) {
		if uri := storage.Path(path); t.within(uri) {
			out.Metadata = append(out.Metadata, uri)
		}
	}
	return out, nil
}

// within reports whether something lies in the table's folder.
func (t *Table) within(uri string) bool {
	rel, ok := storage.Rel(storage.Path(t.Location()), uri)
	return ok && rel != "." && !strings.HasPrefix(rel, "..")
}
