package locate

import (
	"context"
	"io/fs"
	"strings"

	"trevak/internal/storage"
)

// belowFlat is below for a store without folders: what lies in it comes with one listing, and where tables are kept shows by the keys.
func (f *Found) belowFlat(ctx context.Context, flat storage.Flat, folder string) error {
	var entries []storage.Entry
	kept := map[string]string{} // what folders are in which tables are kept
	root := storage.Clean(folder)
	err := flat.Below(ctx, root+"/", func(e storage.Entry) error {
		entries = append(entries, e)
		dir := storage.Dir(e.URI)
		switch {
		case e.Name == WarehouseLock:
			kept[dir] = "warehouse"
		case strings.HasSuffix(e.Name, ".metadata.json") && storage.Base(dir) == "metadata" && kept[storage.Dir(dir)] == "":
			kept[storage.Dir(dir)] = "table"
		}
		return nil
	})
	if err != nil {
		return explained(ctx, f.store, folder, err)
	}
	if len(entries) == 0 {
		return explained(ctx, f.store, folder, &fs.PathError{Op: "list", Path: folder, Err: fs.ErrNotExist})
	}
	passed := map[string]bool{}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		if holder := holderOf(kept, root, e.URI); holder != "" {
			if !passed[holder] {
				passed[holder] = true
				f.Passed = append(f.Passed, Passed{holder, kept[holder]})
			}
			continue
		}
		rel, _ := storage.Rel(root, e.URI)
		steps := strings.Split(rel, "/")
		switch {
		case e.Name == ConvertList, hiddenFolder(steps):
		case hidden(e.Name):
			f.Hidden++
		default:
			if err := f.file(ctx, storage.Object{URI: e.URI, Version: *e.Listed}, true); err != nil {
				return err
			}
		}
	}
	return nil
}

// holderOf returns the outermost folder between a root and an object in which tables are kept, empty for none.
func holderOf(kept map[string]string, root, uri string) string {
	if len(kept) == 0 {
		return ""
	}
	for at := len(root); ; {
		if kept[uri[:at]] != "" {
			return uri[:at]
		}
		slash := strings.IndexByte(uri[at+1:], '/')
		if slash < 0 {
			return ""
		}
		at += 1 + slash
	}
}

// hiddenFolder reports whether one of the folders on the way to an object is hidden.
func hiddenFolder(steps []string) bool {
	for _, step := range steps[:len(steps)-1] {
		if hidden(step) {
			return true
		}
	}
	return false
}
