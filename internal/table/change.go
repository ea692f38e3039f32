package table

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// Change is what one commit does to a table. Append, replace, upsert, compaction and rollback are such descriptions; Commit
// carries them out. What is left out stays as it is.
type Change struct {
	// Branch is the one that the commit goes to, and that begins with it where it is not there; empty for main.
	Branch string
	// Add are finished files with rows, of a format, in the order of a sort order of the table, 0 for none.
	Add    []layout.DataFile
	Format columnar.Format
	Order  int
	// Deletes are finished files that delete rows of files which the table has already.
	Deletes []DeleteFile
	// Remove are files of the table, with rows or with deletes, that it is not to have any more. RemoveOf names more of them, by the
	// table as it is at the time; nil for none.
	Remove   []File
	RemoveOf func(ctx context.Context, now *Table) ([]File, error)
	// Settle chooses, while no other commit can come first, which of the files are added and which are removed; nil leaves them. An
	// error ends the commit.
	Settle func(ctx context.Context, now *Table, c *Change) error
	// Manifests has small manifests brought together; it goes with no files.
	Manifests bool
	// Schema makes the schema that the table is to have of the table as it is at the time, with a sentence for each change. It
	// is called again where another commit came first. Cause says in the log of changes why.
	Schema func(now *Table) (schema.Schema, []string, error)
	Cause  string
	// Layout is how files to come are laid out, where that changes.
	Layout Relayout
	// Properties are set on the table, Unset are removed from it, and Summary is kept with the snapshot.
	Properties map[string]string
	Unset      []string
	Summary    map[string]string
	// Gain and Loss are how many rows the table gets and loses, nil where the files that are added say it all, and a loss below 0 where
	// it is not known.
	Gain, Loss *int64
	// Moves are names of states that are given, moved or taken away, and Expire states that end. They go with no files.
	Moves  []Move
	Expire []int64
	// Quiet makes no snapshot, for changes of anything but files.
	Quiet bool
	// Check is asked before the change is made, while no other commit can come first; an error ends the commit.
	Check func(now *Table) error
	// Ledger is asked, while no other commit can come first, which segments of the ledger the table is to name with the change; nil
	// leaves them. An error ends the commit.
	Ledger func(ctx context.Context, now *Table) ([]string, error)
	// Prepare has done what has to be done before the files may be named.
	Prepare func(ctx context.Context) error

	// created is the planned metadata of a table that comes into being with the commit, nil for one that is there.
	created icetable.Metadata
}

// DeleteFile is a finished file that deletes rows.
type DeleteFile struct {
	layout.DataFile
	// Equal are the ids of the columns by whose values rows are deleted; without any, the file lists rows by file and position.
	Equal []int
	// Of is a file whose partition it is for, nil for the values of its own under the table's partitioning. Only says that it lists
	// rows of that file alone.
	Of   *File
	Only bool
}

// commitIDKey is the entry of a snapshot's summary that names the commit it came from, by which it is found again.
const commitIDKey = "trevak.load-id"

// mostCommits bounds how often a commit is tried again because others came first.
const mostCommits = 50

// Commit carries out a change, which id tells from all others. Where another commit comes first, it is made again on the table
// as it is then. An error of the kind Conflict says that this cannot be done; nothing was changed then.
func (w *Warehouse) Commit(ctx context.Context, name Name, id string, c Change) (s Snapshot, err error) {
	untold := false
	for tries := 1; ; tries++ {
		err = w.locked(ctx, func() error {
			if done, ok := w.done(ctx, name, id, tries); ok {
				s = done
				return nil
			}
			s, err = w.commitOnce(ctx, name, id, c)
			return err
		})
		untold = untold || w.keeper != nil && unanswered(err)
		switch {
		case errors.Is(err, errRaced) && tries < mostCommits:
		case err != nil && untold:
			// A service may yet carry out what it was asked before.
			return s, untoldCommit(name, err)
		default:
			return s, raced(name, err)
		}
	}
}

