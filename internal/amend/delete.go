package amend

import (
	"context"
	"errors"
	"slices"
	"time"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Deletion is what is to be deleted of a table.
type Deletion struct {
	Warehouse *table.Warehouse
	Table     table.Name
	// Where is the condition of the rows.
	Where string
	As    How
	// Layout is that of files which are written anew.
	Layout layout.Options
	// DryRun counts, and changes nothing.
	DryRun bool
}

// Deleted is what came of a deletion.
type Deleted struct {
	Table string
	Where string
	write.Outcome
	// Partitions tells how many rows go of each partition; there are none in a table without partitions.
	Partitions []PartitionRows
	// RowsBefore are those of the table, 0 where files of deletes leave that open.
	RowsBefore   int64
	BytesWritten int64
	SnapshotID   int64
	DryRun       bool
	Seconds      float64
}

// PartitionRows is how many rows go of a partition, and of how many files.
type PartitionRows struct {
	Partition string
	Rows      int64
	Files     int
}

// mostTries bounds how often a deletion is begun anew because another commit came first.
const mostTries = 50

// Delete deletes the rows of a table for which a condition is true, in one commit. Files all of whose rows go, as their bounds tell, are
// not read.
func Delete(ctx context.Context, d Deletion, b run.Budget) (*Deleted, error) {
	now, err := d.Warehouse.Find(ctx, d.Table)
	if err == nil {
		err = d.Warehouse.MayWrite(ctx, d.Table, now)
	}
	if err != nil {
		return nil, err
	}
	if !d.DryRun {
		release, err := now.Alone(ctx, func() { b.Tell(run.Event{Stage: run.Committing, Waits: "another load that changes rows"}) })
		if err != nil {
			return nil, err
		}
		defer release()
	}
	for tries := 1; ; tries++ {
		out, err := d.once(ctx, b)
		if !errors.Is(err, table.ErrChanged) || tries == mostTries {
			return out, err
		}
	}
}

// once deletes of the table as it is now.
func (d Deletion) once(ctx context.Context, b run.Budget) (*Deleted, error) {
	started := time.Now()
	now, err := d.Warehouse.Find(ctx, d.Table)
	if err != nil {
		return nil, err
	}
	where, fields, err := condition(now.Schema, d.Where)
	if err != nil {
		return nil, err
	}
	out := &Deleted{Table: d.Table.String(), Where: d.Where, DryRun: d.DryRun}
	g, err := d.find(ctx, now, where, fields, b, out)
	if err != nil {
		return nil, err
	}
	if err := g.settle(ctx, d.As, 0); err != nil {
		return nil, err
	}
	out.Partitions = g.byPartition()
	if out.Outcome = g.outcome; d.DryRun || g.outcome.Rows == 0 {
		out.Seconds = time.Since(started).Seconds()
		return out, nil
	}
	err = d.carryOut(ctx, now, g, out, started, b)
	out.Seconds = time.Since(started).Seconds()
	return out, err
}

// condition reads a condition over the columns of a table, and returns it as one over the columns alone that it names.
func condition(s schema.Schema, text string) (*expr.Expression, []schema.Field, error) {
	wrong := func(err error) error {
		return fault.Wrap(fault.Usage, err, "--where")
	}
	fields := s.Bare().Fields
	whole, err := expr.Parse(text, fields)
	if err != nil {
		return nil, nil, wrong(err)
	}
	if whole.Type().Kind != schema.Boolean {
		return nil, nil, fault.New(fault.Usage, "--where %q is no condition", text).
			Try("write one that is true or false, like \"depth_m > 500\"")
	}
	fields = slices.DeleteFunc(fields, func(f schema.Field) bool { return !slices.Contains(whole.Columns(), f.Name) })
	where, err := expr.Parse(text, fields)
	if err != nil {
		return nil, nil, wrong(err)
	}
	return where, fields, nil
}

// find finds the rows that are to go.
func (d Deletion) find(ctx context.Context, t *table.Table, where *expr.Expression, fields []schema.Field, b run.Budget,
	out *Deleted) (*gone, error) {
	all, err := t.Plan(ctx)
	if err != nil {
		return nil, err
	}
	for _, task := range all {
		out.RowsBefore += task.Rows
	}
	if slices.ContainsFunc(all, func(task table.ReadTask) bool { return len(task.Deletes) > 0 }) {
		out.RowsBefore = 0
	}
	exact, ok := where.Exact()
	var whole, tasks []table.ReadTask
	for _, task := range all {
		switch {
		case ok && len(task.Deletes) == 0 && scan.Holds(exact, fields, task.File):
			whole = append(whole, task)
		case scan.MayHold(where.Bounds(), fields, task.File):
			tasks = append(tasks, task)
		}
	}
	g := newGone(t, append(slices.Clone(tasks), whole...))
	for i := range whole {
		g.whole[len(tasks)+i] = true
	}
	target := scan.Target{Schema: schema.Schema{Fields: fields, Omission: schema.Omission{OmitRest: true}}}
	if len(fields) == 0 {
		// A condition without columns still has rows to be counted.
		target.Schema.Fields = t.Schema.Bare().Fields[:1]
	}
	return g, g.search(ctx, scan.Request{Target: target, Where: where}, b, func(r *scan.Rows, take func(row int)) {
		for i := range int(r.Batch.NumRows()) {
			take(i)
		}
	})
}

// storageError gives a kind to what went wrong while writing.
func storageError(err error) error {
	if err == nil || fault.KindOf(err) != 0 || errors.Is(err, context.Canceled) {
		return err
	}
	return fault.Wrap(fault.Storage, err, "writing failed")
}

// byPartition counts the rows that go by partition.
func (g *gone) byPartition() (out []PartitionRows) {
	for i, task := range g.tasks {
		n := int64(len(g.rows[i]))
		if g.whole[i] {
			n = max(n, task.Rows)
		}
		name := g.table.PartitionText(task.File)
		if n == 0 || name == "" {
			continue
		}
		at := slices.IndexFunc(out, func(p PartitionRows) bool { return p.Partition == name })
		if at < 0 {
			at, out = len(out), append(out, PartitionRows{Partition: name})
		}
		out[at].Rows += n
		out[at].Files++
	}
	slices.SortFunc(out, func(a, b PartitionRows) int {
		if a.Partition < b.Partition {
			return -1
		}
		return 1
	})
	return out
}

// carryOut writes what is to be written, and commits.
func (d Deletion) carryOut(ctx context.Context, t *table.Table, g *gone, out *Deleted, began time.Time, b run.Budget) error {
	a, err := d.Warehouse.Append(t, t.Schema)
	if err != nil {
		return err
	}
	options := d.Layout.Within(b.Memory)
	options.Sort, options.Columnar.Format, options.Columnar.Workers = t.Sort, t.Format, b.Workers
	options.Columnar.Counts = true
	o := &write.Output{Schema: t.Schema, Spec: t.Spec, Options: options, Create: a.CreateFile, Origins: true}
	taken, err := g.write(ctx, o)
	err = storageError(err)
	if err == nil {
		a.Deletes, a.Remove, a.Exact, a.Operation = taken.Deletes, taken.Remove, true, "delete"
		a.Gain, a.Loss = new(int64), new(taken.Outcome.Rows)
		a.Told = table.Told{Source: "where " + d.Where, Began: began}
		var s table.Snapshot
		s, err = a.Commit(ctx, taken.Files)
		out.SnapshotID = s.ID
	}
	if err != nil {
		a.Rollback()
		return err
	}
	out.Outcome = taken.Outcome
	for _, f := range taken.Files {
		out.BytesWritten += f.Summary.Bytes
	}
	for _, f := range a.Deletes {
		out.BytesWritten += f.Summary.Bytes
	}
	return nil
}
