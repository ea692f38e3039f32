package table

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Relocation says how a table with all its states is named in another place.
type Relocation struct {
	// Location is the table's folder there, in Store.
	Location string
	Store    storage.Store
	// Place is where a file of the table lies there, by where it lies here.
	Place func(uri string) string
	// Deletes writes a file there that lists rows by file and position, with the names that files have there, and returns where it lies
	// and its size.
	Deletes func(ctx context.Context, uri string) (place string, size int64, err error)
	// Same says that it is the same table still; otherwise it becomes another one.
	Same bool
}

// moving writes the metadata of a table for another place.
type moving struct {
	Relocation
	of *Table
	// places are where manifests, their lists and deletes were written, by where they lie here, and sizes how large they are.
	places map[string]string
	sizes  map[string]int64
	load   string
}

// positionFile is the id of the column that names files in a file that lists rows by position (Iceberg specification, "Reserved Field
// IDs").
const positionFile = 2147483546

// Moved writes the manifests of all states of a table for another place, and returns its metadata there, which nothing names yet.
// Whatever the manifests name has to lie there already, apart from files that list rows by position.
func (t *Table) Moved(ctx context.Context, m Relocation) (icetable.Metadata, error) {
	moving := &moving{Relocation: m, of: t, places: map[string]string{}, sizes: map[string]int64{}, load: newID()}
	metadata, err := moving.metadata(ctx)
	if err == nil {
		err = storage.Sync(ctx, m.Store, storage.Join(m.Location, "metadata"))
	}
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the metadata of table %s cannot be written for %s", t.Name, m.Location)
	}
	return metadata, nil
}

// metadata is the table's description, with the places that things have there. It is changed as JSON: the library has no verb for most of
// what names a place.
func (m *moving) metadata(ctx context.Context) (icetable.Metadata, error) {
	text, err := json.Marshal(m.of.table.Metadata())
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	// The ids of states are larger than what floating point holds.
	d.UseNumber()
	var described map[string]any
	if err := d.Decode(&described); err != nil {
		return nil, err
	}
	described["location"] = m.Location
	described["metadata-log"] = []any{}
	if !m.Same {
		described["table-uuid"] = uuid.NewString()
	}
	if properties, ok := described["properties"].(map[string]any); ok {
		for _, key := range []string{icetable.WriteDataPathKey, icetable.WriteMetadataPathKey, "write.object-storage.path",
			"write.folder-storage.path"} {
			// They say where it lay.
			delete(properties, key)
		}
	}
	for _, of := range []string{"statistics", "partition-statistics"} {
		list, _ := described[of].([]any)
		for _, entry := range list {
			if s, ok := entry.(map[string]any); ok {
				if path, ok := s["statistics-path"].(string); ok {
					s["statistics-path"] = m.Place(storage.Path(path))
				}
			}
		}
	}
	snapshots, _ := described["snapshots"].([]any)
	for _, entry := range snapshots {
		s, _ := entry.(map[string]any)
		if list, ok := s["manifest-list"].(string); ok && list != "" {
			if s["manifest-list"], err = m.list(ctx, storage.Path(list)); err != nil {
				return nil, err
			}
		}
	}
	if text, err = json.Marshal(described); err != nil {
		return nil, err
	}
	return icetable.ParseMetadataBytes(text)
}

// write writes a file of metadata there.
func (m *moving) write(ctx context.Context, uri string, content []byte) error {
	return storage.WriteAll(ctx, m.Store, uri, content, storage.Creation{Mode: storage.Exclusive, Durable: true})
}

// named is the place of a file of metadata there. It is a new name, so that one which is there already is never taken for it.
func (m *moving) named(uri string) string {
	base := storage.Base(uri)
	prefix := ""
	if isManifestList(base) {
		prefix = "snap-"
	}
	return storage.Join(m.Location, "metadata", fmt.Sprintf("%smoved-%s-%05d.avro", prefix, m.load, len(m.places)+1))
}

// list writes a manifest list with its manifests, and returns where it lies.
func (m *moving) list(ctx context.Context, uri string) (string, error) {
	if place, ok := m.places[uri]; ok {
		return place, nil
	}
	content, err := storage.ReadAll(ctx, m.of.store, uri)
	if err != nil {
		return "", err
	}
	content, err = rewritten(content, func(entry map[string]any) (bool, error) {
		path, _ := entry["manifest_path"].(string)
		place, size, err := m.manifest(ctx, storage.Path(path))
		entry["manifest_path"], entry["manifest_length"] = place, size
		return true, err
	})
	if err != nil {
		return "", fmt.Errorf("the manifest list %s: %w", uri, err)
	}
	place := m.named(uri)
	m.places[uri] = place
	return place, m.write(ctx, place, content)
}