// untoldCommit is the error of a commit of which it is not known whether it was made, or will be.
func untoldCommit(name Name, cause error) error {
	e := fault.New(fault.Storage, "the commit to table %s failed, and what became of it cannot be told", name).
		Try("look at the table before loading again; no file was removed")
	e.Cause = errors.Join(ErrUntold, cause)
	return e
}

// commitOnce makes a change on the table as it is now, while nobody else who asks for the lock can.
func (w *Warehouse) commitOnce(ctx context.Context, name Name, id string, c Change) (Snapshot, error) {
	now, err := w.target(ctx, name, c)
	if err != nil {
		return Snapshot{}, err
	}
	if c.Check != nil {
		if err := c.Check(now); err != nil {
			return Snapshot{}, err
		}
	}
	if c, err = c.withLedger(ctx, now); err != nil {
		return Snapshot{}, err
	}
	if c.RemoveOf != nil {
		more, err := c.RemoveOf(ctx, now)
		if err != nil {
			return Snapshot{}, err
		}
		c.Remove = slices.Concat(c.Remove, more)
	}
	if c.Settle != nil {
		if err := c.Settle(ctx, now, &c); err != nil {
			return Snapshot{}, err
		}
	}
	if c.Prepare != nil {
		if err := c.Prepare(ctx); err != nil {
			return Snapshot{}, err
		}
	}
	committed, err := w.apply(ctx, now, id, c)
	if err != nil {
		return w.outcome(ctx, name, id, c, err)
	}
	if committed == nil {
		return Snapshot{}, nil
	}
	var out Snapshot
	if after, err := w.describe(name, committed); err == nil {
		if c.created == nil && len(c.Expire) == 0 {
			w.cleanse(ctx, now, after)
		}
		if on, err := after.OnBranch(c.Branch); err == nil && on.state != nil {
			out = describeSnapshot(*on.state)
		}
	}
	if w.folder != nil {
		out.Unhinted = w.folder.stale
	}
	return out, nil
}

// target returns the table that a change is made on.
func (w *Warehouse) target(ctx context.Context, name Name, c Change) (*Table, error) {
	now, err := w.Load(ctx, name)
	switch {
	case err != nil:
		return nil, err
	case c.created != nil && now != nil:
		return nil, changedMeanwhile(name, "was made")
	case c.created != nil:
		if err := w.free(ctx, name); err != nil {
			return nil, err
		}
		return w.describe(name, icetable.New(name.parts, c.created, "", w.catalog.files, &creation{catalog: w.catalog, base: c.created}))
	case now == nil:
		return nil, changedMeanwhile(name, "was dropped")
	}
	if err := w.writable(now); err != nil {
		return nil, err
	}
	return now.NewBranch(c.Branch)
}

// apply builds the next version of a table and publishes it; the table is nil where there was nothing to change.
func (w *Warehouse) apply(ctx context.Context, now *Table, id string, c Change) (*icetable.Table, error) {
	now, end, err := w.branched(now)
	if err != nil {
		return nil, err
	}
	updates, err := w.updates(now, c)
	if err != nil {
		return nil, err
	}
	if c.Quiet {
		if len(updates) == 0 {
			return nil, nil
		}
		metadata := now.table.Metadata()
		requirements := append(required(metadata, c.Moves), icetable.AssertTableUUID(metadata.TableUUID()),
			icetable.AssertCurrentSchemaID(metadata.CurrentSchema().ID))
		next, location, err := w.catalog.CommitTable(ctx, now.table.Identifier(), requirements, updates)
		if err != nil {
			return nil, err
		}
		return icetable.New(now.table.Identifier(), next, location, w.catalog.files, w.catalog), nil
	}
	base := now.table
	if c.created != nil {
		base, err = w.planned(now, updates)
	} else if len(updates) > 0 || end != nil || c.Manifests {
		base, err = w.evolved(now.table, &evolving{catalog: w.catalog, updates: updates, end: end, summary: c.manifestSummary(now, id)})
	}
	if err != nil {
		return nil, err
	}
	tx := base.NewTransactionOnBranch(now.branch)
	if err := w.change(ctx, tx, now, base, id, c); err != nil {
		return nil, err
	}
	if err := tx.AssertRefSnapshotID(""); err != nil {
		return nil, err
	}
	return tx.Commit(ctx)
}

