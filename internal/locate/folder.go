package locate

import (
	"context"
	"strings"

	"trevak/internal/storage"
)

// below takes everything below one folder but what is hidden and what this program keeps there itself.
func (f *Found) below(ctx context.Context, folder string) error {
	if flat, ok := storage.FlatOf(f.store, folder); ok {
		return f.belowFlat(ctx, flat, folder)
	}
	own, err := f.passFolder(ctx, folder)
	if own || err != nil {
		return err
	}
	return storage.Walk(ctx, f.store, folder, func(e storage.Entry, err error) error {
		switch {
		case err != nil:
			return explained(ctx, f.store, e.URI, err)
		case e.Name == ConvertList:
			return nil
		case hidden(e.Name) && e.Kind == storage.Folder:
			return storage.SkipFolder
		case hidden(e.Name):
			f.Hidden++
			return nil
		case e.Kind == storage.Folder:
			if own, err := f.passFolder(ctx, e.URI); own || err != nil {
				return storage.SkipFolder
			}
			return nil
		}
		return f.within(ctx, e)
	})
}

// passFolder passes a folder over in which tables are kept, and reports whether it did.
func (f *Found) passFolder(ctx context.Context, folder string) (bool, error) {
	switch {
	case IsWarehouse(ctx, f.store, folder):
		f.Passed = append(f.Passed, Passed{folder, "warehouse"})
	case IsTable(ctx, f.store, folder):
		f.Passed = append(f.Passed, Passed{folder, "table"})
	default:
		return false, ctx.Err()
	}
	return true, nil
}

// within takes what lies in a folder and is none.
func (f *Found) within(ctx context.Context, e storage.Entry) error {
	object, err := f.store.Stat(ctx, e.URI)
	switch {
	case err != nil:
		return explained(ctx, f.store, e.URI, err)
	case object.Kind == storage.Folder:
		// A link to a folder is not followed: it may lead back.
		f.Passed = append(f.Passed, Passed{e.URI, "link to a folder"})
		return nil
	case object.Kind == storage.Stream || object.Kind == storage.Device:
		f.Passed = append(f.Passed, Passed{e.URI, "pipe or device"})
		return nil
	}
	return f.file(ctx, object, true)
}

// ConvertList is the file in which a convert lists what it wrote to a folder.
const ConvertList = ".trevak-convert.json"

// WarehouseLock is the file that marks a folder of tables, which commits lock.
const WarehouseLock = ".commit.lock"

// IsWarehouse reports whether a folder is one in which this program keeps tables.
func IsWarehouse(ctx context.Context, s storage.Store, folder string) bool {
	return storage.Exists(ctx, s, storage.Join(folder, WarehouseLock))
}

// IsTable reports whether a folder is that of a table, by its metadata.
func IsTable(ctx context.Context, s storage.Store, folder string) bool {
	entries, err := s.List(ctx, storage.Join(folder, "metadata"))
	if err != nil {
		return false
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name, ".metadata.json") {
			return true
		}
	}
	return false
}

// Holds returns the warehouse or table that a URI is or lies in, and which of the two it is; both are empty where there is none.
func Holds(ctx context.Context, s storage.Store, uri string) (folder, what string) {
	at, err := s.Canonical(uri)
	if err != nil {
		return "", ""
	}
	for {
		switch {
		case IsTable(ctx, s, at):
			return at, "table"
		case IsWarehouse(ctx, s, at):
			return at, "warehouse"
		}
		up := storage.Dir(at)
		if up == at {
			return "", ""
		}
		at = up
	}
}
