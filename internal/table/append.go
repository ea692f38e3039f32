package table

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/apache/iceberg-go"
	icebergio "github.com/apache/iceberg-go/io"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// Append is a load in the making: files are created in the table's data folder and become part of the table with Commit, or
// are removed with Rollback.
type Append struct {
	// Schema is the table's, with field ids, Spec its partitioning, and Sort the order of the rows in its files.
	Schema schema.Schema
	Spec   layout.Spec
	Sort   layout.Sort
	// Format is that of the load's data files: Parquet, ORC or Avro.
	Format columnar.Format
	// Creates is set when the table does not exist yet; it appears with the commit.
	Creates bool
	// Cause and Changes tell why the schema is not the table's any more, and how.
	Cause   string
	Changes []string
	// Mark is kept with the snapshot, for Marked; empty for none.
	Mark string

	warehouse *Warehouse
	name      Name
	base      *icetable.Table
	load      string // tells the files of this load from all others
	files     int
	created   []string
	folders   map[string]bool
	// published is set once the table may name the files, from when on they must stay.
	published bool
}

// loadIDKey is the entry of a snapshot's summary that names the load it came from.
const loadIDKey = "trevak.load-id"

// markKey is the entry of a snapshot's summary that tells loads into several tables that belong together.
const markKey = "trevak.split-id"

// properties are given to every new table: small metadata and quick commits however many there are.
func properties(mapping, notes, log string) iceberg.Properties {
	return iceberg.Properties{
		icetable.PropertyFormatVersion:               "2",
		icetable.DefaultNameMappingKey:               mapping,
		columnNotesKey:                               notes,
		schemaLogKey:                                 log,
		icetable.ManifestMergeEnabledKey:             "true",
		icetable.MetadataDeleteAfterCommitEnabledKey: "true",
		icetable.MetadataPreviousVersionsMaxKey:      "20",
	}
}

// Create begins the first load of a table, with a schema that has no ids yet. Its files are of a format that later loads follow.
func (w *Warehouse) Create(name Name, s schema.Schema, spec layout.Spec, sort layout.Sort, format columnar.Format) (*Append, error) {
	s = s.Clone()
	s.AssignIDs()
	if err := oneDecimal(spec, s); err != nil {
		return nil, err
	}
	if err := describable(name, s); err != nil {
		return nil, err
	}
	props, err := firstProperties(s)
	if err != nil {
		return nil, fault.Wrap(fault.Schema, err, "the columns cannot be described")
	}
	if hasNanoseconds(s) {
		// Version 3 of the table format is the first that has them.
		props[icetable.PropertyFormatVersion] = "3"
	}
	if format != columnar.Parquet {
		props[icetable.WriteFormatDefaultKey] = formatName(format)
	}
	location := filepath.Join(append([]string{w.dir}, name.parts...)...)
	order, err := sortToIceberg(sort, s)
	if err != nil {
		return nil, fault.Wrap(fault.Schema, err, "the sort order of %s cannot be kept", name)
	}
	metadata, err := icetable.NewMetadata(toIceberg(s), specToIceberg(spec, s), order, location, props)
	if err != nil {
		return nil, fault.Wrap(fault.Schema, err, "the table %s cannot be made", name)
	}
	if given, err := fromIceberg(metadata.CurrentSchema(), nil); err != nil || !sameIDs(s.Fields, given.Fields) {
		return nil, fault.New(fault.Schema, "the table library numbered the columns of %s in another way than expected", name)
	}
	base := icetable.New(name.parts, metadata, "", localFiles, &creation{catalog: w.catalog, base: metadata})
	return w.begin(name, s, spec, sort, format, base, true), nil
}

// hasNanoseconds reports whether a column, or a part of one, counts nanoseconds.
func hasNanoseconds(s schema.Schema) (has bool) {
	s.Walk(func(_ string, f *schema.Field) {
		has = has || f.Type.Kind == schema.TimestampNs || f.Type.Kind == schema.TimestampTzNs
	})
	return has
}

// oneDecimal refuses a partitioning that the library cannot write manifests of: it gives all decimals in them one name.
func oneDecimal(spec layout.Spec, s schema.Schema) error {
	var first *layout.Transform
	for i, t := range spec {
		f, _, err := layout.ColumnPath(s, t.Column)
		if err != nil || f.Type.Kind != schema.Decimal || t.Name == "bucket" {
			continue
		}
		if first != nil {
			return fault.New(fault.Usage, "%s and %s are both decimals, of which the partitions of a table can have one", first, t).Try("write bucket(16,%s) for one of them", t.Column)
		}
		first = &spec[i]
	}
	return nil
}

