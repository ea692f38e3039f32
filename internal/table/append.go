package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/storage"
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
	// Deletes and Remove are what the commit takes away, as in a Change, where Exact says that they are so of the table as it was when
	// the load began: another commit meanwhile makes them void. RemoveOf names files by what the table is at the time.
	Deletes  []DeleteFile
	Remove   []File
	RemoveOf func(ctx context.Context, now *Table) ([]File, error)
	Exact    bool
	// Settle chooses which of the files become part of the table, and which are removed, as in a Change.
	Settle func(ctx context.Context, now *Table, c *Change) error
	// Unsorted says that the files do not follow the table's order.
	Unsorted bool
	// Properties are set on the table with the commit.
	Properties map[string]string
	// Gain and Loss are how many rows the commit brings to the table and takes from it, an altered row being both; nil where the files
	// that are added say it all.
	Gain, Loss *int64
	// Told is what the history of the table tells of the commit besides: from which sources, and how long it took.
	Told Told
	// Operation says in the history of the table what the commit is: append, replace, upsert.
	Operation string
	// Ledger tells, while no other commit can come first, which segments of the ledger the table is to name; load is the id of the
	// commit. nil leaves them.
	Ledger func(ctx context.Context, now *Table, load string) (names []string, err error)

	warehouse *Warehouse
	name      Name
	base      *icetable.Table
	from      schema.Schema // the table's when the load began
	state     int64         // the state that it was in then
	branch    string        // where the commit goes
	load      string        // tells the files of this load from all others
	files     int
	created   []string
	folders   map[string]bool
	// anew says that nothing of the former table is left, its schema included.
	anew bool
	// placed is set once a keeper has said where the files of a new table lie, made are the namespaces that it made for that.
	placed bool
	made   [][]string
	// published is set once the table may name the files, from when on they must stay.
	published bool
}

// operationKey is the entry of a snapshot's summary that says what its commit was, in our words.
const operationKey = "trevak.operation"

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
		statesKeptKey:                                "200",
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
	if keeper := w.keeping(); keeper != "" {
		props[keptByKey] = keeper
	}
	location := storage.Join(w.dir, name.parts...)
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
	base := icetable.New(name.parts, metadata, "", w.catalog.files, &creation{catalog: w.catalog, base: metadata})
	a := w.begin(name, s, spec, sort, format, base)
	a.Creates = true
	return a, nil
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
			return fault.New(fault.Usage, "%s and %s are both decimals, of which the partitions of a table can have one", first,
				t).Try("write bucket(16,%s) for one of them", t.Column)
		}
		first = &spec[i]
	}
	return nil
}

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
	a := w.begin(t.Name, s, t.Spec, t.Sort, t.Format, t.table)
	a.from, a.state, a.branch = t.Schema.Clone(), t.StateID(), t.branch
	return a, nil
}

// mostSchemaBytes is how long the description of a table's schema may be: it stands in the head of every manifest, which the
// library bounds.
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
	return fault.New(fault.Schema, "the %d columns of table %s take %d bytes to describe, more than the %d that the table's "+
		"manifests have room for", len(s.Fields), name, len(text), mostSchemaBytes).
		Try("load fewer columns with --only or --drop, or write the rows to files with convert")
}

func (w *Warehouse) begin(name Name, s schema.Schema, spec layout.Spec, sort layout.Sort, format columnar.Format,
	base *icetable.Table) *Append {
	return &Append{Schema: s, Spec: spec, Sort: sort, Format: format, warehouse: w, name: name, base: base, load: newID(),
		folders: map[string]bool{}}
}

// newID tells a commit, and the files of a load, from all others.
func newID() string { return strings.ReplaceAll(uuid.NewString(), "-", "")[:12] }

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

// CreateFile is the layout.Create of this load. The files are durable once the load is committed.
func (a *Append) CreateFile(ctx context.Context, folder string) (begin func() (storage.Writer, error), uri string, err error) {
	return a.CreateFileAs(ctx, folder, a.Format)
}

// CreateFileAs is CreateFile for a file of some format.
func (a *Append) CreateFileAs(ctx context.Context, folder string, format columnar.Format) (begin func() (storage.Writer, error),
	uri string, err error) {
	if err := a.place(ctx); err != nil {
		return nil, "", err
	}
	a.files++
	dir := storage.Join(a.base.Location(), "data", folder)
	uri = storage.Join(dir, fmt.Sprintf("%05d-%s%s", a.files, a.load, format))
	a.created = append(a.created, uri)
	a.folders[dir] = true
	return func() (storage.Writer, error) {
		w, err := a.warehouse.store.Create(ctx, uri, storage.Creation{Mode: storage.Exclusive})
		if err != nil {
			return nil, fault.Wrap(fault.Storage, err, "a data file cannot be made")
		}
		return layout.Buffered(w), nil
	}, uri, nil
}

// FileAt is where a file of a name lies in a folder of the table's data, for who writes it himself. It is not removed with Rollback.
func (a *Append) FileAt(ctx context.Context, folder, name string) (string, error) {
	if err := a.place(ctx); err != nil {
		return "", err
	}
	return storage.Join(a.base.Location(), "data", folder, name), nil
}

