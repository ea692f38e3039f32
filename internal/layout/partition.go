package layout

import (
	"context"
	"fmt"
	"io"
	"sync"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// partition is one combination of partition values, its finished files, and its open one, if it has one.
type partition struct {
	values []Value
	folder string
	files  []DataFile

	writer columnar.FileWriter
	sink   storage.Writer
	uri    string
	// opening begins the file at uri where that is settled and it was not begun yet.
	opening func() (storage.Writer, error)
}

// writers are those of finished files, which others can be written with.
type writers struct {
	lock sync.Mutex
	list []reopener
}

// reopener is a writer that can begin another file.
type reopener interface {
	columnar.FileWriter
	Reopen(w io.Writer) error
}

// encode writes rows, each of which takes so many bytes in memory, to a partition's files, some at a time where files are to be
// small: rows take less in a file than they do in memory.
func (r *Router) encode(ctx context.Context, p *partition, batch arrow.RecordBatch, rowBytes float64) error {
	step := r.step(rowBytes)
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

// step is how many rows are encoded until it is looked at how large a file has become.
func (r *Router) step(rowBytes float64) int64 {
	const least, parts = 1000, 8
	return int64(max(least, float64(r.options.FileBytes)/parts/max(rowBytes, 1)))
}

// add writes rows to a partition's file, opening it where there is none and ending it where it is large enough.
func (r *Router) add(ctx context.Context, p *partition, batch arrow.RecordBatch) error {
	if err := r.write(ctx, p, batch); err != nil {
		return err
	}
	if p.writer.Written() >= r.options.FileBytes {
		return r.end(p)
	}
	return nil
}

// write writes rows to a partition's file, and opens it where there is none.
func (r *Router) write(ctx context.Context, p *partition, batch arrow.RecordBatch) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if p.writer == nil {
		if err := r.begin(ctx, p); err != nil {
			return err
		}
	}
	if err := p.writer.Write(ctx, batch); err != nil {
		return fmt.Errorf("writing %s: %w", p.uri, err)
	}
	return nil
}

// settle settles where the next file of a partition lies.
func (r *Router) settle(ctx context.Context, p *partition) (err error) {
	p.opening, p.uri, err = r.create(ctx, p.folder)
	return err
}

// begin opens a partition's file.
func (r *Router) begin(ctx context.Context, p *partition) (err error) {
	if p.opening == nil {
		if err := r.settle(ctx, p); err != nil {
			return err
		}
	}
	open := p.opening
	p.opening = nil
	if p.sink, err = open(); err != nil {
		return err
	}
	writer, err := r.spare.begin(p.sink, r.schema, r.options.Columnar)
	if err != nil {
		p.sink.Abort()
		return err
	}
	p.writer = writer
	return nil
}

// end finishes a partition's file.
func (r *Router) end(p *partition) error {
	writer := p.writer
	p.writer = nil
	summary, err := writer.Close()
	if err == nil {
		r.spare.keep(writer)
		err = p.sink.Commit()
	} else {
		p.sink.Abort()
	}
	p.sink = nil
	if err != nil {
		return fmt.Errorf("finishing %s: %w", p.uri, err)
	}
	p.files = append(p.files, DataFile{URI: p.uri, Folder: p.folder, Values: p.values, Summary: summary})
	return nil
}

// begin returns a writer of a new file.
func (w *writers) begin(sink storage.Writer, s schema.Schema, o columnar.Options) (columnar.FileWriter, error) {
	w.lock.Lock()
	last := len(w.list) - 1
	if last < 0 {
		w.lock.Unlock()
		return columnar.NewFile(sink, s, o)
	}
	known := w.list[last]
	w.list = w.list[:last]
	w.lock.Unlock()
	return known, known.Reopen(sink)
}

// keep takes the writer of a finished file.
func (w *writers) keep(writer columnar.FileWriter) {
	if known, ok := writer.(reopener); ok {
		w.lock.Lock()
		w.list = append(w.list, known)
		w.lock.Unlock()
	}
}
