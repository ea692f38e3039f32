package table

import (
	"context"
	"slices"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// Return is a change of which state is the table's, without one of its files.
type Return struct {
	// From is the state that was the table's, and To the one that is.
	From, To Snapshot
	// Undone are the commits that the table has no more, and Redone those that it has and had not, each the newest first.
	Undone, Redone []Commit
	// Changes are what becomes of the schema, a sentence each.
	Changes []string
	// Same says that the state was the table's already, so that nothing was changed.
	Same bool
	// Before and After are the names of the ledger's segments.
	Before, After []string
}

// Rollback makes a state that has not expired the table's again, with the schema and the ledger that it had; keep leaves the schema
// as it is. What it undoes can be brought back in the same way until it expires. A dry run only tells.
func (w *Warehouse) Rollback(ctx context.Context, name Name, to string, keep, dry bool) (*Return, error) {
	return w.turn(ctx, name, dry, func(now *Table) (*Table, error) {
		then, err := now.At(to)
		if err == nil && keep {
			then.Schema, then.Spec, then.Sort, then.keep = now.Schema, now.Spec, now.Sort, true
		}
		return then, err
	}, nil)
}

// Publish makes the newest state of a branch that of the table, which must not have gone on by itself meanwhile, and ends the branch.
// check is asked whether the state is good, unless it is nil.
func (w *Warehouse) Publish(ctx context.Context, name Name, branch string, dry bool, check func(*Table) error) (*Return, error) {
	return w.turn(ctx, name, dry, func(now *Table) (*Table, error) {
		then, err := now.OnBranch(branch)
		switch {
		case err != nil:
			return nil, err
		case branch == Main || branch == "":
			return nil, fault.New(fault.Usage, "main is the table itself").Try("name a branch that a load went to with --branch")
		case now.state != nil && !descends(now.table.Metadata(), then.state, now.state.SnapshotID):
			return nil, fault.New(fault.Conflict, "the table %s went on since the branch %s began, so that to publish it would undo that", name,
				branch).
				Try("load what the branch has into a new branch, and end this one; its commits, and those of the table, are listed by").
				By(fault.TableHistory, name.String())
		}
		if check != nil {
			if err := check(then); err != nil {
				return nil, err
			}
		}
		return then, nil
	}, &branch)
}

// turn makes another state the table's, which choose finds of the table as it is at the time. ended is a branch that ends with it.
func (w *Warehouse) turn(ctx context.Context, name Name, dry bool, choose func(*Table) (*Table, error), ended *string) (*Return, error) {
	for {
		now, err := w.Find(ctx, name)
		if err == nil {
			err = w.writable(now)
		}
		if err != nil {
			return nil, err
		}
		then, err := choose(now)
		if err != nil {
			return nil, err
		}
		out := &Return{Changes: append(schema.Compare(now.Schema, then.Schema), relaid(now, then)...),
			Before: now.Ledger(), After: then.Ledger()}
		out.From, _ = now.Current()
		out.To, _ = then.Current()
		out.Undone, out.Redone = now.apart(then), then.apart(now)
		if out.Same = then.StateID() == now.StateID() && ended == nil; dry || out.Same {
			return out, nil
		}
		c, err := now.turning(then, ended)
		if err != nil {
			return nil, err
		}
		if _, err = w.Commit(ctx, name, "", c); !isAltered(err) {
			return out, err
		}
	}
}

// relaid tells what becomes of the layout of files to come.
func relaid(now, then *Table) (out []string) {
	for _, p := range []struct{ what, was, is string }{{"partitioned by", now.Spec.String(), then.Spec.String()},
		{"sorted by", now.Sort.String(), then.Sort.String()}} {
		if p.was != p.is {
			out = append(out, "files to come are "+p.what+" "+orNone(p.is)+" instead of "+orNone(p.was))
		}
	}
	return out
}

// apart lists the commits that a state came of and another one did not, the newest first.
func (t *Table) apart(other *Table) (out []Commit) {
	metadata, shared := t.table.Metadata(), map[int64]bool{}
	ancestors(metadata, other.state, func(s icetable.Snapshot) bool {
		shared[s.SnapshotID] = true
		return true
	})
	ancestors(metadata, t.state, func(s icetable.Snapshot) bool {
		if !shared[s.SnapshotID] {
			out = append(out, describeCommit(s))
		}
		return !shared[s.SnapshotID]
	})
	// Two states of one commit are one.
	return slices.CompactFunc(out, func(a, b Commit) bool { return a.load != "" && a.load == b.load })
}

// turning is the change that makes the state of another view of the table its own.
func (t *Table) turning(then *Table, ended *string) (Change, error) {
	c := Change{Quiet: true, Cause: "back to snapshot " + formatID(then.StateID()), Properties: map[string]string{},
		Moves: []Move{{Name: Main, To: then.StateID()}}}
	if ended != nil {
		c.Cause = "published branch " + *ended
		c.Moves = append(c.Moves, Move{Name: *ended})
		for key, value := range changedProperties(t.table.Properties(), onBranch(t.table.Properties(), *ended)) {
			if key != ledgerKey {
				c.Properties[key] = value
			}
		}
		for key := range t.table.Properties() {
			if _, of := cutBranch(key, *ended); of {
				c.Unset = append(c.Unset, key)
			}
		}
	}
	c.Properties[ledgerKey] = joinLedger(then.Ledger())
	c.Schema = func(*Table) (schema.Schema, []string, error) {
		return then.Schema, schema.Compare(t.Schema, then.Schema), nil
	}
	metadata := t.table.Metadata()
	spec, order := metadata.PartitionSpec(), metadata.SortOrder()
	if !then.keep {
		spec, order = layoutThen(metadata, toIceberg(then.Schema), then.state)
	}
	if spec.ID() != metadata.DefaultPartitionSpec() || order.OrderID() != metadata.DefaultSortOrder() {
		c.Layout.former = func() []icetable.Update { return formerLayout(metadata, spec, order) }
	}
	c.Check = func(now *Table) error {
		if now.table.MetadataLocation() != t.table.MetadataLocation() {
			return errAltered
		}
		return nil
	}
	return c, nil
}

// formerLayout lists what makes a partitioning and an order that a table had once its own again.
func formerLayout(metadata icetable.Metadata, spec iceberg.PartitionSpec, order icetable.SortOrder) (out []icetable.Update) {
	known := slices.ContainsFunc(metadata.PartitionSpecs(), func(s iceberg.PartitionSpec) bool { return s.Equals(spec) })
	if !known {
		out = append(out, icetable.NewAddPartitionSpecUpdate(&spec, false), icetable.NewSetDefaultSpecUpdate(-1))
	} else {
		out = append(out, icetable.NewSetDefaultSpecUpdate(spec.ID()))
	}
	if !slices.ContainsFunc(metadata.SortOrders(), func(o icetable.SortOrder) bool { return o.OrderID() == order.OrderID() }) {
		out = append(out, icetable.NewAddSortOrderUpdate(&order))
	}
	return append(out, icetable.NewSetDefaultSortOrderUpdate(order.OrderID()))
}

// Tag gives a state of a table a name, under which it does not expire; replace takes the name from another state that has it.
func (w *Warehouse) Tag(ctx context.Context, name Name, tag, at string, replace bool) (Snapshot, error) {
	if err := CheckRef(tag); err != nil {
		return Snapshot{}, err
	}
	now, err := w.FindAt(ctx, name, at)
	if err != nil {
		return Snapshot{}, err
	}
	s, ok := now.Current()
	if !ok {
		return s, fault.New(fault.Usage, "the table %s has no state yet", name).Try("load into it first")
	}
	switch old, there := now.ref(tag); {
	case there && old.SnapshotRefType == icetable.BranchRef:
		return s, fault.New(fault.Usage, "%s is a branch of the table %s", tag, name).Try("choose another name")
	case there && old.SnapshotID == s.ID:
		return s, nil
	case there && !replace:
		return s, fault.New(fault.Conflict, "the table %s has a tag %s already, at snapshot %d", name, tag, old.SnapshotID).
			Try("choose another name, or have it moved with --replace")
	}
	_, err = w.Commit(ctx, name, "", Change{Quiet: true, Moves: []Move{{Name: tag, Tag: true, To: s.ID}}})
	return s, err
}

// Untag takes a tag away, or a branch with what is only on it.
func (w *Warehouse) Untag(ctx context.Context, name Name, tag string) (Snapshot, error) {
	now, err := w.Find(ctx, name)
	if err != nil {
		return Snapshot{}, err
	}
	ref, ok := now.ref(tag)
	switch {
	case !ok:
		return Snapshot{}, now.noRef(tag)
	case tag == Main:
		return Snapshot{}, fault.New(fault.Usage, "main is the table itself").Try("name a tag or another branch")
	}
	c := Change{Quiet: true, Moves: []Move{{Name: tag}}}
	for key := range now.table.Properties() {
		if _, of := cutBranch(key, tag); of {
			c.Unset = append(c.Unset, key)
		}
	}
	_, err = w.Commit(ctx, name, "", c)
	s := Snapshot{ID: ref.SnapshotID}
	if found := now.table.Metadata().SnapshotByID(ref.SnapshotID); found != nil {
		s = describeSnapshot(*found)
	}
	return s, err
}
