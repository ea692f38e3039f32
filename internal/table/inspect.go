package table

import (
	"context"
	"slices"
	"strings"

	"github.com/apache/iceberg-go"

	"trevak/internal/fault"
)

// File is a data file of a table's current state.
type File struct {
	Path        string
	Format      string // parquet, orc or avro
	Rows, Bytes int64
	// Columns holds the compressed bytes of each leaf column by field id.
	Columns map[int]int64
}

// Files lists the data files of the current snapshot, in the order they were added.
func (t *Table) Files(ctx context.Context) ([]File, error) {
	snapshot := t.table.CurrentSnapshot()
	if snapshot == nil {
		return nil, nil
	}
	disk, err := t.table.FS(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the files of table %s cannot be listed", t.Name)
	}
	manifests, err := snapshot.Manifests(disk)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the manifests of table %s cannot be read", t.Name)
	}
	slices.SortFunc(manifests, func(a, b iceberg.ManifestFile) int { return int(a.SequenceNum() - b.SequenceNum()) })
	var out []File
	for _, m := range manifests {
		entries, err := m.FetchEntries(disk, true)
		if err != nil {
			return nil, fault.Wrap(fault.Storage, err, "a manifest of table %s cannot be read", t.Name)
		}
		for _, e := range entries {
			f := e.DataFile()
			if f.ContentType() != iceberg.EntryContentData {
				return nil, fault.New(fault.Schema, "the table %s has delete files, which are not read yet", t.Name)
			}
			out = append(out, File{Path: plainPath(f.FilePath()), Format: strings.ToLower(string(f.FileFormat())), Rows: f.Count(), Bytes: f.FileSizeBytes(), Columns: f.ColumnSizes()})
		}
	}
	return out, nil
}

// Snapshots lists the table's states, the newest first.
func (t *Table) Snapshots() []Snapshot {
	var out []Snapshot
	for _, s := range t.table.Metadata().Snapshots() {
		out = append(out, describeSnapshot(s))
	}
	slices.Reverse(out)
	return out
}

// Marked returns the state that a load with a mark left; ok is false without one.
func (t *Table) Marked(mark string) (s Snapshot, ok bool) {
	for _, s := range t.table.Metadata().Snapshots() {
		if s.Summary != nil && s.Summary.Properties[markKey] == mark {
			return describeSnapshot(s), true
		}
	}
	return Snapshot{}, false
}

// Current returns the newest state; ok is false for a table without any.
func (t *Table) Current() (s Snapshot, ok bool) {
	current := t.table.CurrentSnapshot()
	if current == nil {
		return Snapshot{}, false
	}
	return describeSnapshot(*current), true
}

// Location returns the table's folder.
func (t *Table) Location() string { return t.table.Location() }

// FormatVersion returns the version of the table format.
func (t *Table) FormatVersion() int { return t.table.Metadata().Version() }