// Commit makes the files part of the table. An error of the kind Conflict says that another load came first; the table is then
// as that one left it.
func (a *Append) Commit(ctx context.Context, files []layout.DataFile) (Snapshot, error) {
	if err := a.place(ctx); err != nil {
		return Snapshot{}, err
	}
	c := Change{Branch: a.branch, Add: files, Format: a.Format, Order: a.base.Metadata().DefaultSortOrder(), Cause: a.Cause, Check: a.check,
		Prepare: func(ctx context.Context) error { return a.ready(ctx, files) },
		Schema:  a.schema, Deletes: a.Deletes, Remove: a.Remove, RemoveOf: a.RemoveOf, Settle: a.Settle,
		Summary: map[string]string{}}
	if a.Unsorted {
		c.Order = 0
	}
	if a.Operation != "" {
		c.Summary[operationKey] = a.Operation
	}
	a.Told.summary(c.Summary)
	c.Gain, c.Loss = a.Gain, a.Loss
	c.Properties = a.Properties
	if a.anew {
		c.Layout = Relayout{Spec: &a.Spec, Sort: &a.Sort}
		key, value := FormatProperty(a.Format)
		c.Properties = map[string]string{key: value}
		maps.Copy(c.Properties, a.Properties)
	}
	if a.Ledger != nil {
		c.Ledger = func(ctx context.Context, now *Table) ([]string, error) { return a.Ledger(ctx, now, a.load) }
	}
	if a.Creates {
		c.created = a.base.Metadata()
	}
	snapshot, err := a.warehouse.Commit(ctx, a.name, a.load, c)
	a.published = err == nil || errors.Is(err, ErrUntold)
	return snapshot, err
}

// Spare removes files of a load that was committed without them.
func (a *Append) Spare(files []layout.DataFile) {
	for _, f := range files {
		// What cannot be removed is named by nothing.
		_ = a.warehouse.store.Remove(context.Background(), f.URI)
	}
}

// check refuses a table that files of this load do not belong to any more.
func (a *Append) check(now *Table) error {
	if !now.table.Spec().Equals(a.base.Spec()) {
		return changedMeanwhile(a.name, "got another partitioning")
	}
	if a.Exact && now.StateID() != a.state {
		return changedMeanwhile(a.name, "was changed")
	}
	if metadata := now.table.Metadata(); a.state != 0 && metadata.SnapshotByID(a.state) != nil && !descends(metadata, now.state, a.state) {
		// What the load found in the table may not be there any more.
		return changedMeanwhile(a.name, "was rolled back")
	}
	return nil
}

// schema brings the schema that the table grows into into the one that it has at the time. The ids of columns that this load
// adds are in its files already, so they must still be free.
func (a *Append) schema(now *Table) (schema.Schema, []string, error) {
	if a.Creates || a.anew {
		return a.Schema, a.Changes, nil
	}
	for _, f := range now.Schema.Fields {
		// Rows without a value may have been written before the column had to have one.
		at := slices.IndexFunc(a.from.Fields, func(o schema.Field) bool { return o.ID == f.ID })
		if at >= 0 && f.Required && !a.from.Fields[at].Required {
			return a.Schema, nil, changedMeanwhile(a.name, "got a required column")
		}
	}
	last := a.base.Metadata().LastColumnID()
	rebased, ok := schema.Rebase(a.from, a.Schema, now.Schema, last)
	if adds := a.Schema.LastID() > last; !ok || adds && now.LastColumnID() != last {
		return rebased, nil, changedMeanwhile(a.name, "got other columns")
	}
	return rebased, a.Changes, nil
}

// ready has the files of a load on the disk, and makes sure that each of them is there still: whoever sweeps a table may have taken them
// for left behind, and removes them only while nobody commits.
func (a *Append) ready(ctx context.Context, files []layout.DataFile) error {
	files = slices.Clone(files)
	for _, d := range a.Deletes {
		files = append(files, d.DataFile)
	}
	for _, f := range files {
		if _, err := a.warehouse.store.Stat(ctx, f.URI); err != nil {
			return fault.Wrap(fault.Storage, err, "the file %s of the load is not there any more", f.URI)
		}
	}
	return a.sync(ctx, files)
}

// sync has files, their names, and the folders above them up to the table's, on the disk, each folder once.
func (a *Append) sync(ctx context.Context, files []layout.DataFile) error {
	if len(files) == 0 {
		return nil
	}
	var objects, folders []string
	for _, f := range files {
		objects = append(objects, f.URI)
	}
	seen := map[string]bool{}
	for _, f := range files {
		for dir := storage.Dir(f.URI); strings.HasPrefix(dir, a.base.Location()) && !seen[dir]; dir = storage.Dir(dir) {
			seen[dir] = true
			folders = append(folders, dir)
		}
	}
	return fault.Wrap(fault.Storage, storage.SyncAll(ctx, a.warehouse.store, objects, folders), "the data files cannot be synced")
}

// Undone says that the commit was made within a group that came to nothing, so that the files are named by nothing.
func (a *Append) Undone() { a.published = false }

// Rollback removes the files of a load that was not committed, and the folders that are empty without them. It does nothing once
// the table may name the files.
func (a *Append) Rollback() {
	if a.published {
		return
	}
	ctx, s := context.Background(), a.warehouse.store
	for _, uri := range a.created {
		// What cannot be removed is named by nothing.
		_ = s.Remove(ctx, uri)
	}
	for dir := range a.folders {
		for strings.HasPrefix(dir, a.warehouse.dir) && dir != storage.Dir(a.warehouse.dir) {
			if s.Remove(ctx, dir) != nil {
				break
			}
			dir = storage.Dir(dir)
		}
	}
	for _, parts := range slices.Backward(a.made) {
		// One that holds something by now stays.
		_ = a.warehouse.keeper.dropNamespace(ctx, parts)
	}
}