// planned is a table that does not exist yet, with what its first commit makes of it.
func (w *Warehouse) planned(t *Table, updates []icetable.Update) (*icetable.Table, error) {
	metadata, err := updated(t.table.Metadata(), "", updates)
	if err != nil {
		return nil, err
	}
	return icetable.New(t.Name.parts, metadata, "", w.catalog.files, &creation{catalog: w.catalog, base: metadata}), nil
}

// updates lists what a change does to the metadata besides its snapshot.
func (w *Warehouse) updates(now *Table, c Change) (updates []icetable.Update, err error) {
	metadata, then := now.table.Metadata(), now.Schema
	if c.Schema != nil {
		s, changes, err := c.Schema(now)
		if err != nil {
			return nil, err
		}
		then = s
		if hasNanoseconds(s) && metadata.Version() < 3 {
			return nil, fault.New(fault.Schema, "the table %s is of version %d of the table format, which has no nanoseconds", now.Name,
				metadata.Version()).
				Try("state timestamp or string for the column, or load into a new table")
		}
		if updates, err = evolution(metadata, s, c.Cause, changes, time.Now(), c.created == nil); err != nil {
			return nil, err
		}
	}
	relaid, err := c.Layout.updates(metadata, then)
	if err != nil {
		return nil, err
	}
	updates = append(updates, relaid...)
	for _, m := range c.Moves {
		updates = append(updates, m.update())
	}
	expired := c.Expire
	if !c.Quiet {
		expired = expiring(metadata)
	}
	if len(expired) > 0 {
		updates = append(updates, icetable.NewRemoveSnapshotsUpdate(expired, false))
	}
	if len(c.Properties) > 0 {
		updates = append(updates, icetable.NewSetPropertiesUpdate(maps.Clone(c.Properties)))
	}
	if len(c.Unset) > 0 {
		updates = append(updates, icetable.NewRemovePropertiesUpdate(c.Unset))
	}
	return updates, nil
}

// change puts files and snapshots into a transaction.
func (w *Warehouse) change(ctx context.Context, tx *icetable.Transaction, now *Table, base *icetable.Table, id string,
	c Change) error {
	added, err := describeFiles(base, c)
	if err != nil {
		return err
	}
	deletes, err := describeDeletes(base, c)
	if err != nil {
		return err
	}
	var rows, dropped []iceberg.DataFile
	for _, f := range c.Remove {
		if f.entry.ContentType() == iceberg.EntryContentData {
			rows = append(rows, f.entry)
		} else {
			dropped = append(dropped, f.entry)
		}
	}
	summary := iceberg.Properties{commitIDKey: id, layoutKey: layoutIDs(base.Metadata())}
	maps.Copy(summary, c.Summary)
	maps.Copy(summary, c.rowCounts(now))
	if c.Manifests {
		// What the library makes of the snapshot's summary is completed when it is committed.
		_, err := tx.RewriteManifests(ctx)
		return err
	}
	if len(rows)+len(dropped) > 0 && len(deletes) > 0 {
		// The library does not do both at once; two states that become the table's together are as good.
		if err := tx.ReplaceFiles(ctx, rows, nil, dropped, maps.Clone(summary), icetable.WithoutDuplicateCheck()); err != nil {
			return err
		}
		rows, dropped = nil, nil
	}
	switch {
	case len(rows)+len(dropped) > 0:
		return tx.ReplaceFiles(ctx, rows, added, dropped, summary, icetable.WithoutDuplicateCheck())
	case len(deletes) > 0:
		return tx.NewRowDelta(summary).AddRows(added...).AddDeletes(deletes...).Commit(ctx)
	case len(added) > 0:
		return tx.AddDataFiles(ctx, added, summary, icetable.WithoutDuplicateCheck())
	}
	// A commit that only sets properties would not be held against the snapshot that it was built on.
	return tx.AddFiles(ctx, nil, summary, false)
}

