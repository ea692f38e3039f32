package table

import (
	"strings"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
)

// Move gives a name to a state, or takes the name away.
type Move struct {
	Name string
	Tag  bool
	// To is the id of a snapshot, 0 where the name ends.
	To int64
}

func (m Move) update() icetable.Update {
	switch {
	case m.To == 0:
		return icetable.NewRemoveSnapshotRefUpdate(m.Name)
	case m.Tag:
		return icetable.NewSetSnapshotRefUpdate(m.Name, m.To, icetable.TagRef, 0, 0, 0)
	}
	return icetable.NewSetSnapshotRefUpdate(m.Name, m.To, icetable.BranchRef, 0, 0, 0)
}

// required is that the names which move stand where they stood.
func required(metadata icetable.Metadata, moves []Move) (out []icetable.Requirement) {
	for _, m := range moves {
		out = append(out, icetable.AssertRefSnapshotID(m.Name, refID(metadata, m.Name)))
	}
	return out
}

// refID is the id of the snapshot that a name is of, nil where there is none.
func refID(metadata icetable.Metadata, name string) *int64 {
	for n, ref := range metadata.Refs() {
		if n == name {
			id := ref.SnapshotID
			return &id
		}
	}
	return nil
}

// branchEnd settles a commit to a branch. What the branch has of a schema and of what is kept of columns is the branch's alone until
// it is published: the commit is built on a table that has it, and leaves the table as it was but for the branch.
type branchEnd struct {
	base   icetable.Metadata
	branch string
	// view are the updates that made the table one that has the schema of the branch.
	view []icetable.Update
	// fresh says that the branch begins with the commit.
	fresh bool
}

// branched is the table that a commit to a branch is built on: that which it would be were the branch main. For main it is the table
// itself, and there is nothing to settle.
func (w *Warehouse) branched(t *Table) (*Table, *branchEnd, error) {
	if t.branch == Main {
		return t, nil, nil
	}
	base := t.table.Metadata()
	end := &branchEnd{base: base, branch: t.branch}
	if refID(base, t.branch) == nil {
		end.fresh = true
		end.view = append(end.view, Move{Name: t.branch, To: t.state.SnapshotID}.update())
	}
	if id := t.state.SchemaID; id != nil && *id != base.CurrentSchema().ID && !end.fresh {
		end.view = append(end.view, icetable.NewSetCurrentSchemaUpdate(*id))
	}
	if own := changedProperties(base.Properties(), onBranch(base.Properties(), t.branch)); len(own) > 0 {
		end.view = append(end.view, icetable.NewSetPropertiesUpdate(own))
	}
	view, err := updated(base, t.table.MetadataLocation(), end.view)
	if err != nil {
		return nil, nil, fault.Wrap(fault.Storage, err, "the branch %s of table %s cannot be used", t.branch, t.Name)
	}
	out := *t
	out.table = icetable.New(t.table.Identifier(), view, t.table.MetadataLocation(), w.catalog.files, w.catalog)
	return &out, end, nil
}

// settle makes of a commit's updates those that leave the table as it was but for the branch.
func (e *branchEnd) settle(requirements []icetable.Requirement, updates []icetable.Update) ([]icetable.Requirement, []icetable.Update,
	error) {
	for i, r := range requirements {
		if e.fresh && r.GetType() == icetable.AssertRefSnapshotID("", nil).GetType() {
			requirements[i] = icetable.AssertRefSnapshotID(e.branch, nil)
		}
	}
	updates = append(e.view, updates...)
	after, err := updated(e.base, "", updates)
	if err != nil {
		return nil, nil, err
	}
	if was := e.base.CurrentSchema().ID; after.CurrentSchema().ID != was {
		updates = append(updates, icetable.NewSetCurrentSchemaUpdate(was))
	}
	set, unset := iceberg.Properties{}, []string{}
	for key, value := range changedProperties(e.base.Properties(), after.Properties()) {
		if strings.HasPrefix(key, branchPrefix) {
			continue
		}
		set[branchPrefix+e.branch+"/"+key] = value
		if before, ok := e.base.Properties()[key]; ok {
			set[key] = before
		} else {
			unset = append(unset, key)
		}
	}
	if len(set) > 0 {
		updates = append(updates, icetable.NewSetPropertiesUpdate(set))
	}
	if len(unset) > 0 {
		updates = append(updates, icetable.NewRemovePropertiesUpdate(unset))
	}
	return requirements, updates, nil
}

// changedProperties are those that are others, or new.
func changedProperties(before, after iceberg.Properties) iceberg.Properties {
	out := iceberg.Properties{}
	for key, value := range after {
		if was, ok := before[key]; !ok || was != value {
			out[key] = value
		}
	}
	return out
}
