package layout

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/schema"
)

// Arranger puts the rows of batches in order, on the disk where the budget has no room for them. It is not safe for concurrent use.
type Arranger struct {
	schema  schema.Schema
	sorter  sorter
	options Options
	waiting waiting
	disk    disk
}

// NewArranger prepares for batches of a schema. Of the options it takes BudgetBytes and TempDir.
func NewArranger(s schema.Schema, order Sort, o Options) *Arranger {
	return &Arranger{schema: s, sorter: newSorter(s, order), options: o, waiting: newWaiting(s, order), disk: disk{dir: o.TempDir}}
}

// Add takes the rows of a batch.
func (a *Arranger) Add(ctx context.Context, batch arrow.RecordBatch) error {
	if batch.NumRows() == 0 {
		return nil
	}
	a.waiting.add(batch, make([]uint32, batch.NumRows()))
	if a.waiting.bytes() < a.options.BudgetBytes {
		return nil
	}
	return a.spill(ctx)
}

func (a *Arranger) spill(ctx context.Context) error { return a.disk.take(ctx, &a.waiting, 1) }

// Each hands on all rows in order, those that are alike as they were added, and is empty afterwards.
func (a *Arranger) Each(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	defer a.Close()
	if len(a.disk.runs) == 0 {
		return a.inMemory(ctx, emit)
	}
	if a.waiting.rows() > 0 {
		if err := a.spill(ctx); err != nil {
			return err
		}
	}
	cursors := make([]*cursor, len(a.disk.runs))
	for i, s := range a.disk.runs {
		cursors[i] = &cursor{run: s, row: s.spans[0].start, end: s.spans[0].end}
	}
	return merge(a.schema, a.sorter, cursors, emit)
}

// inMemory hands on rows that are all in memory.
func (a *Arranger) inMemory(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	const some = 8 << 10
	for _, r := range a.waiting.runs(1) {
		for start := 0; start < len(r.rows); start += some {
			// What is handed on has no dictionaries that it did not come with.
			batch, err := a.waiting.take(ctx, r.rows[start:min(len(r.rows), start+some)], 0, 1)
			if err != nil {
				return err
			}
			if err := emit(batch); err != nil {
				return err
			}
		}
	}
	return nil
}

// Close gives up what waits.
func (a *Arranger) Close() {
	a.disk.close()
	a.waiting.empty()
}