// manifest writes a manifest, and returns where it lies and its size.
func (m *moving) manifest(ctx context.Context, uri string) (place string, size int64, err error) {
	if place, ok := m.places[uri]; ok {
		return place, m.sizes[uri], nil
	}
	content, err := storage.ReadAll(ctx, m.of.store, uri)
	if err != nil {
		return "", 0, err
	}
	content, err = rewritten(content, func(entry map[string]any) (bool, error) { return true, m.entry(ctx, entry) })
	if err != nil {
		return "", 0, fmt.Errorf("the manifest %s: %w", uri, err)
	}
	place, size = m.named(uri), int64(len(content))
	m.places[uri], m.sizes[uri] = place, size
	return place, size, m.write(ctx, place, content)
}

// entry names the file of a manifest's entry by its place there.
func (m *moving) entry(ctx context.Context, entry map[string]any) error {
	file, _ := entry["data_file"].(map[string]any)
	path, ok := file["file_path"].(string)
	if !ok {
		return fmt.Errorf("an entry names no file")
	}
	uri := storage.Path(path)
	file["file_path"] = m.Place(uri)
	if of, ok := file["referenced_data_file"].(string); ok {
		file["referenced_data_file"] = m.Place(storage.Path(of))
	}
	if content, _ := file["content"].(int32); content != 1 {
		return nil
	}
	for _, bounds := range []string{"lower_bounds", "upper_bounds"} {
		file[bounds] = m.bounds(file[bounds])
	}
	if status, _ := entry["status"].(int32); status == 2 {
		// It is no file of the table any more.
		return nil
	}
	if _, known := m.places[uri]; !known {
		place, size, err := m.Deletes(ctx, uri)
		if err != nil {
			return err
		}
		m.places[uri], m.sizes[uri] = place, size
	}
	file["file_path"], file["file_size_in_bytes"] = m.places[uri], m.sizes[uri]
	return nil
}

// bounds names files by their places in the bounds of a file that lists rows by position. A bound that is cut short is left out.
func (m *moving) bounds(of any) any {
	list, ok := of.([]any)
	if !ok {
		return of
	}
	home := storage.Path(m.of.Location()) + "/"
	out := []any{}
	for _, entry := range list {
		pair, _ := entry.(map[string]any)
		if key, _ := pair["key"].(int32); key == positionFile {
			value, _ := pair["value"].([]byte)
			uri := storage.Path(string(value))
			if !strings.HasPrefix(uri, home) || !strings.Contains(storage.Base(uri), ".") {
				continue
			}
			pair["value"] = []byte(m.Place(uri))
		}
		out = append(out, entry)
	}
	return out
}

// AllObjects lists the URIs of all that the metadata of a table names, of all its states, apart from manifests and their lists: files with
// rows and with deletes, segments of the ledger, and statistics.
func (t *Table) AllObjects(ctx context.Context) ([]string, error) {
	held, err := t.Holdings(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, uri := range slices.Concat(held.Data, held.Foreign) {
		out[uri] = true
	}
	for _, uri := range held.Metadata {
		if !strings.HasSuffix(uri, ".avro") {
			out[uri] = true
		}
	}
	for s := range t.table.Metadata().Statistics() {
		out[storage.Path(s.StatisticsPath)] = true
	}
	for s := range t.table.Metadata().PartitionStatistics() {
		out[storage.Path(s.StatisticsPath)] = true
	}
	return slices.Sorted(maps.Keys(out)), nil
}

// PositionDeletes reports which of the table's files list rows by file and position, of all its states.
func (t *Table) PositionDeletes(ctx context.Context) (map[string]bool, error) {
	l, err := t.listsOf(ctx, t.table.Metadata().Snapshots())
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	err = t.eachEntry(ctx, l.manifests, false, func(e iceberg.ManifestEntry) error {
		if e.DataFile().ContentType() == iceberg.EntryContentPosDeletes {
			out[storage.Path(e.DataFile().FilePath())] = true
		}
		return nil
	})
	return out, err
}
