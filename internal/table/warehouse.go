// Package table keeps tables: Apache Iceberg tables in a warehouse folder that is its own catalog.
//
// What comes in are finished data files with their summaries; what goes out is one commit, in which all of them become part
// of the table or none. The table library keeps metadata, manifests and the commit protocol; what it does not do is added
// here: everything is on the disk before it is named, commits stand in line behind an advisory lock, and a new table
// appears together with its first rows.
package table

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/locate"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/wording"
)

// Name is a table's name: its namespace, of one or more parts, and its own, joined by dots.
type Name struct{ parts []string }

// ParseName reads namespace.table, with or without "table:" before it.
func ParseName(text string) (Name, error) {
	parts := strings.Split(strings.TrimPrefix(text, "table:"), ".")
	if len(parts) < 2 {
		return Name{}, fault.New(fault.Usage, "%q names no table", text).Try("write namespace.table, like ops.readings")
	}
	for _, part := range parts {
		if part == "" || strings.HasPrefix(part, "_") || strings.ContainsFunc(part, func(r rune) bool {
			return r != '_' && r != '-' && (r < '0' || r > '9') && (r|0x20 < 'a' || r|0x20 > 'z')
		}) {
			return Name{}, fault.New(fault.Usage, "%q cannot be a table's name because of the part %q", text, part).
				Try("use letters a to z, digits, _ and -, not beginning with _")
		}
	}
	return Name{parts}, nil
}

func (n Name) String() string { return strings.Join(n.parts, ".") }

// Warehouse is a folder of tables.
type Warehouse struct {
	store   storage.Store
	dir     string
	catalog catalog
	// folder is the catalog where the warehouse is one itself, keeper where others keep it; the other is nil.
	folder *folderCatalog
	keeper keeper
	// Waiting is told when a commit has to wait for another; it may be nil.
	Waiting func()
}

// OpenWarehouse prepares to use a folder, which need not exist.
func OpenWarehouse(s storage.Store, dir string) (*Warehouse, error) {
	abs, err := s.Canonical(dir)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the warehouse %q has no absolute path", dir)
	}
	if err := checkPlace(abs); err != nil {
		return nil, err
	}
	own := &folderCatalog{store: s, dir: abs}
	return &Warehouse{store: s, dir: abs, catalog: own, folder: own}, nil
}

// checkPlace refuses places that the metadata of a table cannot name: what it says of its files has to be a URI or the path of
// a system with slashes, as readers of the format take them.
func checkPlace(abs string) error {
	switch {
	case storage.Scheme(abs) == "" && !strings.HasPrefix(abs, "/"):
		return fault.New(fault.Usage, "the warehouse %s is a path of Windows, which the files of tables cannot be named by: "+
			"no other engine would find them", abs).
			Try("keep tables on a system whose paths have slashes, or write files that belong to no table").By(fault.WriteFiles)
	case strings.ContainsAny(abs, "#?%"):
		return fault.New(fault.Usage, "the warehouse path %q holds one of # ? %%, which readers of tables take for parts of a URL",
			abs).
			Try("choose another folder with --warehouse")
	}
	return nil
}

// Store is where the warehouse lies.
func (w *Warehouse) Store() storage.Store { return w.store }

// Dir returns the canonical URI of the folder.
func (w *Warehouse) Dir() string { return w.dir }

// Table is a state of a table: the newest one, unless another was asked for.
type Table struct {
	Name Name
	// Schema has the field ids and the names that columns have in their source.
	Schema schema.Schema
	Spec   layout.Spec
	Sort   layout.Sort
	// Format is that of files to come.
	Format columnar.Format
	store  storage.Store
	table  *icetable.Table
	// state is the one that this is the table in, nil for none, and branch the one whose newest state it is, empty for a past one.
	state  *icetable.Snapshot
	branch string
	// home is the folder that a table lies in whose warehouse is its own catalog, which its metadata may not know; empty for others.
	home string
	// keep says that the schema and layout are to stay what they are when the state becomes the table's.
	keep bool
}

// Store is where the table lies.
func (t *Table) Store() storage.Store { return t.store }

