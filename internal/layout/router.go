package layout

import (
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// Options says how rows are laid out.
type Options struct {
	Columnar columnar.Options
	// FileBytes is the size at which a file is ended and another begun.
	FileBytes int64
	// BudgetBytes bounds what rows may wait in memory for all partitions together, and besides what pages may.
	BudgetBytes int64
	// OpenFiles bounds how many files are written at a time.
	OpenFiles int
	// Sort is the order of the rows within each file.
	Sort Sort
	// TempDir is where rows wait that memory has no room for; empty for the system's own place.
	TempDir string
	// EvenEmpty asks for a file where there is no row to put into one. It is for output without partitions.
	EvenEmpty bool
	// Tap is told of the rows that are written; nil for nobody. It keeps nothing of the batch.
	Tap func(ctx context.Context, batch arrow.RecordBatch) error
}

// DefaultOptions are files of 256 MiB, 48 MiB of waiting rows and as much of pages, and 32 open files.
var DefaultOptions = Options{Columnar: columnar.DefaultOptions, FileBytes: 256 << 20, BudgetBytes: 48 << 20, OpenFiles: 32}

// Create makes a new file in a folder relative to the destination, which is "" without partitions, and returns where it lies.
type Create func(ctx context.Context, folder string) (w storage.Writer, uri string, err error)

// DataFile is a finished file.
type DataFile struct {
	URI    string
	Folder string
	// Values are the partition values, one for each field of the spec.
	Values  []Value
	Summary *columnar.Summary
}

// Router sends the rows of batches to the files of their partitions. Rows wait together, whatever their partition, until they
// fill the budget; then they are put in the order of their partitions, and the partitions with most of them are encoded. It
// is not safe for concurrent use.
type Router struct {
	schema     schema.Schema
	spec       Spec
	options    Options
	create     Create
	numbering  numbering
	partitions []*partition
	waiting    waiting
	open       []*partition // least recently written first
	files      []DataFile
	sorter     sorter
	disk       disk
}

// partition is one combination of partition values and its open file, if it has one.
type partition struct {
	values []Value
	folder string
	writer columnar.FileWriter
	sink   storage.Writer
	uri    string
}

// NewRouter prepares for batches of a schema.
func NewRouter(s schema.Schema, spec Spec, o Options, create Create) *Router {
	r := &Router{schema: s, spec: spec, options: o, create: create, numbering: newNumbering(s, spec), sorter: newSorter(s, o.Sort),
		disk: disk{dir: o.TempDir}}
	if len(spec) == 0 {
		r.partitions = []*partition{{}}
	}
	return r
}

// Partitions returns how many partitions have rows.
func (r *Router) Partitions() int {
	if len(r.spec) == 0 {
		return 0
	}
	return len(r.partitions)
}

// Write sends on the rows of a batch.
func (r *Router) Write(ctx context.Context, batch arrow.RecordBatch) error {
	if batch.NumRows() == 0 {
		return nil
	}
	if r.options.Tap != nil {
		if err := r.options.Tap(ctx, batch); err != nil {
			return err
		}
	}
	if len(r.spec) == 0 && len(r.options.Sort) == 0 {
		return r.encode(ctx, r.partitions[0], batch, rowBytes(batch))
	}
	numbers, err := r.numbering.assign(batch)
	if err != nil {
		return err
	}
	for row, number := range numbers {
		if int(number) >= len(r.partitions) {
			r.found(batch, row)
		}
	}
	r.waiting.add(batch, numbers)
	if r.waiting.bytes < r.options.BudgetBytes {
		return nil
	}
	if len(r.options.Sort) > 0 || len(r.disk.runs) > 0 || len(r.partitions) > r.options.OpenFiles {
		return r.spill(ctx)
	}
	return r.drain(ctx, r.waiting.rows/2)
}

// spill puts the waiting rows on the disk: encoded now they would become many small row groups, or not be sorted.
func (r *Router) spill(ctx context.Context) error {
	return r.disk.take(ctx, &r.waiting, len(r.partitions), r.sorter)
}

// merge encodes the rows that wait on the disk, one partition after the other.
func (r *Router) merge(ctx context.Context) error {
	for n, p := range r.partitions {
		var cursors []*cursor
		for _, s := range r.disk.runs {
			if s.next < len(s.runs) && s.runs[s.next].partition == n {
				cursors = append(cursors, &cursor{run: s, row: s.runs[s.next].start, end: s.runs[s.next].end})
				s.next++
			}
		}
		if len(cursors) == 0 {
			continue
		}
		if err := merge(ctx, r.sorter, cursors, func(b arrow.RecordBatch) error { return r.encode(ctx, p, b, rowBytes(b)) }); err != nil {
			return err
		}
		if p.writer != nil {
			if err := r.end(p); err != nil {
				return err
			}
		}
	}
	return nil
}

// found notes the partition that a row is the first of. Partitions are numbered in the order in which they are found.
func (r *Router) found(batch arrow.RecordBatch, row int) {
	p := &partition{values: r.numbering.values(batch, row)}
	p.folder = r.spec.Folder(p.values, r.numbering.types)
	r.partitions = append(r.partitions, p)
}

// drain encodes waiting rows, the partitions with most of them first, until no more than keep rows are left.
func (r *Router) drain(ctx context.Context, keep int) error {
	sorted, err := r.waiting.sorted(ctx, len(r.partitions), r.sorter)
	if err != nil {
		return fmt.Errorf("gathering the rows of partitions: %w", err)
	}
	slices.SortStableFunc(sorted.runs, func(a, b run) int { return (b.end - b.start) - (a.end - a.start) })
	rowBytes := float64(r.waiting.bytes) / float64(r.waiting.rows)
	r.waiting = waiting{}
	left := int(sorted.batch.NumRows())
	for len(sorted.runs) > 0 && left > keep {
		run := sorted.runs[0]
		sorted.runs = sorted.runs[1:]
		left -= run.end - run.start
		if err := r.encode(ctx, r.partitions[run.partition], sorted.batch.NewSlice(int64(run.start), int64(run.end)),
			rowBytes); err != nil {
			return err
		}
	}
	return r.waiting.keep(sorted)
}

// encode writes rows, each of which takes so many bytes in memory, to a partition's files, some at a time where files are to be
// small: rows take less in a file than they do in memory.
func (r *Router) encode(ctx context.Context, p *partition, batch arrow.RecordBatch, rowBytes float64) error {
	const least, parts = 1000, 8
	step := int64(max(least, float64(r.options.FileBytes)/parts/max(rowBytes, 1)))
	rows := batch.NumRows()
	if rows <= step {
		return r.add(ctx, p, batch)
	}
	for from := int64(0); from < rows; from += step {
		if err := r.add(ctx, p, batch.NewSlice(from, min(from+step, rows))); err != nil {
			return err
		}
	}
	return nil
}

// rowBytes is how much memory a row of a batch takes.
func rowBytes(batch arrow.RecordBatch) float64 {
	return float64(columnar.BatchBytes(batch)) / float64(max(batch.NumRows(), 1))
}

// add writes rows to a partition's file, opening it where there is none and ending it where it is large enough.
func (r *Router) add(ctx context.Context, p *partition, batch arrow.RecordBatch) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if p.writer == nil {
		if len(r.open) >= r.options.OpenFiles {
			if err := r.end(r.open[0]); err != nil {
				return err
			}
		}
		if err := r.begin(ctx, p); err != nil {
			return err
		}
	} else if last := len(r.open) - 1; r.open[last] != p {
		r.forget(p)
		r.open = append(r.open, p)
	}
	if err := p.writer.Write(ctx, batch); err != nil {
		return fmt.Errorf("writing %s: %w", p.uri, err)
	}
	if p.writer.Written() >= r.options.FileBytes {
		return r.end(p)
	}
	return r.relieve()
}