// localFiles opens the file system that syncs what it writes.
func localFiles(context.Context) (icebergio.IO, error) { return syncing{}, nil }

// firstProperties are those of a new table.
func firstProperties(s schema.Schema) (iceberg.Properties, error) {
	mapping, err := nameMapping(s)
	if err != nil {
		return nil, err
	}
	notes, err := writeNotes(s, nil)
	if err != nil {
		return nil, err
	}
	log, err := appendLog(nil, logEntry{0, time.Now().UTC().Truncate(time.Millisecond), "first load", []string{}})
	return properties(mapping, notes, log), err
}

// Append begins a further load of a table, under its schema or one that grew out of it.
func (w *Warehouse) Append(t *Table, s schema.Schema) (*Append, error) {
	if err := describable(t.Name, s); err != nil {
		return nil, err
	}
	return w.begin(t.Name, s, t.Spec, t.Sort, t.Format, t.table, false), nil
}

// mostSchemaBytes is how long the description of a table's schema may be: it stands in the head of every manifest, which the library bounds.
const mostSchemaBytes = 1<<20 - 1<<12

// describable refuses a schema that manifests have no room for.
func describable(name Name, s schema.Schema) error {
	text, err := json.Marshal(toIceberg(s))
	if err != nil {
		return fault.Wrap(fault.Schema, err, "the schema of %s cannot be described", name)
	}
	if len(text) <= mostSchemaBytes {
		return nil
	}
	return fault.New(fault.Schema, "the %d columns of table %s take %d bytes to describe, more than the %d that the table's manifests have room for", len(s.Fields), name, len(text), mostSchemaBytes).
		Try("load fewer columns with --only or --drop, or write the rows to files with convert")
}

func (w *Warehouse) begin(name Name, s schema.Schema, spec layout.Spec, sort layout.Sort, format columnar.Format, base *icetable.Table, creates bool) *Append {
	load := strings.ReplaceAll(uuid.NewString(), "-", "")[:12]
	return &Append{Schema: s, Spec: spec, Sort: sort, Format: format, Creates: creates, warehouse: w, name: name, base: base, load: load, folders: map[string]bool{}}
}

func sameIDs(a, b []schema.Field) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].ID != b[i].ID || a[i].Name != b[i].Name || !sameIDs(a[i].Type.Fields, b[i].Type.Fields) {
			return false
		}
		for _, pair := range [][2]*schema.Field{{a[i].Type.Key, b[i].Type.Key}, {a[i].Type.Element, b[i].Type.Element}} {
			if (pair[0] == nil) != (pair[1] == nil) || pair[0] != nil && !sameIDs([]schema.Field{*pair[0]}, []schema.Field{*pair[1]}) {
				return false
			}
		}
	}
	return true
}

// CreateFile is the layout.Create of this load.
func (a *Append) CreateFile(folder string) (io.WriteCloser, string, error) {
	a.files++
	dir := filepath.Join(a.base.Location(), "data", filepath.FromSlash(folder))
	path := filepath.Join(dir, fmt.Sprintf("%05d-%s%s", a.files, a.load, a.Format))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, "", fault.Wrap(fault.Storage, err, "the folder of a data file cannot be made")
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, "", fault.Wrap(fault.Storage, err, "a data file cannot be made")
	}
	a.created = append(a.created, path)
	a.folders[dir] = true
	return layout.Behind(syncedFile{file}), path, nil
}

// Snapshot is the state of a table after a commit.
type Snapshot struct {
	ID        int64
	Parent    *int64
	Committed time.Time
	Operation string
	// Rows and Files are the table's totals, AddedRows and AddedFiles what the commit brought.
	Rows, Files, AddedRows, AddedFiles int64
	// Unhinted is why other engines may not see the state yet, nil where they do.
	Unhinted error
}

// Commit makes the files part of the table. An error of the kind Conflict says that another load came first; the table is then
// as that one left it.
func (a *Append) Commit(ctx context.Context, files []layout.DataFile) (Snapshot, error) {
	var snapshot Snapshot
	err := a.warehouse.locked(ctx, func() error {
		if err := a.refresh(ctx); err != nil {
			return err
		}
		if err := a.syncFolders(); err != nil {
			return fault.Wrap(fault.Storage, err, "the data folders cannot be synced")
		}
		committed, err := a.commit(ctx, files)
		if err != nil {
			snapshot, err = a.outcome(ctx, err)
			return err
		}
		a.published = true
		snapshot = describeSnapshot(*committed.CurrentSnapshot())
		snapshot.Unhinted = a.warehouse.catalog.stale
		return nil
	})
	return snapshot, err
}