// Load reads a table's current state. It returns nil when there is no such table.
func (w *Warehouse) Load(ctx context.Context, name Name) (*Table, error) {
	loaded, version, err := w.catalog.load(ctx, name.parts)
	if errors.Is(err, errNoTable) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the table %s cannot be loaded", name)
	}
	w.mendHint(ctx, name, version)
	return w.describe(name, loaded)
}

// describe reads what a table's metadata says.
func (w *Warehouse) describe(name Name, loaded *icetable.Table) (*Table, error) {
	s, err := fromIceberg(loaded.Schema(), origins(loaded.NameMapping()))
	if err != nil {
		return nil, fault.Wrap(fault.Schema, err, "the table %s cannot be used", name)
	}
	if err := readNotes(&s, loaded.Properties()); err != nil {
		return nil, err
	}
	spec, err := specFromIceberg(loaded.Spec(), loaded.Schema())
	if err != nil {
		return nil, err
	}
	return &Table{Name: name, Schema: s, Spec: spec, Sort: sortFromIceberg(loaded.SortOrder(), loaded.Schema()),
		Format: formatFrom(loaded.Properties()), store: w.store, table: loaded, state: loaded.CurrentSnapshot(), branch: Main,
		home: w.home(name)}, nil
}

// home is where a table lies, empty where its catalog says it alone.
func (w *Warehouse) home(name Name) string {
	if w.folder == nil {
		return ""
	}
	return w.Place(name)
}

// unreadable explains why the manifests of a table cannot be read: its folder may have been moved.
func (t *Table) unreadable(err error) error {
	location := storage.Clean(storage.Path(t.table.Location()))
	if t.home == "" || location == storage.Clean(t.home) || !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.Storage, err, "the manifests of table %s cannot be read", t.Name)
	}
	warehouse := strings.TrimSuffix(t.home, storage.Join("", t.Name.parts...))
	e := fault.New(fault.Storage, "the files of table %s are not where its metadata says: it lay in %s, and is in %s", t.Name, location,
		t.home).
		Try("if the folder was moved, have the table say where it lies: trevak relocate %s -w %s", t.Name, storage.Clean(warehouse))
	e.Cause = err
	return e
}

// Find is Load for a table that must be there; the error suggests names that are.
func (w *Warehouse) Find(ctx context.Context, name Name) (*Table, error) {
	t, err := w.Load(ctx, name)
	if t != nil || err != nil {
		return t, err
	}
	e := fault.New(fault.Storage, "there is no table %s in the warehouse %s", name, w.dir)
	names, err := w.Names(ctx)
	if err != nil {
		return nil, err
	}
	var known []string
	for _, n := range names {
		known = append(known, n.String())
	}
	switch near := wording.Nearest(name.String(), known); {
	case len(known) == 0:
		return nil, e.Try("it holds no table yet; load one, or name another folder with --warehouse")
	case len(near) > 0:
		return nil, e.Try("%s", wording.Meant(near))
	default:
		return nil, e.Try("it holds %s", schema.Some(known))
	}
}

// Names lists the tables in order. A warehouse that does not exist has none.
func (w *Warehouse) Names(ctx context.Context) ([]Name, error) {
	names, err := w.catalog.names(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the tables of the warehouse %s cannot be listed", w.dir)
	}
	slices.SortFunc(names, func(a, b Name) int { return strings.Compare(a.String(), b.String()) })
	return names, nil
}

// lockWait is how long a commit waits for others.
const lockWait = 2 * time.Minute

// locked runs f while no other commit to the warehouse runs.
// In a store without locks, commits that run at once are told apart by who publishes the next version first, which it has to see to.
func (w *Warehouse) locked(ctx context.Context, f func() error) error {
	if w.folder == nil {
		// The service tells commits apart.
		return f()
	}
	if err := storage.ProveExclusive(ctx, w.store, w.lock()); err != nil {
		return err
	}
	waiting, cancel := context.WithTimeout(ctx, lockWait)
	defer cancel()
	release, err := storage.Lock(waiting, w.store, w.lock(), false)
	if errors.Is(err, storage.ErrLocked) {
		if w.Waiting != nil {
			w.Waiting()
		}
		release, err = storage.Lock(waiting, w.store, w.lock(), true)
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, context.DeadlineExceeded):
		return fault.New(fault.Conflict, "another commit has held the warehouse %s for %s", w.dir, lockWait).Try("run the command again")
	case err != nil:
		return fault.Wrap(fault.Storage, err, "the warehouse %s cannot be locked", w.dir)
	}
	defer release()
	return f()
}