// begin opens a partition's file.
func (r *Router) begin(ctx context.Context, p *partition) (err error) {
	if p.sink, p.uri, err = r.create(ctx, p.folder); err != nil {
		return err
	}
	if p.writer, err = columnar.NewFile(p.sink, r.schema, r.options.Columnar); err != nil {
		p.sink.Abort()
		return err
	}
	r.open = append(r.open, p)
	return nil
}

// relieve ends row groups, the largest first, while the pages of all open files take more than the budget.
func (r *Router) relieve() error {
	for len(r.open) > 1 {
		var total int64
		fullest := r.open[0]
		for _, p := range r.open {
			total += p.writer.Pending()
			if p.writer.Pending() > fullest.writer.Pending() {
				fullest = p
			}
		}
		if total <= r.options.BudgetBytes {
			return nil
		}
		if err := fullest.writer.EndRowGroup(); err != nil {
			return fmt.Errorf("writing %s: %w", fullest.uri, err)
		}
	}
	return nil
}

// end finishes a partition's file.
func (r *Router) end(p *partition) error {
	summary, err := p.writer.Close()
	if err == nil {
		err = p.sink.Commit()
	} else {
		p.sink.Abort()
	}
	r.forget(p)
	p.writer, p.sink = nil, nil
	if err != nil {
		return fmt.Errorf("finishing %s: %w", p.uri, err)
	}
	r.files = append(r.files, DataFile{URI: p.uri, Folder: p.folder, Values: p.values, Summary: summary})
	return nil
}

func (r *Router) forget(p *partition) {
	for i, other := range r.open {
		if other == p {
			r.open = append(r.open[:i], r.open[i+1:]...)
			return
		}
	}
}

// Close encodes what waits, finishes every file and returns them all in the order they were finished.
func (r *Router) Close(ctx context.Context) ([]DataFile, error) {
	if r.waiting.rows > 0 {
		flush := func() error { return r.drain(ctx, 0) }
		if len(r.disk.runs) > 0 {
			flush = func() error { return r.spill(ctx) }
		}
		if err := flush(); err != nil {
			return nil, err
		}
	}
	if err := r.merge(ctx); err != nil {
		return nil, err
	}
	if r.options.EvenEmpty && len(r.files)+len(r.open) == 0 {
		if err := r.begin(ctx, r.partitions[0]); err != nil {
			return nil, err
		}
	}
	for len(r.open) > 0 {
		if err := r.end(r.open[0]); err != nil {
			return nil, err
		}
	}
	r.disk.close()
	return r.files, nil
}

// Abandon gives up every open file after a failure. After Close it does nothing.
func (r *Router) Abandon() {
	for _, p := range r.open {
		p.sink.Abort()
	}
	r.open = nil
	r.disk.close()
}