// outcome settles what became of a commit that reported an error: it may have been published all the same, when only what came
// after failed. Where that cannot be told the files are left alone.
func (a *Append) outcome(ctx context.Context, cause error) (Snapshot, error) {
	a.published = true
	now, err := a.warehouse.Load(context.WithoutCancel(ctx), a.name)
	if err != nil {
		e := fault.New(fault.Storage, "the commit to table %s failed, and what became of it cannot be told", a.name).
			Try("look at the table before loading again; no file was removed")
		e.Cause = cause
		return Snapshot{}, e
	}
	if now != nil {
		for _, s := range now.table.Metadata().Snapshots() {
			if s.Summary != nil && s.Summary.Properties[loadIDKey] == a.load {
				return describeSnapshot(s), nil
			}
		}
	}
	a.published = false
	return Snapshot{}, commitError(a.name, cause)
}

// syncFolders syncs the folders of data files and those above them up to the table's, each once.
func (a *Append) syncFolders() error {
	synced := map[string]bool{}
	for dir := range a.folders {
		for strings.HasPrefix(dir, a.base.Location()) && !synced[dir] {
			synced[dir] = true
			if err := syncFolder(dir); err != nil {
				return err
			}
			dir = filepath.Dir(dir)
		}
	}
	return nil
}

// refresh looks at the table again now that nobody else can change it.
func (a *Append) refresh(ctx context.Context) error {
	now, err := a.warehouse.Load(ctx, a.name)
	switch {
	case err != nil:
		return err
	case a.Creates && now != nil:
		return changedMeanwhile(a.name, "was made")
	case a.Creates:
		if err := a.warehouse.free(ctx, a.name); err != nil {
			return err
		}
		ns := a.name.parts[:len(a.name.parts)-1]
		if err := os.MkdirAll(filepath.Join(append([]string{a.warehouse.dir}, ns...)...), 0o755); err != nil {
			return fault.Wrap(fault.Storage, err, "the namespace cannot be made")
		}
		return nil
	case now == nil:
		return changedMeanwhile(a.name, "was dropped")
	case !now.table.Spec().Equals(a.base.Spec()):
		return changedMeanwhile(a.name, "got another partitioning")
	case !now.table.Schema().Equals(a.base.Schema()):
		if err := a.rebase(now); err != nil {
			return err
		}
	}
	a.base = now.table
	return nil
}

// rebase makes the load one of the table as it is now, where another commit changed its schema. The ids of columns that this load adds are in its files
// already, so they must still be free.
func (a *Append) rebase(now *Table) error {
	last := a.base.Metadata().LastColumnID()
	rebased, ok := schema.Rebase(a.Schema, now.Schema, last)
	if adds := a.Schema.LastID() > last; !ok || adds && now.table.Metadata().LastColumnID() != last {
		return changedMeanwhile(a.name, "got other columns")
	}
	rebased.Key = now.Schema.Key
	a.Schema = rebased
	return nil
}

// commit adds the files in one transaction that fails if the table's state is no longer the one it was built on.
func (a *Append) commit(ctx context.Context, files []layout.DataFile) (*icetable.Table, error) {
	base, err := a.grown()
	if err != nil {
		return nil, err
	}
	tx := base.NewTransaction()
	var added []iceberg.DataFile
	spec := a.base.Spec()
	order := base.Metadata().DefaultSortOrder()
	row := int64(-1)
	if base.Metadata().Version() >= 3 {
		row = base.Metadata().NextRowID()
	}
	for _, f := range files {
		built, err := a.dataFile(spec, order, f, row)
		if err != nil {
			return nil, fmt.Errorf("describing %s: %w", f.Path, err)
		}
		added = append(added, built)
		if row >= 0 {
			row += f.Summary.Rows
		}
	}
	summary := iceberg.Properties{loadIDKey: a.load}
	if a.Mark != "" {
		summary[markKey] = a.Mark
	}
	if len(added) == 0 {
		if err := tx.AddFiles(ctx, nil, summary, false); err != nil {
			return nil, err
		}
	} else if err := tx.AddDataFiles(ctx, added, summary, icetable.WithoutDuplicateCheck()); err != nil {
		return nil, err
	}
	if err := tx.AssertRefSnapshotID(""); err != nil {
		return nil, err
	}
	return tx.Commit(ctx)
}