// rowsLock is what loads lock, beside the metadata of a table, that change rows which it has.
const rowsLock = ".rows.lock"

// Alone waits until no other load changes rows of a table, and keeps others from doing so until release is called. Loads that only add
// rows are not kept from it. waiting is called before a wait, unless it is nil.
func (t *Table) Alone(ctx context.Context, waiting func()) (release func(), err error) {
	place := storage.Join(t.Location(), "metadata", rowsLock)
	release, err = storage.Lock(ctx, t.store, place, false)
	if errors.Is(err, storage.ErrLocked) {
		if waiting != nil {
			waiting()
		}
		release, err = storage.Lock(ctx, t.store, place, true)
	}
	if err != nil && ctx.Err() == nil {
		return nil, fault.Wrap(fault.Storage, err, "the table %s cannot be locked", t.Name)
	}
	return release, err
}

// lock is the object that commits lock.
func (w *Warehouse) lock() string { return storage.Join(w.dir, locate.WarehouseLock) }

// MayWrite returns an error where a table of that name, t where there is one already, could not be written to.
func (w *Warehouse) MayWrite(ctx context.Context, name Name, t *Table) error {
	if t == nil {
		return w.free(ctx, name)
	}
	return w.writable(t)
}

// writable refuses to write to a table whose files lie elsewhere, as those of a copied warehouse do: they would be written
// among the files of the original.
func (w *Warehouse) writable(t *Table) error {
	if w.folder == nil {
		// A service says where the files of its tables lie.
		return nil
	}
	if keeper := t.Keeper(); keeper != "" {
		return fault.New(fault.Storage, "the table %s is kept by the catalog %s, which would not know of what is written here", t.Name, keeper).
			Try("write to it by that catalog, with --catalog %s; or copy it here with: trevak copy", keeper)
	}
	location := storage.Path(t.table.Location())
	home, err := storage.Real(w.store, w.dir)
	if err == nil {
		var there string
		if there, err = storage.Real(w.store, location); err == nil {
			if _, inside := storage.Rel(home, there); inside {
				return nil
			}
		}
	}
	return fault.New(fault.Storage, "the table %s can only be read: its files lie in %s, outside the warehouse %s, so the warehouse "+
		"was copied or moved", t.Name, location, w.dir).
		Try("write to the warehouse where they lie; or, to have the table lie here from now on, run trevak relocate %s -w %s", t.Name, w.dir)
}

// free refuses a name that would lie within a table, or whose folder holds tables already: the one would hide the other.
func (w *Warehouse) free(ctx context.Context, name Name) error {
	if w.folder == nil {
		return nil
	}
	for n := 1; n < len(name.parts); n++ {
		above := Name{name.parts[:n]}
		if locate.IsTable(ctx, w.store, storage.Join(w.dir, above.parts...)) {
			return fault.New(fault.Usage, "there is a table %s, so it cannot be the namespace of a table %s", above,
				name).Try("choose another name for the new table")
		}
	}
	names, err := w.Names(ctx)
	if err != nil {
		return err
	}
	for _, other := range names {
		if strings.HasPrefix(other.String(), name.String()+".") {
			return fault.New(fault.Usage, "%s is a namespace that holds the table %s, so it cannot be a table", name,
				other).Try("choose another name for the new table")
		}
	}
	return nil
}

// mendHint writes the hint of a table anew where an earlier commit could not. It leaves that to others where these are about to commit.
func (w *Warehouse) mendHint(ctx context.Context, name Name, version int) {
	if w.folder == nil || w.folder.hinted(ctx, name.parts, version) {
		return
	}
	release, err := storage.Lock(ctx, w.store, w.lock(), false)
	if err != nil {
		return
	}
	defer release()
	if _, version, err := w.folder.newest(ctx, name.parts); err == nil && version > 0 && !w.folder.hinted(ctx, name.parts, version) {
		// What cannot be mended now is tried again the next time.
		_ = w.folder.hint(ctx, w.folder.metadataFolder(name.parts), version)
	}
}
