package table

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Dropped is what came of a table that is none any more.
type Dropped struct {
	Holdings
	// Kept is where the description of the table's last state is, of one whose files were kept.
	Kept string
	// Removed counts the files that were removed, and Left those in its folder that are not named by the table and stay.
	Removed, Left int

	location string // the folder of the table
}

// Drop ends a table. Where its files are kept, so is the description of its last state, under a name by which it is no table: given its
// former name back, it is one again. Otherwise the files are removed that are the table's own, and no other. What another catalog knows
// the table by is spared; it is the URI of a description of it.
func (w *Warehouse) Drop(ctx context.Context, name Name, keep bool, spared ...string) (*Dropped, error) {
	t, err := w.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := w.writable(t); err != nil {
		return nil, err
	}
	release, err := t.Alone(ctx, w.Waiting)
	if err != nil {
		return nil, err
	}
	out := &Dropped{location: t.Location()}
	err = w.locked(ctx, func() error { return w.drop(ctx, name, keep, spared, out) })
	release()
	if err == nil && !keep {
		w.clear(ctx, name, out)
	}
	return out, err
}

func (w *Warehouse) drop(ctx context.Context, name Name, keep bool, spared []string, out *Dropped) error {
	t, err := w.Find(ctx, name)
	if err != nil {
		return err
	}
	held, err := t.Holdings(ctx)
	if err != nil {
		return err
	}
	out.Holdings = *held
	if w.keeper != nil {
		if keep {
			out.Kept = t.MetadataLocation()
		}
		return w.keeper.drop(ctx, name)
	}
	folder := w.folder.metadataFolder(name.parts)
	entries, err := w.store.List(ctx, folder)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the metadata of table %s cannot be listed", name)
	}
	if keep {
		if out.Kept, err = w.setAside(ctx, t, folder); err != nil {
			return fault.Wrap(fault.Storage, err, "the last state of table %s cannot be kept", name)
		}
	}
	// While there is a version the table is there; the newest goes last.
	versions := slices.DeleteFunc(versionsOf(entries), func(uri string) bool { return slices.Contains(spared, uri) })
	for _, uri := range append([]string{storage.Join(folder, hintName)}, versions...) {
		if err := w.store.Remove(ctx, uri); err != nil && len(versions) > 0 && uri == versions[len(versions)-1] {
			return fault.Wrap(fault.Storage, err, "the table %s cannot be dropped", name)
		}
	}
	if err := storage.Sync(ctx, w.store, folder); err != nil {
		return fault.Wrap(fault.Storage, err, "the table %s is dropped, which may not survive a failure of power", name)
	}
	return nil
}

// versionsOf are the versions of the metadata among what lies in a folder, the newest last.
func versionsOf(entries []storage.Entry) (out []string) {
	number := map[string]int{}
	for _, e := range entries {
		for _, pattern := range []interface{ FindStringSubmatch(string) []string }{versionName, foreignName} {
			if m := pattern.FindStringSubmatch(e.Name); m != nil {
				n := 0
				fmt.Sscan(strings.TrimLeft(m[1], "0"), &n)
				number[e.URI] = n
				out = append(out, e.URI)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return number[a] - number[b] })
	return out
}

// setAside keeps the newest version of the metadata under a name by which the folder is no table.
func (w *Warehouse) setAside(ctx context.Context, t *Table, folder string) (string, error) {
	newest, version, err := w.folder.newest(ctx, t.Name.parts)
	if err != nil {
		return "", err
	}
	text, err := storage.ReadAll(ctx, w.store, newest)
	if err != nil {
		return "", err
	}
	uri := storage.Join(folder, fmt.Sprintf("dropped-%s-v%d.json", time.Now().UTC().Format("20060102T150405"), version))
	return uri, storage.WriteAll(ctx, w.store, uri, text, durable)
}

// clear removes what a dropped table had. What cannot be removed is named by nothing any more.
func (w *Warehouse) clear(ctx context.Context, name Name, out *Dropped) {
	folder := out.location
	metadata := storage.Join(folder, "metadata")
	own := slices.Concat(out.Data, out.Metadata)
	own = append(own, storage.Join(metadata, rowsLock))
	folders := map[string]bool{metadata: true, storage.Join(folder, "data"): true}
	for _, uri := range own {
		if w.store.Remove(ctx, uri) == nil {
			out.Removed++
		}
		for dir := storage.Dir(uri); dir != folder && len(dir) > len(folder); dir = storage.Dir(dir) {
			folders[dir] = true
		}
	}
	list := make([]string, 0, len(folders))
	for dir := range folders {
		list = append(list, dir)
	}
	// The deepest first; one that is not empty stays.
	slices.SortFunc(list, func(a, b string) int { return len(b) - len(a) })
	for _, dir := range list {
		_ = w.store.Remove(ctx, dir)
	}
	_ = w.store.Remove(ctx, folder)
	_ = storage.Walk(ctx, w.store, folder, func(e storage.Entry, err error) error {
		if err == nil && e.Kind != storage.Folder {
			out.Left++
		}
		return err
	})
}
