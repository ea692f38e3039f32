package transfer

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"golang.org/x/sync/errgroup"

	"trevak/internal/fault"
	"trevak/internal/run"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// Relocated is what came of a table whose folder was moved.
type Relocated struct {
	Table string
	// From is where its metadata said that it lies, To where it does.
	From, To string
	// Files are those that were found where they are to be, Rewritten those that name others and were written anew, States how many states
	// the table has.
	Files, Rewritten, States int
	// There says that the table lies where its metadata says.
	There, DryRun bool
}

// Relocate has the metadata of a table in a folder that was moved say where its files lie. Each of them has to be there.
func Relocate(ctx context.Context, s storage.Store, dir string, name table.Name, dry bool, b run.Budget) (*Relocated, error) {
	w, err := table.OpenWarehouse(s, dir)
	if err != nil {
		return nil, err
	}
	t, err := w.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	if keeper := t.Keeper(); keeper != "" {
		return nil, fault.New(fault.Usage, "the table %s is kept by the catalog %s, which says where it lies", name, keeper).
			Try("copy the table with its history by that catalog, to where it shall lie")
	}
	out := &Relocated{Table: name.String(), From: storage.Path(t.Location()), To: w.Place(name), DryRun: dry}
	if storage.Clean(out.From) == storage.Clean(out.To) {
		out.There = true
		return out, nil
	}
	// What the metadata names is read where it lies now.
	through, err := table.OpenWarehouse(storage.NewDiverted(s, out.From, out.To), dir)
	if err != nil {
		return nil, err
	}
	if t, err = through.Find(ctx, name); err != nil {
		return nil, err
	}
	objects, err := t.AllObjects(ctx)
	if err != nil {
		return nil, missing(out, err)
	}
	positions, err := t.PositionDeletes(ctx)
	if err != nil {
		return nil, err
	}
	if err := present(ctx, t, objects, b); err != nil {
		return nil, missing(out, err)
	}
	out.Files, out.Rewritten, out.States = len(objects), len(positions), len(t.Snapshots())
	if dry {
		return out, nil
	}
	place := func(uri string) string {
		if rel, within := storage.Rel(out.From, uri); within {
			return storage.Join(out.To, rel)
		}
		return uri
	}
	var mutex sync.Mutex
	count := 0
	metadata, err := t.Moved(ctx, table.Relocation{Location: out.To, Store: s, Same: true, Place: place,
		Deletes: func(ctx context.Context, uri string) (string, int64, error) {
			mutex.Lock()
			count++
			// The one that is there names files as the states before need it.
			at := storage.Join(storage.Dir(place(uri)), fmt.Sprintf("moved-%d-%d-%s", t.StateID(), count, storage.Base(uri)))
			mutex.Unlock()
			size, err := renamed(ctx, t, uri, place, s, at)
			return at, size, err
		}})
	if err != nil {
		return nil, err
	}
	return out, w.Reshow(ctx, t, metadata)
}

// present looks whether all objects are there.
func present(ctx context.Context, t *table.Table, objects []string, b run.Budget) error {
	work, inner := errgroup.WithContext(ctx)
	work.SetLimit(atOnce(t.Store(), t.Location(), b))
	for _, uri := range objects {
		work.Go(func() error {
			_, err := t.Store().Stat(inner, uri)
			return err
		})
	}
	return work.Wait()
}

func missing(r *Relocated, err error) error {
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	e := fault.New(fault.Storage, "the table %s cannot be relocated: not all of its files are in %s", r.Table, r.To).
		Try("move the whole folder %s, and run the command again", r.From)
	e.Cause = err
	return e
}
