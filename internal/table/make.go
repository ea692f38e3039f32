package table

import (
	"context"
	"encoding/json"
	"strings"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// Relayout is how files to come are laid out; nil is for what stays as it is.
type Relayout struct {
	Spec *layout.Spec
	Sort *layout.Sort
	// former lists what makes a layout that the table had once its own again, nil for none.
	former func() []icetable.Update
}

// updates lists what gives a table another layout under a schema.
func (r Relayout) updates(base icetable.Metadata, s schema.Schema) (updates []icetable.Update, err error) {
	if r.Spec != nil {
		if err := oneDecimal(*r.Spec, s); err != nil {
			return nil, err
		}
		spec := respec(base, *r.Spec, s)
		updates = append(updates, icetable.NewAddPartitionSpecUpdate(&spec, false), icetable.NewSetDefaultSpecUpdate(-1))
	}
	if r.Sort != nil {
		order, err := sortToIceberg(*r.Sort, s)
		if err != nil {
			return nil, fault.Wrap(fault.Schema, err, "the sort order cannot be kept")
		}
		updates = append(updates, icetable.NewAddSortOrderUpdate(&order), icetable.NewSetDefaultSortOrderUpdate(-1))
	}
	if r.former != nil {
		updates = append(updates, r.former()...)
	}
	return updates, nil
}

// respec gives a partitioning the library's form. A field that an earlier partitioning had keeps its id (Iceberg specification,
// "Partition Evolution").
func respec(base icetable.Metadata, spec layout.Spec, s schema.Schema) iceberg.PartitionSpec {
	next := firstPartitionID - 1
	var before []iceberg.PartitionField
	for _, old := range base.PartitionSpecs() {
		for _, f := range old.Fields() {
			before = append(before, f)
			next = max(next, f.FieldID)
		}
	}
	if last := base.LastPartitionSpecID(); last != nil {
		next = max(next, *last)
	}
	var fields []iceberg.PartitionField
	for _, t := range spec {
		f := iceberg.PartitionField{SourceIDs: []int{s.IDOf(t.Column)}, Name: t.FieldName(), Transform: transformToIceberg(t)}
		for _, old := range before {
			if old.SourceID() == f.SourceID() && old.Transform.Equals(f.Transform) {
				f.FieldID, f.Name = old.FieldID, old.Name
			}
		}
		if f.FieldID == 0 {
			next++
			f.FieldID = next
		}
		fields = append(fields, f)
	}
	return iceberg.NewPartitionSpec(fields...)
}

// Anew makes of a load that creates a table one that gives a table which is there another schema and layout, and has nothing of its
// rows: columns get ids that none had before, so nothing of the former ones is taken for theirs. The former state stays until it expires.
func (w *Warehouse) Anew(t *Table, made *Append) *Append {
	offset := t.LastColumnID()
	s := made.Schema.Clone()
	shiftIDs(s.Fields, offset)
	a := w.begin(t.Name, s, made.Spec, made.Sort, made.Format, t.table)
	a.from, a.state, a.branch, a.Exact, a.anew = t.Schema.Clone(), t.StateID(), t.branch, true, true
	a.Cause, a.Changes = "made anew", []string{"the table was made anew"}
	a.RemoveOf = func(ctx context.Context, now *Table) ([]File, error) { return now.AllFiles(ctx) }
	a.Ledger = func(context.Context, *Table, string) ([]string, error) { return nil, nil }
	a.Operation = "create anew"
	return a
}

func shiftIDs(fields []schema.Field, offset int) {
	for i := range fields {
		f := &fields[i]
		f.ID += offset
		shiftIDs(f.Type.Fields, offset)
		for _, part := range []*schema.Field{f.Type.Key, f.Type.Element} {
			if part != nil {
				one := []schema.Field{*part}
				shiftIDs(one, offset)
				*part = one[0]
			}
		}
	}
}

// Properties are those of the table that are its user's: no other program and not this one goes by them.
func (t *Table) Properties() map[string]string {
	out := map[string]string{}
	for k, v := range t.table.Properties() {
		if !strings.HasPrefix(k, ownPrefix) && k != icetable.DefaultNameMappingKey {
			out[k] = v
		}
	}
	return out
}

// Checks are the rules that the table's rows must keep, as they were written.
func (t *Table) Checks() (out []string) {
	// What cannot be read was not written by this program.
	_ = json.Unmarshal([]byte(t.table.Properties()[checksKey]), &out)
	return out
}

// checksKey is the property with the rules that the table's rows must keep, as JSON.
const checksKey = "trevak.checks"

// ChecksProperty writes rules as a property of a table, which is removed where there are none.
func ChecksProperty(rules []string) (key, value string) {
	// Texts can always be encoded.
	text, _ := json.Marshal(rules)
	return checksKey, string(text)
}

// ownPrefix begins the names of properties that this program keeps for itself.
const ownPrefix = "trevak."

// CheckProperty refuses properties that this program keeps for itself, or that say what a table is.
func CheckProperty(key string) error {
	switch {
	case key == "":
		return fault.New(fault.Usage, "a property needs a name").Try("write it like owner=harbour office")
	case strings.HasPrefix(key, ownPrefix), key == icetable.DefaultNameMappingKey, key == icetable.PropertyFormatVersion:
		return fault.New(fault.Usage, "the property %s is kept by the program", key).Try("choose another name")
	}
	return nil
}

// FormatProperty is the property that says which format files to come have.
func FormatProperty(f columnar.Format) (key, value string) {
	return icetable.WriteFormatDefaultKey, formatName(f)
}