// grown returns the table as it is to be after the commit, apart from its files.
func (a *Append) grown() (*icetable.Table, error) {
	if a.Creates {
		notes, err := writeNotes(a.Schema, nil)
		if err != nil {
			return nil, err
		}
		builder, err := icetable.MetadataBuilderFromBase(a.base.Metadata(), "")
		if err != nil {
			return nil, err
		}
		if err := builder.SetProperties(iceberg.Properties{columnNotesKey: notes}); err != nil {
			return nil, err
		}
		metadata, err := builder.Build()
		if err != nil {
			return nil, err
		}
		return icetable.New(a.name.parts, metadata, "", localFiles, &creation{catalog: a.warehouse.catalog, base: metadata}), nil
	}
	if hasNanoseconds(a.Schema) && a.base.Metadata().Version() < 3 {
		return nil, fault.New(fault.Schema, "the table %s is of version %d of the table format, which has no nanoseconds", a.name, a.base.Metadata().Version()).
			Try("state timestamp or string for the column, or load into a new table")
	}
	updates, err := evolution(a.base.Metadata(), a.Schema, a.Cause, a.Changes, time.Now())
	if err != nil || len(updates) == 0 {
		return a.base, err
	}
	return a.warehouse.evolved(a.base, updates)
}

// dataFile describes a file for the manifest. row is the id of its first row, which tables of version 3 of the format give.
func (a *Append) dataFile(spec iceberg.PartitionSpec, order int, f layout.DataFile, row int64) (iceberg.DataFile, error) {
	b, err := iceberg.NewDataFileBuilder(spec, iceberg.EntryContentData, f.Path, fileFormats[a.Format], partitionValues(spec, f.Values), nil, nil,
		f.Summary.Rows, f.Summary.Bytes)
	if err != nil {
		return nil, err
	}
	sizes, values, nulls, nans := map[int]int64{}, map[int]int64{}, map[int]int64{}, map[int]int64{}
	lower, upper := map[int][]byte{}, map[int][]byte{}
	for id, m := range f.Summary.Columns {
		values[id], nulls[id] = m.Values, m.Nulls
		if m.Bytes > 0 {
			sizes[id] = m.Bytes
		}
		if m.Floating {
			nans[id] = m.NaNs
		}
		if m.Lower != nil {
			lower[id] = m.Lower
		}
		if m.Upper != nil {
			upper[id] = m.Upper
		}
	}
	b.ColumnSizes(sizes).ValueCounts(values).NullValueCounts(nulls).NaNValueCounts(nans).LowerBoundValues(lower).UpperBoundValues(upper).
		SplitOffsets(f.Summary.RowGroups).SortOrderID(order)
	if row >= 0 {
		b.FirstRowID(row)
	}
	return b.Build(), nil
}

// partitionValues gives a file's partition values the form that the library writes, by the ids of their fields.
func partitionValues(spec iceberg.PartitionSpec, values []layout.Value) map[int]any {
	out := map[int]any{}
	for _, field := range spec.Fields() {
		if _, void := field.Transform.(iceberg.VoidTransform); void {
			// A field that was taken out of the partitioning has no values, and rows are not laid out by it.
			out[field.FieldID] = nil
			continue
		}
		switch v := values[0].(type) {
		case layout.Bytes:
			out[field.FieldID] = []byte(v)
		case layout.Decimal:
			out[field.FieldID] = iceberg.Decimal{Val: v.Unscaled, Scale: int(v.Scale)}
		default:
			out[field.FieldID] = v
		}
		values = values[1:]
	}
	return out
}

// Rollback removes the files of a load that was not committed, and the folders that are empty without them. It does nothing once
// the table may name the files.
func (a *Append) Rollback() {
	if a.published {
		return
	}
	for _, path := range a.created {
		os.Remove(path)
	}
	for dir := range a.folders {
		for strings.HasPrefix(dir, a.warehouse.dir) && dir != filepath.Dir(a.warehouse.dir) {
			if os.Remove(dir) != nil {
				break
			}
			dir = filepath.Dir(dir)
		}
	}
}

// describeSnapshot reads the counts out of a snapshot's summary.
func describeSnapshot(s icetable.Snapshot) Snapshot {
	out := Snapshot{ID: s.SnapshotID, Parent: s.ParentSnapshotID, Committed: time.UnixMilli(s.TimestampMs).UTC()}
	if s.Summary == nil {
		return out
	}
	count := func(key string) int64 {
		n, err := strconv.ParseInt(s.Summary.Properties[key], 10, 64)
		if err != nil {
			return 0
		}
		return n
	}
	out.Operation = string(s.Summary.Operation)
	out.Rows, out.Files = count("total-records"), count("total-data-files")
	out.AddedRows, out.AddedFiles = count("added-records"), count("added-data-files")
	return out
}
