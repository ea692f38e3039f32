package prove

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// AddFile takes the rows of a columnar file, whose columns are those of the digest.
func (d *Digest) AddFile(ctx context.Context, s storage.Store, uri string) error {
	f, err := columnar.Open(ctx, s, uri)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Batches(ctx, func(b arrow.RecordBatch) error {
		if int(b.NumCols()) < len(d.fields) {
			return fault.New(fault.Storage, "has %d columns, and %d were written", b.NumCols(), len(d.fields)).In(uri)
		}
		return d.Add(ctx, b)
	})
}

// Written is rows that were written, which are to be read back.
type Written struct {
	Store   storage.Store
	Workers int
	rows    *Digest
	fields  []schema.Field
}

// Begin forgets what was written, and prepares for rows of a schema.
func (w *Written) Begin(s schema.Schema) {
	w.fields = s.Fields
	w.rows = NewDigest(s.Fields, nil, w.Workers)
}

// Take notes rows that are written.
func (w *Written) Take(ctx context.Context, b arrow.RecordBatch) error { return w.rows.Add(ctx, b) }

// Rows is how many rows were written.
func (w *Written) Rows() int64 { return w.rows.Rows }

// ReadBack reads the files, and returns an error where they do not have the rows that were written.
func (w *Written) ReadBack(ctx context.Context, files []string) error {
	back := NewDigest(w.fields, nil, w.Workers)
	for _, uri := range files {
		if err := back.AddFile(ctx, w.Store, uri); err != nil {
			return fault.Wrap(fault.Storage, err, "what was written cannot be read back")
		}
	}
	if back.Equal(w.rows) {
		return nil
	}
	e := fault.New(fault.Storage, "what was read back is not what was written: %d rows, and %d were written", back.Rows, w.rows.Rows).
		Try("look at the disk and at the memory of the machine, and run the command again; nothing was committed")
	for i, f := range w.fields {
		if a, b := w.rows.Facts(i), back.Facts(i); a != b {
			e.Column = f.Name
			break
		}
	}
	return e
}
