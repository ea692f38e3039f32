package transfer

import (
	"context"
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"golang.org/x/sync/errgroup"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// copyWhole copies a table with all its states: each file as it is, and what names them written anew.
func copyWhole(ctx context.Context, r Request, out *Copied) error {
	objects, err := r.From.AllObjects(ctx)
	if err != nil {
		return err
	}
	positions, err := r.From.PositionDeletes(ctx)
	if err != nil {
		return err
	}
	held, err := r.From.Holdings(ctx)
	if err != nil {
		return err
	}
	out.Rows, out.Bytes, out.States, out.Rewritten = held.Rows, held.DataBytes, held.Snapshots, len(positions)
	out.Files, out.Objects = len(objects)-len(positions), len(r.From.Ledger())
	if r.DryRun {
		return nil
	}
	home, err := r.To.Planned(ctx, r.Name, r.From)
	if err != nil {
		return err
	}
	if err := r.apart(nil, home); err != nil {
		return err
	}
	place := placing(r.From, home)
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(atOnce(r.To.Store(), home, r.Budget))
	for _, uri := range objects {
		if positions[uri] {
			continue
		}
		work.Go(func() error { return out.object(inner, r.From.Store(), uri, -1, r.To.Store(), place(uri)) })
	}
	if err := work.Wait(); err != nil {
		return err
	}
	metadata, err := r.From.Moved(ctx, table.Relocation{Location: home, Store: r.To.Store(), Place: place,
		Deletes: func(ctx context.Context, uri string) (string, int64, error) {
			size, err := renamed(ctx, r.From, uri, place, r.To.Store(), place(uri))
			out.made = append(out.made, place(uri))
			return place(uri), size, err
		}})
	if err != nil {
		return err
	}
	if err := r.To.Show(ctx, r.Name, metadata); err != nil {
		return err
	}
	made, err := r.To.Find(ctx, r.Name)
	if err != nil {
		return err
	}
	out.SnapshotID = made.StateID()
	return complete(ctx, held, made)
}

// complete holds what a copy has against what was copied.
func complete(ctx context.Context, held *table.Holdings, made *table.Table) error {
	there, err := made.Holdings(ctx)
	if err != nil {
		return err
	}
	if there.Snapshots != held.Snapshots || there.Rows != held.Rows || len(there.Data) != len(held.Data)+len(held.Foreign) {
		return fault.New(fault.Storage, "the copy %s has %d states, %d rows and %d files, not %d, %d and %d", made.Name, there.Snapshots,
			there.Rows, len(there.Data), held.Snapshots, held.Rows, len(held.Data)+len(held.Foreign)).
			Try("drop it, and copy the table again")
	}
	return nil
}

// placing tells where a file of a table lies in its copy.
func placing(t *table.Table, home string) func(uri string) string {
	from := storage.Path(t.Location())
	return func(uri string) string {
		if rel, within := storage.Rel(from, uri); within {
			return storage.Join(home, rel)
		}
		return storage.Join(home, "data", "elsewhere", nameOf(t, uri))
	}
}

// renamed writes a file that lists rows by file and position anew, with the names that files have elsewhere, and returns its size.
func renamed(ctx context.Context, t *table.Table, uri string, place func(string) string, to storage.Store, at string) (int64, error) {
	opened, err := columnar.Open(ctx, t.Store(), uri)
	if err != nil {
		return 0, err
	}
	defer opened.Close()
	if !strings.HasSuffix(at, string(columnar.Parquet)) {
		return 0, fault.New(fault.Schema, "lists deleted rows by position in a format that is not written here").In(uri).
			Try("compact the table first, or copy it without its history")
	}
	own := opened.Schema
	t.GiveIDs(&own)
	w, err := to.Create(ctx, at, storage.Creation{Mode: storage.Replace, Durable: true})
	if err != nil {
		return 0, err
	}
	file, err := columnar.NewFile(w, scan.PositionFields, columnar.DefaultOptions)
	if err == nil {
		err = opened.Batches(ctx, func(b arrow.RecordBatch) error { return file.Write(ctx, renamedBatch(own.Fields, b, place)) })
	}
	if err != nil {
		w.Abort()
		return 0, fmt.Errorf("%s: %w", uri, err)
	}
	summary, err := file.Close()
	if err == nil {
		err = w.Commit()
	}
	if err != nil {
		w.Abort()
		return 0, err
	}
	return summary.Bytes, nil
}

// renamedBatch has the paths of a batch be those that files have elsewhere.
func renamedBatch(fields []schema.Field, b arrow.RecordBatch, place func(string) string) arrow.RecordBatch {
	build := array.NewRecordBuilder(memory.DefaultAllocator, scan.PositionFields.Arrow())
	paths, rows := build.Field(0).(*array.StringBuilder), build.Field(1).(*array.Int64Builder)
	for c, f := range fields {
		switch column := b.Column(c).(type) {
		case *array.String:
			if f.ID == scan.DeletedFileID || f.Name == scan.PositionFields.Fields[0].Name {
				for i := range column.Len() {
					paths.Append(place(storage.Path(column.Value(i))))
				}
			}
		case *array.Int64:
			if f.ID == scan.DeletedPositionID || f.Name == scan.PositionFields.Fields[1].Name {
				rows.AppendValues(column.Int64Values(), nil)
			}
		}
	}
	return build.NewRecordBatch()
}
