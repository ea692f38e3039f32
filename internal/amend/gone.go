package amend

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/scan"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// gone is rows of a table that are to go, by data file.
type gone struct {
	table *table.Table
	tasks []table.ReadTask
	// rows are the positions of the rows in their file, in order; whole says that all rows of a file are to go.
	rows    [][]int64
	whole   []bool
	as      How
	outcome write.Outcome
}

func newGone(t *table.Table, tasks []table.ReadTask) *gone {
	return &gone{table: t, tasks: tasks, rows: make([][]int64, len(tasks)), whole: make([]bool, len(tasks))}
}

// fewBytes may always be written anew, to be rid of rows.
const fewBytes = 1 << 20

// settle chooses how the rows are taken out, where so many rows are to be written besides.
func (g *gone) settle(ctx context.Context, how How, written int64) error {
	var bytes, rows, copied int64 // of the files that are touched, and of what is left in them
	for i, task := range g.tasks {
		if !slices.IsSorted(g.rows[i]) {
			slices.Sort(g.rows[i])
		}
		n := int64(len(g.rows[i]))
		g.whole[i] = g.whole[i] || n > 0 && n == task.Rows
		if g.whole[i] {
			g.outcome.Dropped++
			g.outcome.Rows += max(n, task.Rows)
			continue
		}
		if n == 0 {
			continue
		}
		g.outcome.Files++
		g.outcome.Rows += n
		bytes, rows = bytes+task.Bytes, rows+task.Rows
		copied += int64(float64(task.Bytes) * float64(task.Rows-n) / float64(max(task.Rows, 1)))
	}
	g.outcome.Files += g.outcome.Dropped
	o := &g.outcome
	if rows == 0 {
		return nil
	}
	added := int64(float64(bytes) / float64(rows) * float64(written))
	o.Copied, o.Added, o.Why = copied, added, write.Weighing
	chosen := how
	switch {
	case g.table.FormatVersion() >= 3 && how == Deletes:
		return fault.New(fault.Usage, "the table %s is of version %d of the table format, which lists deleted rows in a way that is not "+
			"written here", g.table.Name, g.table.FormatVersion()).Try("use rewrite, or leave the choice")
	case how != Weighed:
		o.Why = write.Asked
	case g.table.FormatVersion() >= 3:
		chosen, o.Why = Rewrite, write.Version
	case copied <= max(added, fewBytes):
		chosen = Rewrite
	default:
		chosen = Deletes
	}
	g.as, o.As = chosen, chosen.String()
	return nil
}

// partly reports whether a file loses some of its rows.
func (g *gone) partly(i int) bool { return len(g.rows[i]) > 0 && !g.whole[i] }

// removed are the files that the table is not to have any more, with the deletes that were for one of them alone.
func (g *gone) removed() (out []table.File) {
	seen := map[string]bool{}
	for i, task := range g.tasks {
		if !g.whole[i] && (!g.partly(i) || g.as != Rewrite) {
			continue
		}
		out = append(out, task.File)
		for _, d := range task.Deletes {
			if d.Location == task.URI && !seen[d.URI] {
				seen[d.URI] = true
				out = append(out, d.File)
			}
		}
	}
	return out
}

// rewrite hands over the rows that stay in the files which are written anew.
func (g *gone) rewrite(ctx context.Context, out *write.Output, take func(context.Context, arrow.RecordBatch) error) error {
	if g.as != Rewrite {
		return nil
	}
	var tasks []table.ReadTask
	var rows [][]int64
	for i, task := range g.tasks {
		if g.partly(i) {
			tasks, rows = append(tasks, task), append(rows, g.rows[i])
		}
	}
	if len(tasks) == 0 {
		return nil
	}
	g.outcome.Rewritten = len(tasks)
	from, err := scan.OfFiles(ctx, g.table, tasks)
	if err != nil {
		return err
	}
	return from.Read(ctx, scan.Request{Target: scan.Target{Schema: out.Stored().Bare()}}, func(r *scan.Rows) error {
		going := rows[r.Block.Object]
		var kept []int32
		for i := range int(r.Batch.NumRows()) {
			if _, goes := slices.BinarySearch(going, r.Before+r.Rank(i)); !goes {
				kept = append(kept, int32(i))
			}
		}
		if len(kept) == 0 {
			return nil
		}
		b, err := scan.Taken(ctx, r.Batch, kept)
		if err != nil {
			return err
		}
		return take(ctx, b)
	})
}

// deleteFiles writes files that list the rows, one for each partition.
func (g *gone) deleteFiles(ctx context.Context, out *write.Output) (files []table.DeleteFile, err error) {
	if g.as != Deletes {
		return nil, nil
	}
	byPartition := map[string][]int{}
	var partitions []string
	for i, task := range g.tasks {
		if g.partly(i) {
			p := task.Partition()
			if byPartition[p] == nil {
				partitions = append(partitions, p)
			}
			byPartition[p] = append(byPartition[p], i)
		}
	}
	for _, p := range partitions {
		f, err := g.deleteFile(ctx, out, byPartition[p])
		if err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	g.outcome.DeleteFiles = len(files)
	return files, nil
}

// deleteFile writes a file that lists rows of some data files of a partition, by the paths of these and by position, in this order.
func (g *gone) deleteFile(ctx context.Context, out *write.Output, tasks []int) (table.DeleteFile, error) {
	slices.SortFunc(tasks, func(a, b int) int { return cmp.Compare(g.tasks[a].Path(), g.tasks[b].Path()) })
	first := g.tasks[tasks[0]].File
	d := table.DeleteFile{Of: &first, Only: len(tasks) == 1}
	begin, uri, err := out.Create(ctx, g.table.FolderOf(first))
	if err != nil {
		return d, err
	}
	w, err := begin()
	if err != nil {
		return d, err
	}
	d.Summary, err = g.list(ctx, w, out.Options.Columnar, tasks)
	if err != nil {
		w.Abort()
		return d, fmt.Errorf("writing %s: %w", uri, err)
	}
	d.DataFile.URI = uri
	return d, w.Commit()
}

// listRows is how many rows are listed at a time.
const listRows = 64 << 10

func (g *gone) list(ctx context.Context, w storage.Writer, o columnar.Options, tasks []int) (*columnar.Summary, error) {
	o.Bloom, o.Codecs, o.Geometry, o.GeometryBox = nil, nil, "", ""
	file, err := columnar.NewFile(w, scan.PositionFields, o)
	if err != nil {
		return nil, err
	}
	for _, i := range tasks {
		for part := range slices.Chunk(g.rows[i], listRows) {
			b := array.NewRecordBuilder(memory.DefaultAllocator, scan.PositionFields.Arrow())
			paths := b.Field(0).(*array.StringBuilder)
			for range part {
				paths.Append(g.tasks[i].Path())
			}
			b.Field(1).(*array.Int64Builder).AppendValues(part, nil)
			if err := file.Write(ctx, b.NewRecordBatch()); err != nil {
				return nil, err
			}
		}
	}
	return file.Close()
}
