package layout

import (
	"context"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/schema"
)

// Arranger puts the rows of batches in order, on the disk where the budget has no room for them. It is not safe for concurrent use.
type Arranger struct {
	sorter  sorter
	options Options
	waiting waiting
	disk    disk
}

// NewArranger prepares for batches of a schema. Of the options it takes BudgetBytes and TempDir.
func NewArranger(s schema.Schema, order Sort, o Options) *Arranger {
	return &Arranger{sorter: newSorter(s, order), options: o, disk: disk{dir: o.TempDir}}
}

// Add takes the rows of a batch.
func (a *Arranger) Add(ctx context.Context, batch arrow.RecordBatch) error {
	if batch.NumRows() == 0 {
		return nil
	}
	a.waiting.add(batch, make([]uint32, batch.NumRows()))
	if a.waiting.bytes < a.options.BudgetBytes {
		return nil
	}
	return a.spill(ctx)
}

func (a *Arranger) spill(ctx context.Context) error { return a.disk.take(ctx, &a.waiting, 1, a.sorter) }

// Each hands on all rows in order, those that are alike as they were added, and is empty afterwards.
func (a *Arranger) Each(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	defer a.Close()
	if a.waiting.rows == 0 && len(a.disk.runs) == 0 {
		return nil
	}
	if len(a.disk.runs) == 0 {
		rows, err := a.waiting.sorted(ctx, 1, a.sorter)
		if err != nil {
			return fmt.Errorf("putting rows in order: %w", err)
		}
		const some = 8 << 10
		for start, n := int64(0), rows.batch.NumRows(); start < n; start += some {
			if err := emit(rows.batch.NewSlice(start, min(n, start+some))); err != nil {
				return err
			}
		}
		return nil
	}
	if a.waiting.rows > 0 {
		if err := a.spill(ctx); err != nil {
			return err
		}
	}
	cursors := make([]*cursor, len(a.disk.runs))
	for i, s := range a.disk.runs {
		cursors[i] = &cursor{run: s, row: s.runs[0].start, end: s.runs[0].end}
	}
	return merge(ctx, a.sorter, cursors, emit)
}

// Close gives up what waits.
func (a *Arranger) Close() {
	a.disk.close()
	a.waiting = waiting{}
}
