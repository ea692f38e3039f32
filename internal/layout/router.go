package layout

import (
	"context"
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
	// BudgetBytes bounds what rows may wait in memory for all partitions together; besides, a third as much of pages may.
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

// DefaultOptions are files of 256 MiB, 160 MiB of waiting rows, a third as much of pages, and 32 open files.
var DefaultOptions = Options{Columnar: columnar.DefaultOptions, FileBytes: 256 << 20, BudgetBytes: 160 << 20, OpenFiles: 32}

// Create makes a new file in a folder relative to the destination, which is "" without partitions: it settles where the file lies,
// and begin, which another goroutine may call, begins it there.
type Create func(ctx context.Context, folder string) (begin func() (storage.Writer, error), uri string, err error)

// Within are the options for a program that may take so many bytes of memory, 0 for as they are. What was stated stays.
func (o Options) Within(memory int64) Options {
	// The program itself and what passes through it take the first part of the memory.
	const itself, waits, pages, leastPages, openFile = 80 << 20, 0.33, 8, 4 << 20, 16 << 20
	if memory == 0 {
		return o
	}
	if o.BudgetBytes == DefaultOptions.BudgetBytes {
		o.BudgetBytes = int64(waits * float64(max(memory-itself, itself/4)))
	}
	o.OpenFiles = max(1, min(o.OpenFiles, int(memory/openFile)))
	o.Columnar.RowGroupBytes = min(o.Columnar.RowGroupBytes, max(leastPages, memory/pages))
	return o
}

// DataFile is a finished file.
type DataFile struct {
	URI    string
	Folder string
	// Values are the partition values, one for each field of the spec.
	Values  []Value
	Summary *columnar.Summary
}

// Router sends the rows of batches to the files of their partitions. Rows wait together, whatever their partition, until they
// fill the budget; then the partitions with most of them are encoded, or, where there are many, all of them are put on the disk
// in order. It is not safe for concurrent use.
type Router struct {
	schema     schema.Schema
	spec       Spec
	options    Options
	create     Create
	numbering  numbering
	partitions []*partition
	waiting    waiting
	sorter     sorter
	disk       disk
	spare      writers
}

// NewRouter prepares for batches of a schema.
func NewRouter(s schema.Schema, spec Spec, o Options, create Create) *Router {
	r := &Router{schema: s, spec: spec, options: o, create: create, numbering: newNumbering(s, spec), sorter: newSorter(s, o.Sort),
		waiting: newWaiting(s, o.Sort), disk: disk{dir: o.TempDir}}
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

// Write sends on the rows of a batch, of which it keeps nothing but files.
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
	if r.waiting.bytes() < r.options.BudgetBytes {
		return nil
	}
	if len(r.options.Sort) > 0 || len(r.disk.runs) > 0 || len(r.partitions) > r.options.OpenFiles {
		// Encoded now they would become many small row groups, or not be sorted.
		return r.spill(ctx)
	}
	return r.drain(ctx)
}

// found notes the partition that a row is the first of. Partitions are numbered in the order in which they are found.
func (r *Router) found(batch arrow.RecordBatch, row int) {
	p := &partition{values: r.numbering.valuesOf(batch, row)}
	p.folder = r.spec.Folder(p.values, r.numbering.types)
	r.partitions = append(r.partitions, p)
}

func (r *Router) spill(ctx context.Context) error {
	return r.disk.take(ctx, &r.waiting, len(r.partitions))
}

// drain encodes waiting rows, the partitions with most of them first, until at most half of them are left.
func (r *Router) drain(ctx context.Context) error {
	runs := r.waiting.runs(len(r.partitions))
	slices.SortStableFunc(runs, func(a, b run) int { return len(b.rows) - len(a.rows) })
	left, taken := r.waiting.rows(), 0
	for ; left > r.waiting.rows()/2; taken++ {
		left -= len(runs[taken].rows)
	}
	if err := r.encodeRuns(ctx, runs[:taken], false); err != nil {
		return err
	}
	return r.keep(ctx, runs[taken:])
}

// keep lets only the rows of some runs wait.
func (r *Router) keep(ctx context.Context, runs []run) error {
	var batches []arrow.RecordBatch
	for _, run := range runs {
		batch, err := r.waiting.take(ctx, run.rows, 0, 1)
		if err != nil {
			return err
		}
		batches = append(batches, batch)
	}
	r.waiting.empty()
	for i, batch := range batches {
		r.waiting.add(batch, slices.Repeat([]uint32{uint32(runs[i].partition)}, len(runs[i].rows)))
	}
	return nil
}

// Close encodes what waits, finishes every file and returns them all: in the order of the partitions, and within one as they
// were finished.
func (r *Router) Close(ctx context.Context) ([]DataFile, error) {
	if err := r.rest(ctx); err != nil {
		return nil, err
	}
	if p := r.partitions; r.options.EvenEmpty && len(p[0].files) == 0 && p[0].writer == nil {
		if err := r.begin(ctx, p[0]); err != nil {
			return nil, err
		}
	}
	var files []DataFile
	for _, p := range r.partitions {
		if p.writer != nil {
			if err := r.end(p); err != nil {
				return nil, err
			}
		}
		files = append(files, p.files...)
	}
	r.disk.close()
	return files, nil
}

// rest encodes the rows that wait.
func (r *Router) rest(ctx context.Context) error {
	if len(r.disk.runs) == 0 {
		return r.encodeRuns(ctx, r.waiting.runs(len(r.partitions)), true)
	}
	if r.waiting.rows() > 0 {
		if err := r.spill(ctx); err != nil {
			return err
		}
	}
	return r.merge(ctx)
}

// Abandon gives up every open file after a failure. After Close it does nothing.
func (r *Router) Abandon() {
	for _, p := range r.partitions {
		if p.writer != nil {
			p.sink.Abort()
			p.writer = nil
		}
	}
	r.disk.close()
}
