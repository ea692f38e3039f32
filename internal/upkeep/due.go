package upkeep

import (
	"context"
	"time"

	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/table"
)

// Kind is a work of upkeep.
type Kind string

// The works, in the order in which they are done.
const (
	CompactFiles   Kind = "compact"
	MergeManifests Kind = "manifests"
	ExpireStates   Kind = "expire"
	SweepFiles     Kind = "sweep"
)

// Due is a work that is due, or was Done.
type Due struct {
	Kind Kind
	Done bool
	// Files are those that become so many Then, or that go: data files of a compaction, and manifests.
	Files, Then int
	// Rows are deleted ones that a compaction leaves out.
	Rows int64
	// States expire, the oldest of which came about at Oldest.
	States int
	Oldest time.Time
	// Bytes are those of files that go.
	Bytes int64
	// Overtaken says that other commits changed some of the files meanwhile, which stay.
	Overtaken int
}

// Plan is what a look at a table goes by.
type Plan struct {
	Warehouse *table.Warehouse
	Table     table.Name
	Layout    layout.Options
	OnlyIf    OnlyIf
	// Older is the age beyond which states expire, but for the newest Keep of each branch; Age is how old files are that are swept.
	Older, Age time.Duration
	Keep       int
}

// manyManifests is how many manifests a table may have before their number matters to who plans a scan, unless they are large.
const manyManifests = 30

// Look finds what is due. It reads no data file but those that list deleted rows.
func (p Plan) Look(ctx context.Context) (due []Due, err error) {
	t, err := p.Warehouse.Find(ctx, p.Table)
	if err != nil {
		return nil, err
	}
	c := p.compaction()
	found, err := c.choose(ctx, t)
	if err != nil {
		return nil, err
	}
	if len(found.units) > 0 {
		out := &Compacted{}
		c.foresee(found, out)
		due = append(due, Due{Kind: CompactFiles, Files: found.taken.files, Then: out.Written, Rows: out.Dropped})
	}
	m, err := t.Manifests(ctx)
	if err != nil {
		return nil, err
	}
	if m.Data > manyManifests && m.Bytes/int64(m.Data) < table.ManifestBytes/4 {
		due = append(due, Due{Kind: MergeManifests, Files: m.Data, Then: int(m.Bytes/table.ManifestBytes) + 1})
	}
	expired, err := p.Warehouse.Expire(ctx, p.Table, p.expiry(), true)
	if err != nil {
		return nil, err
	}
	if len(expired.Snapshots) > 0 {
		due = append(due, expiredDue(expired))
	}
	left, err := p.Warehouse.Sweep(ctx, p.Table, p.Age, false)
	if err != nil {
		return nil, err
	}
	if len(left.Left) > 0 {
		due = append(due, Due{Kind: SweepFiles, Files: len(left.Left), Bytes: left.Bytes})
	}
	return due, nil
}

func (p Plan) compaction() Compaction {
	return Compaction{Warehouse: p.Warehouse, Table: p.Table, Layout: p.Layout, OnlyIf: p.OnlyIf}
}

func (p Plan) expiry() table.Expiry {
	return table.Expiry{Before: time.Now().Add(-p.Older), Keep: p.Keep}
}

func expiredDue(e *table.Expired) Due {
	return Due{Kind: ExpireStates, States: len(e.Snapshots), Oldest: e.Snapshots[0].Committed, Files: e.Files + e.Metadata, Bytes: e.Bytes}
}

// Do does one of the works, and says what came of it.
func (p Plan) Do(ctx context.Context, kind Kind, b run.Budget) (Due, error) {
	out := Due{Kind: kind, Done: true}
	switch kind {
	case CompactFiles:
		done, err := Compact(ctx, p.compaction(), b)
		if err == nil {
			out.Files, out.Then, out.Rows, out.Overtaken = done.Rewritten, done.Written, done.Dropped, len(done.Overtaken)
		}
		return out, err
	case MergeManifests:
		var err error
		out.Files, out.Then, err = BringManifestsTogether(ctx, p.Warehouse, p.Table)
		return out, err
	case ExpireStates:
		done, err := p.Warehouse.Expire(ctx, p.Table, p.expiry(), false)
		if err == nil && len(done.Snapshots) > 0 {
			out = expiredDue(done)
			out.Done = true
		}
		return out, err
	}
	done, err := p.Warehouse.Sweep(ctx, p.Table, p.Age, true)
	if err == nil {
		out.Files, out.Bytes = len(done.Left), done.Bytes
	}
	return out, err
}

// BringManifestsTogether makes few manifests of many small ones, and returns how many there were and are.
func BringManifestsTogether(ctx context.Context, w *table.Warehouse, name table.Name) (before, after int, err error) {
	t, err := w.Find(ctx, name)
	if err != nil {
		return 0, 0, err
	}
	was, err := t.Manifests(ctx)
	if err != nil {
		return 0, 0, err
	}
	if err = w.MergeManifests(ctx, name); err != nil {
		return 0, 0, err
	}
	if t, err = w.Find(ctx, name); err != nil {
		return 0, 0, err
	}
	is, err := t.Manifests(ctx)
	return was.Data + was.Deletes, is.Data + is.Deletes, err
}
