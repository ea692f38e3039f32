package table

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// Properties of a table that are this program's own: what is known of its columns besides their types, by field id, and how its schema
// became what it is.
const (
	columnNotesKey = "trevak.columns"
	schemaLogKey   = "trevak.schema-log"
)

// columnNote is what is kept of a column besides what the table format has room for.
type columnNote struct {
	schema.Notation
	// Stated says that the user fixed the type, so every spelling of it is taken.
	Stated bool `json:"stated,omitempty"`
	// Untyped says that no value was ever seen, so that the type is still open.
	Untyped bool `json:"untyped,omitempty"`
	// Longest is the length of the longest text, in characters.
	Longest int `json:"longest,omitempty"`
}

// logEntry tells of one version of the schema.
type logEntry struct {
	Schema  int       `json:"schema_id"`
	At      time.Time `json:"at"`
	Cause   string    `json:"cause"`
	Changes []string  `json:"changes"`
}

// readNotes puts what is kept of the columns into a schema.
func readNotes(s *schema.Schema, properties iceberg.Properties) error {
	notes, err := notesOf(properties)
	if err != nil {
		return err
	}
	s.Walk(func(_ string, f *schema.Field) {
		n := notes[strconv.Itoa(f.ID)]
		f.Notation, f.Pinned, f.Untyped, f.Longest = n.Notation, n.Stated, n.Untyped, n.Longest
	})
	return nil
}

func notesOf(properties iceberg.Properties) (map[string]columnNote, error) {
	notes := map[string]columnNote{}
	if text := properties[columnNotesKey]; text != "" {
		if err := json.Unmarshal([]byte(text), &notes); err != nil {
			return nil, fault.Wrap(fault.Storage, err, "the table property %s cannot be read", columnNotesKey)
		}
	}
	return notes, nil
}

// writeNotes makes the property that holds what is kept of the columns; lengths that a table has already are never lowered.
func writeNotes(s schema.Schema, before iceberg.Properties) (string, error) {
	old, err := notesOf(before)
	if err != nil {
		return "", err
	}
	notes := map[string]columnNote{}
	s.Walk(func(_ string, f *schema.Field) {
		id := strconv.Itoa(f.ID)
		n := columnNote{Notation: f.Notation, Stated: f.Pinned && !f.Added, Untyped: f.Untyped, Longest: old[id].Longest}
		// The decimal mark belongs to the files, not to the table.
		n.DecimalMark = ""
		if f.Type.Kind == schema.String {
			n.Longest = max(n.Longest, f.Longest)
		}
		if !n.Usual() || n.Stated || n.Untyped || n.Longest > 0 {
			notes[id] = n
		}
	})
	text, err := json.Marshal(notes)
	return string(text), err
}

// identifiers returns the ids of the columns of the key.
func identifiers(s schema.Schema) []int {
	var out []int
	for _, name := range s.Key {
		if i := s.Index(name); i >= 0 {
			out = append(out, s.Fields[i].ID)
		}
	}
	return out
}

// evolution lists the updates that give a table another schema and what is kept of it; logged says that the change is noted.
// There is none for what stays.
func evolution(base icetable.Metadata, s schema.Schema, cause string, changes []string, at time.Time, logged bool) ([]icetable.Update,
	error) {
	var updates []icetable.Update
	properties := iceberg.Properties{}
	id := base.CurrentSchema().ID
	next := iceberg.NewSchemaWithIdentifiers(0, identifiers(s), nestedFields(s.Fields)...)
	if logged && !next.Equals(base.CurrentSchema()) {
		// One that the table had before is that one again.
		before := slices.IndexFunc(base.Schemas(), next.Equals)
		if id = 0; before >= 0 {
			id = base.Schemas()[before].ID
		} else {
			for _, old := range base.Schemas() {
				id = max(id, old.ID+1)
			}
			next = iceberg.NewSchemaWithIdentifiers(id, identifiers(s), nestedFields(s.Fields)...)
			updates = append(updates, icetable.NewAddSchemaUpdate(next))
		}
		updates = append(updates, icetable.NewSetCurrentSchemaUpdate(id))
		mapping, err := nameMapping(s)
		if err != nil {
			return nil, err
		}
		log, err := appendLog(base.Properties(), logEntry{id, at.UTC().Truncate(time.Millisecond), cause, changes})
		if err != nil {
			return nil, err
		}
		properties[icetable.DefaultNameMappingKey], properties[schemaLogKey] = mapping, log
	}
	notes, err := writeNotes(s, base.Properties())
	if err != nil {
		return nil, err
	}
	if notes != base.Properties()[columnNotesKey] {
		properties[columnNotesKey] = notes
	}
	if len(properties) > 0 {
		updates = append(updates, icetable.NewSetPropertiesUpdate(properties))
	}
	return updates, nil
}

