package table

import (
	"maps"
	"slices"
	"strings"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/storage"
)

// Twin begins the load of a table that is as another one is: its columns have the same ids, none of which any column of the other ever
// had besides, and its files to come are laid out in the same way.
func (w *Warehouse) Twin(t *Table, name Name) (*Append, error) {
	metadata, err := w.twin(t, name)
	if err != nil {
		return nil, fault.Wrap(fault.Schema, err, "the table %s cannot be made like %s", name, t.Name)
	}
	base := icetable.New(name.parts, metadata, "", w.catalog.files, &creation{catalog: w.catalog, base: metadata})
	a := w.begin(name, t.Schema.Clone(), t.Spec, t.Sort, t.Format, base)
	a.Creates = true
	return a, nil
}

func (w *Warehouse) twin(t *Table, name Name) (icetable.Metadata, error) {
	of := t.table.Metadata()
	b, err := icetable.NewMetadataBuilder(of.Version())
	if err != nil {
		return nil, err
	}
	properties := iceberg.Properties{}
	maps.Copy(properties, of.Properties())
	delete(properties, ledgerKey)
	delete(properties, keptByKey)
	if keeper := w.keeping(); keeper != "" {
		properties[keptByKey] = keeper
	}
	// Branches stay where they are.
	maps.DeleteFunc(properties, func(key, _ string) bool { return strings.HasPrefix(key, branchPrefix) })
	for _, path := range []string{icetable.WriteDataPathKey, icetable.WriteMetadataPathKey} {
		// They say where the other one lies.
		delete(properties, path)
	}
	now := of.CurrentSchema()
	if t.state != nil && t.state.SchemaID != nil {
		for _, s := range of.Schemas() {
			if s.ID == *t.state.SchemaID && t.branch != Main {
				now = s
			}
		}
	}
	spec, order := layoutThen(of, now, t.state)
	steps := []func() error{
		func() error { return b.SetUUID(uuid.New()) },
		func() error { return b.SetLoc(storage.Join(w.dir, name.parts...)) },
	}
	// Those of former times keep the ids of columns that are gone from being given again.
	schemas := slices.DeleteFunc(slices.Clone(of.Schemas()), func(s *iceberg.Schema) bool { return s.ID == now.ID })
	for _, s := range append(schemas, now) {
		own := iceberg.NewSchemaWithIdentifiers(s.ID, s.IdentifierFieldIDs, s.Fields()...)
		steps = append(steps, func() error { return b.AddSchema(own) })
	}
	steps = append(steps, func() error { return b.SetCurrentSchemaID(-1) },
		func() error { return b.AddPartitionSpec(&spec, true) }, func() error { return b.SetDefaultSpecID(-1) },
		func() error { return b.AddSortOrder(&order) }, func() error { return b.SetDefaultSortOrderID(-1) },
		func() error { return b.SetProperties(properties) })
	for _, step := range steps {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return b.Build()
}

// Described is a file of the table as one that another table gets, with what is known of it.
func (t *Table) Described(f File) layout.DataFile {
	out := layout.DataFile{URI: f.URI, Summary: &columnar.Summary{Rows: f.Rows, Bytes: f.Bytes, Columns: map[int]*columnar.Metrics{},
		RowGroups: f.entry.SplitOffsets()}}
	nans := f.entry.NaNValueCounts()
	for id, n := range f.Values {
		m := &columnar.Metrics{Bytes: f.Columns[id], Values: n, Nulls: -1, Lower: f.Lower[id], Upper: f.Upper[id]}
		if nulls, ok := f.Nulls[id]; ok {
			m.Nulls = nulls
		}
		m.NaNs, m.Floating = nans[id], nans != nil
		if _, ok := nans[id]; !ok {
			m.Floating = false
		}
		out.Summary.Columns[id] = m
	}
	spec := t.table.Spec()
	for _, field := range spec.Fields() {
		if _, void := field.Transform.(iceberg.VoidTransform); !void {
			out.Values = append(out.Values, f.entry.Partition()[field.FieldID])
		}
	}
	return out
}

// FolderOf is where a data file lies within the folder of the table's data, "" for one that lies elsewhere.
func (t *Table) FolderOf(f File) string {
	rel, ok := storage.Rel(storage.Join(t.Location(), "data"), storage.Dir(f.URI))
	if !ok || rel == "." {
		return ""
	}
	return rel
}
