package layout

import (
	"context"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"golang.org/x/sync/errgroup"
)

// aloneRows is how many rows of a partition are worth all workers.
const aloneRows = 128 << 10

// encodeRuns encodes the rows of some partitions: of small ones several at a time, of large ones one after the other, by their
// columns. last says that these are the last rows, so that files can be finished.
func (r *Router) encodeRuns(ctx context.Context, runs []run, last bool) error {
	size := float64(r.waiting.bytes()) / float64(max(r.waiting.rows(), 1))
	side := newSide(ctx, r)
	for _, run := range runs {
		p := r.partitions[run.partition]
		if len(run.rows) > aloneRows || float64(len(run.rows))*size > float64(r.options.FileBytes)/2 {
			if err := side.wait(); err != nil {
				return err
			}
			if err := r.encodeRun(ctx, p, run.rows, size); err != nil {
				return err
			}
			side = newSide(ctx, r)
			continue
		}
		side.encode(p, last, func(ctx context.Context, emit func(arrow.RecordBatch) error) error {
			batch, err := r.waiting.take(ctx, run.rows, len(run.rows), 1)
			if err != nil {
				return err
			}
			return emit(batch)
		})
	}
	if err := side.wait(); err != nil {
		return err
	}
	for _, run := range runs {
		if p := r.partitions[run.partition]; p.writer != nil && p.writer.Written() >= r.options.FileBytes {
			if err := r.end(p); err != nil {
				return err
			}
		}
	}
	return r.relieve()
}

// encodeRun encodes the rows of one partition, some at a time.
func (r *Router) encodeRun(ctx context.Context, p *partition, rows []uint32, size float64) error {
	const some = 1 << 16
	for start := 0; start < len(rows); start += some {
		batch, err := r.waiting.take(ctx, rows[start:min(len(rows), start+some)], len(rows), r.options.Columnar.Workers)
		if err != nil {
			return err
		}
		if err := r.encode(ctx, p, batch, size); err != nil {
			return err
		}
	}
	return nil
}

// side is small partitions that are encoded side by side. Where their files lie is settled in order.
type side struct {
	group  *errgroup.Group
	ctx    context.Context
	router *Router
}

func newSide(ctx context.Context, r *Router) *side {
	s := &side{router: r}
	s.group, s.ctx = errgroup.WithContext(ctx)
	s.group.SetLimit(max(1, r.options.Columnar.Workers))
	return s
}

// encode has the rows of a partition encoded that each hands on, and its file finished if these are the last. It waits while
// too many are encoded.
func (s *side) encode(p *partition, last bool, each func(context.Context, func(arrow.RecordBatch) error) error) {
	if p.writer == nil && p.opening == nil {
		if err := s.router.settle(s.ctx, p); err != nil {
			s.group.Go(func() error { return err })
			return
		}
	}
	s.group.Go(func() error {
		err := each(s.ctx, func(b arrow.RecordBatch) error { return s.router.write(s.ctx, p, b) })
		if err == nil && last && p.writer != nil {
			err = s.router.end(p)
		}
		return err
	})
}

func (s *side) wait() error { return s.group.Wait() }

// merge encodes the rows that wait on the disk, one partition after the other.
func (r *Router) merge(ctx context.Context) error {
	side := newSide(ctx, r)
	for n, p := range r.partitions {
		var cursors []*cursor
		rows := 0
		for _, s := range r.disk.runs {
			if s.next < len(s.spans) && s.spans[s.next].partition == n {
				cursors = append(cursors, &cursor{run: s, row: s.spans[s.next].start, end: s.spans[s.next].end})
				rows += s.spans[s.next].end - s.spans[s.next].start
				s.next++
			}
		}
		if rows == 0 {
			continue
		}
		if rows > pieceRows {
			if err := side.wait(); err != nil {
				return err
			}
			if err := merge(r.schema, r.sorter, cursors, func(b arrow.RecordBatch) error { return r.encode(ctx, p, b, rowBytes(b)) }); err != nil {
				return err
			}
			if p.writer != nil {
				if err := r.end(p); err != nil {
					return err
				}
			}
			side = newSide(ctx, r)
			continue
		}
		var batches []arrow.RecordBatch
		if err := merge(r.schema, r.sorter, cursors, func(b arrow.RecordBatch) error {
			batches = append(batches, b)
			return ctx.Err()
		}); err != nil {
			side.wait()
			return err
		}
		side.encode(p, true, func(ctx context.Context, emit func(arrow.RecordBatch) error) error {
			for _, b := range batches {
				if err := emit(b); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return side.wait()
}

// relieve ends row groups, the largest first, while the pages of all open files take more than the budget.
func (r *Router) relieve() error {
	for {
		var total int64
		var fullest *partition
		open := 0
		for _, p := range r.partitions {
			if p.writer == nil {
				continue
			}
			open++
			total += p.writer.Pending()
			if fullest == nil || p.writer.Pending() > fullest.writer.Pending() {
				fullest = p
			}
		}
		if open < 2 || total <= r.options.BudgetBytes/3 {
			return nil
		}
		if err := fullest.writer.EndRowGroup(); err != nil {
			return fmt.Errorf("writing %s: %w", fullest.uri, err)
		}
	}
}