// outcome settles what became of a commit that reported an error: it may have been published all the same, when only what came
// after failed.
func (w *Warehouse) outcome(ctx context.Context, name Name, id string, c Change, cause error) (Snapshot, error) {
	if c.Quiet {
		if w.keeper != nil && unanswered(cause) {
			// Done twice it comes to the same.
			cause = errors.Join(errRaced, cause)
		}
		return Snapshot{}, commitError(name, cause)
	}
	now, err := w.Load(context.WithoutCancel(ctx), name)
	if err != nil {
		return Snapshot{}, untoldCommit(name, cause)
	}
	if s, ok := now.committed(id); ok {
		return s, nil
	}
	if w.keeper != nil && unanswered(cause) {
		// Whether it was carried out or not, it is not the table's: it can be made again.
		cause = errors.Join(errRaced, cause)
	}
	return Snapshot{}, commitError(name, cause)
}

// done looks whether an earlier try, of which a service gave no answer, has made the table what it is after all.
func (w *Warehouse) done(ctx context.Context, name Name, id string, tries int) (Snapshot, bool) {
	if w.keeper == nil || tries == 1 {
		return Snapshot{}, false
	}
	now, err := w.Load(ctx, name)
	if err != nil {
		// Whoever makes the change meets it again.
		return Snapshot{}, false
	}
	return now.committed(id)
}

// committed returns the state that a commit made, if it is one of the table's. The table may be nil.
func (t *Table) committed(id string) (Snapshot, bool) {
	if t == nil {
		return Snapshot{}, false
	}
	for _, s := range t.table.Metadata().Snapshots() {
		if s.Summary != nil && s.Summary.Properties[commitIDKey] == id {
			return describeSnapshot(s), true
		}
	}
	return Snapshot{}, false
}

// ErrUntold says that what became of a commit cannot be told, so that its files must stay.
var ErrUntold = errors.New("what became of the commit is not known")

// errRaced says that another program's commit came first, so that the change can be made again.
var errRaced = errors.New("another commit came first")

// raced makes a conflict of a commit before which others came each time.
func raced(name Name, err error) error {
	if errors.Is(err, errRaced) {
		return changedMeanwhile(name, "was changed")
	}
	return err
}

// commitError gives a failed commit its kind.
func commitError(name Name, err error) error {
	if fault.KindOf(err) != 0 || errors.Is(err, context.Canceled) || errors.Is(err, errRaced) {
		return err
	}
	return fault.Wrap(fault.Storage, err, "the commit to table %s failed", name)
}

// Snapshot is the state of a table after a commit.
type Snapshot struct {
	ID        int64
	Parent    *int64
	Committed time.Time
	Operation string
	// Rows and Files are the table's totals, AddedRows and AddedFiles what the commit brought, Gone and RemovedFiles what it took away.
	// Rows is 0 and Open true where files of deletes leave open how many of the rows in files are the table's.
	Rows, Files, AddedRows, AddedFiles, Gone, RemovedFiles int64
	Open                                                   bool
	// Bytes are those of all files.
	Bytes int64
	// Unhinted is why other engines may not see the state yet, nil where they do.
	Unhinted error
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
	if out.Operation = s.Summary.Properties[operationKey]; out.Operation == "" {
		out.Operation = string(s.Summary.Operation)
	}
	out.Files, out.Bytes = count("total-data-files"), count("total-files-size")
	out.AddedFiles, out.RemovedFiles = count("added-data-files"), count("deleted-data-files")
	if out.AddedRows = count("added-records"); s.Summary.Properties[gainKey] != "" {
		out.AddedRows = count(gainKey)
	}
	if out.Gone = count("deleted-records") + count("added-position-deletes"); s.Summary.Properties[lossKey] != "" {
		out.Gone = count(lossKey)
	}
	rows := rowsOf(&s)
	out.Rows, out.Open = max(rows, 0), rows < 0
	return out
}

// updated is metadata after some updates.
func updated(base icetable.Metadata, location string, updates []icetable.Update) (icetable.Metadata, error) {
	builder, err := icetable.MetadataBuilderFromBase(base, location)
	if err != nil {
		return nil, err
	}
	for _, u := range updates {
		if err := u.Apply(builder); err != nil {
			return nil, fmt.Errorf("applying %s: %w", u.Action(), err)
		}
	}
	return builder.Build()
}
