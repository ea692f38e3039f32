package columnar

import (
	"context"
	"errors"
	"fmt"
	"runtime"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	"golang.org/x/sync/errgroup"

	"trevak/internal/fault"
)

// guard makes an error of a panic of the library, which is what some damage leads to. What takes the batches is no part of
// that: its own faults are not blamed on the file.
type guard struct {
	location string
	taking   bool
}

// emit is a function that takes batches, under the guard.
func (g *guard) emit(emit func(arrow.RecordBatch) error) func(arrow.RecordBatch) error {
	return func(b arrow.RecordBatch) error {
		g.taking = true
		err := emit(b)
		g.taking = false
		return err
	}
}

// emitAt is emit with the place of a batch.
func (g *guard) emitAt(emit func(arrow.RecordBatch, int64) error) func(arrow.RecordBatch, int64) error {
	return func(b arrow.RecordBatch, at int64) error {
		g.taking = true
		err := emit(b, at)
		g.taking = false
		return err
	}
}

// end is to be deferred.
func (g *guard) end(err *error) {
	r := recover()
	switch {
	case r == nil:
	case g.taking:
		*err = &fault.Error{Kind: fault.Storage, Object: g.location, Reason: fmt.Sprintf("its rows met a fault of this program: %v", r),
			WayOut: "report it with the columns of the file"}
	default:
		cause := fmt.Errorf("%v", r)
		if _, own := r.(runtime.Error); own {
			cause = errors.New("it is damaged in a way that its reader does not foresee")
		}
		*err = broken(g.location, cause)
	}
}

// sideBySide does n pieces of work, up to limit of them at a time. A panic of one of them is a panic of the caller's, so that its guard
// makes an error of that too.
func sideBySide(n, limit int, do func(i int) error) error {
	if limit <= 1 || n <= 1 {
		for i := range n {
			if err := do(i); err != nil {
				return err
			}
		}
		return nil
	}
	var group errgroup.Group
	group.SetLimit(limit)
	panics := make(chan any, n)
	for i := range n {
		group.Go(func() error {
			defer func() {
				if r := recover(); r != nil {
					panics <- r
				}
			}()
			return do(i)
		})
	}
	err := group.Wait()
	select {
	case r := <-panics:
		panic(r)
	default:
		return err
	}
}

// place tells where a Parquet file is damaged, by its row group, column and page, once something went wrong; the cause comes
// back where that does not show when columns are read one by one.
func (f *File) place(ctx context.Context, cause error) error {
	reader, err := pqarrow.NewFileReader(f.reader, pqarrow.ArrowReadProperties{}, memory.DefaultAllocator)
	if err != nil {
		return cause
	}
	footer := f.reader.MetaData()
	for g := range footer.NumRowGroups() {
		for c := range footer.Schema.NumColumns() {
			if ctx.Err() != nil {
				return cause
			}
			page, err := f.firstDamage(ctx, reader, g, c)
			if err == nil {
				continue
			}
			where := fmt.Sprintf("row group %d, column %q", g+1, footer.Schema.Column(c).Path())
			if page > 0 {
				where += fmt.Sprintf(", page %d", page)
			}
			return fmt.Errorf("%s: %w", where, err)
		}
	}
	return cause
}

// firstDamage reads one column of a row group. page is the number of the one that cannot be unpacked, from 1 and the
// dictionary's included, 0 where all can.
func (f *File) firstDamage(ctx context.Context, reader *pqarrow.FileReader, group, column int) (page int, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	pages, err := f.reader.RowGroup(group).GetColumnPageReader(column)
	if err != nil {
		return 0, err
	}
	for pages.Next() {
		page++
	}
	if err := pages.Err(); err != nil {
		return page + 1, err
	}
	rows, err := reader.ReadRowGroups(ctx, []int{column}, []int{group})
	if err != nil {
		return 0, err
	}
	rows.Release()
	return 0, nil
}