func appendLog(properties iceberg.Properties, e logEntry) (string, error) {
	log, err := logOf(properties)
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(append(log, e))
	return string(text), err
}

func logOf(properties iceberg.Properties) ([]logEntry, error) {
	var log []logEntry
	if text := properties[schemaLogKey]; text != "" {
		if err := json.Unmarshal([]byte(text), &log); err != nil {
			return nil, fault.Wrap(fault.Storage, err, "the table property %s cannot be read", schemaLogKey)
		}
	}
	return log, nil
}

// evolving is the catalog behind a transaction on a table whose schema changes in the same commit: the transaction is built on
// the table as it will be, and the updates that make it so go before its own.
type evolving struct {
	catalog
	updates []icetable.Update
	// end settles what the table of a commit to a branch keeps as it is, nil for main.
	end *branchEnd
	// summary is added to that of the snapshot, nil for what the transaction has there already.
	summary map[string]string
}

// CommitTable publishes everything in one version of the metadata.
func (e *evolving) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	updates = append(slices.Clone(e.updates), updates...)
	if e.summary != nil {
		var err error
		if updates, err = e.summarized(ctx, ident, updates); err != nil {
			return nil, "", err
		}
	}
	if e.end != nil {
		var err error
		if requirements, updates, err = e.end.settle(requirements, updates); err != nil {
			return nil, "", err
		}
	}
	return e.catalog.CommitTable(ctx, ident, requirements, updates)
}

// summarized completes the summary of the snapshot that updates add.
func (e *evolving) summarized(ctx context.Context, ident icetable.Identifier, updates []icetable.Update) ([]icetable.Update, error) {
	base, err := e.catalog.LoadTable(ctx, ident)
	if err != nil {
		return nil, err
	}
	after, err := updated(base.Metadata(), base.MetadataLocation(), updates)
	if err != nil {
		return nil, err
	}
	for _, s := range after.Snapshots() {
		if base.Metadata().SnapshotByID(s.SnapshotID) != nil || s.Summary == nil {
			continue
		}
		s.Summary = &icetable.Summary{Operation: s.Summary.Operation, Properties: maps.Clone(s.Summary.Properties)}
		maps.Copy(s.Summary.Properties, e.summary)
		for i, u := range updates {
			if u.Action() == icetable.UpdateAddSnapshot {
				updates[i] = icetable.NewAddSnapshotUpdate(&s)
			}
		}
	}
	return updates, nil
}

// evolved returns the table as it will be after the updates of e, for a transaction that makes them along with its own.
func (w *Warehouse) evolved(t *icetable.Table, e *evolving) (*icetable.Table, error) {
	metadata, err := updated(t.Metadata(), t.MetadataLocation(), e.updates)
	if err != nil {
		return nil, err
	}
	return icetable.New(t.Identifier(), metadata, t.MetadataLocation(), w.catalog.files, e), nil
}

// Version is one version of a table's schema.
type Version struct {
	ID      int
	Schema  schema.Schema
	Current bool
	// At is when it came about, nil where the table does not tell; Cause and Changes say why and what.
	At      *time.Time
	Cause   string
	Changes []string
}

// Versions lists the versions of a table's schema, the oldest first.
func (t *Table) Versions() ([]Version, error) {
	log, err := logOf(t.table.Properties())
	if err != nil {
		return nil, err
	}
	var out []Version
	for _, s := range t.table.Metadata().Schemas() {
		fields, err := fromIceberg(s, origins(t.table.NameMapping()))
		if err != nil {
			return nil, err
		}
		v := Version{ID: s.ID, Schema: fields, Current: s.ID == t.table.Schema().ID}
		for _, e := range log {
			if e.Schema == s.ID && v.At == nil {
				v.At, v.Cause, v.Changes = &e.At, e.Cause, e.Changes
			}
		}
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b Version) int { return a.ID - b.ID })
	return out, nil
}

// LastColumnID returns the highest field id that the table ever gave.
func (t *Table) LastColumnID() int { return t.table.Metadata().LastColumnID() }
