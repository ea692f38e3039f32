package table

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"time"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/storage"
)

// Left is an object in the folder of a table that none of its states names.
type Left struct {
	URI      string
	Bytes    int64
	Modified time.Time
}

// Swept is what a look for such objects came to.
type Swept struct {
	// Left are those that this program wrote, and that are older than the safe age; Removed says that they were removed.
	Left    []Left
	Bytes   int64
	Removed bool
	// Young are not old enough: a load that runs may be writing them. Foreign are not of this program, and stay.
	Young, Foreign int
	// Dropped says that there is no table of the name any more.
	Dropped bool
}

// What files of this program are called: data files and files of deletes, manifests and their lists, segments of the ledger, and files
// that were being written.
var (
	ownData     = regexp.MustCompile(`^[0-9]{5,}-([0-9a-f]{12})\.(parquet|orc|avro)$`)
	ownMetadata = regexp.MustCompile(`^(snap-[0-9]+-[0-9]+-[0-9a-f-]{36}\.avro|[0-9a-f-]{36}-m[0-9]+\.avro|` +
		`ledger-[0-9]+-[0-9a-f]+\.parquet)$`)
	ownUnready = regexp.MustCompile(`^\.[0-9a-f]{16}\.tmp$`)
	ownDropped = regexp.MustCompile(`^dropped-.*\.json$`)
)

// Sweep looks for what no state of a table names, which loads leave that were killed, and removes what is older than a safe age, unless
// it is only to be told of. A file stays as long as another one of its load is young. The table may be one that was dropped.
func (w *Warehouse) Sweep(ctx context.Context, name Name, age time.Duration, remove bool) (*Swept, error) {
	t, err := w.Load(ctx, name)
	if err != nil {
		return nil, err
	}
	if t != nil {
		if err := w.writable(t); err != nil {
			return nil, err
		}
	}
	out := &Swept{Dropped: t == nil, Removed: remove}
	folder := storage.Join(w.dir, name.parts...)
	if t != nil {
		folder = t.Location()
	}
	s := sweeping{w: w, name: name, folder: folder, before: time.Now().Add(-age), young: map[string]bool{}, out: out}
	// The young ones have to be known before any is taken for left.
	if err := s.walk(ctx, func(f Left, load string) error {
		if f.Modified.After(s.before) {
			s.young[load] = load != ""
		}
		return nil
	}); err != nil {
		return nil, err
	}
	part := map[string]Left{}
	if err := s.walk(ctx, func(f Left, load string) error {
		if f.Modified.After(s.before) || s.young[load] {
			out.Young++
			return nil
		}
		if part[f.URI] = f; len(part) < partFiles {
			return nil
		}
		return s.settle(ctx, part, remove)
	}); err != nil {
		return nil, err
	}
	if err := s.settle(ctx, part, remove); err != nil {
		return nil, err
	}
	unfinished, err := storage.LeftBehind(ctx, w.store, folder, s.before, remove)
	if err != nil {
		return nil, err
	}
	for _, l := range unfinished {
		out.Left = append(out.Left, Left{URI: l.Path, Bytes: l.Bytes, Modified: l.Modified})
		out.Bytes += l.Bytes
	}
	if out.Dropped && len(out.Left)+out.Young+out.Foreign == 0 {
		return nil, fault.New(fault.Storage, "there is no table %s in the warehouse %s, and nothing is left of one", name, w.dir).
			Try("look at the names of the tables that are there")
	}
	return out, nil
}

// sweeping is a sweep in the making.
type sweeping struct {
	w      *Warehouse
	name   Name
	folder string
	before time.Time
	// young are the loads of which a file is young.
	young map[string]bool
	out   *Swept
}

// walk hands over the files that this program wrote into the folder of the table, with the id of their load where it has one, and
// counts the others. Those that keep a table as it is are passed over.
func (s *sweeping) walk(ctx context.Context, visit func(f Left, load string) error) error {
	s.out.Foreign, s.out.Young = 0, 0
	metadata := storage.Join(s.folder, "metadata")
	err := storage.Walk(ctx, s.w.store, s.folder, func(e storage.Entry, err error) error {
		switch {
		case err != nil && errors.Is(err, fs.ErrNotExist):
			return storage.SkipFolder
		case err != nil:
			return err
		case e.Kind == storage.Folder:
			if e.URI != metadata && locate.IsTable(ctx, s.w.store, e.URI) {
				// Another table, of whose name this one's is the namespace.
				return storage.SkipFolder
			}
			return nil
		}
		own, load := false, ""
		switch in := storage.Dir(e.URI) == metadata; {
		case ownUnready.MatchString(e.Name):
			own = true
		case in && keepsTable(e.Name):
			return nil
		case in:
			own = ownMetadata.MatchString(e.Name)
		default:
			if m := ownData.FindStringSubmatch(e.Name); m != nil {
				own, load = true, m[1]
			}
		}
		if !own {
			s.out.Foreign++
			return nil
		}
		o, err := s.w.store.Stat(ctx, e.URI)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return visit(Left{e.URI, o.Size, o.Modified}, load)
	})
	if err != nil && ctx.Err() == nil {
		return fault.Wrap(fault.Storage, err, "the folder of table %s cannot be listed", s.name)
	}
	return err
}

// keepsTable reports whether a file beside the metadata is part of what a table is, or was.
func keepsTable(name string) bool {
	return name == hintName || name == rowsLock || versionName.MatchString(name) || foreignName.MatchString(name) ||
		ownDropped.MatchString(name)
}

// settle takes out of some files those that are named, as the table is while no commit can come between, and removes the others where
// that is asked for.
func (s *sweeping) settle(ctx context.Context, part map[string]Left, remove bool) error {
	defer clear(part)
	if len(part) == 0 {
		return nil
	}
	seen, err := s.spare(ctx, part)
	if err != nil || len(part) == 0 {
		return err
	}
	for some := range slices.Chunk(slices.Sorted(maps.Keys(part)), removedAtOnce) {
		if !remove {
			break
		}
		// What was committed meanwhile is looked at, while nothing else can be committed.
		if err := s.w.locked(ctx, func() (err error) {
			if now, err := s.w.newest(ctx, s.name); err != nil {
				return err
			} else if now != seen {
				if seen, err = s.spare(ctx, part); err != nil {
					return err
				}
			}
			some = slices.DeleteFunc(some, func(uri string) bool { return part[uri].URI == "" })
			s.w.removeAll(ctx, s.folder, some)
			return ctx.Err()
		}); err != nil {
			return err
		}
	}
	for _, uri := range slices.Sorted(maps.Keys(part)) {
		s.out.Left = append(s.out.Left, part[uri])
		s.out.Bytes += part[uri].Bytes
	}
	return nil
}

// removedAtOnce is how many files are removed before others may commit again.
const removedAtOnce = 5000

// spare takes out of some files those that the table names, or that one names which was dropped and whose files were kept. It returns
// where the version of the metadata is that it went by.
func (s *sweeping) spare(ctx context.Context, part map[string]Left) (version string, err error) {
	objects := map[string]bool{}
	for uri := range part {
		objects[uri] = true
	}
	t, err := s.w.Load(ctx, s.name)
	if err == nil && t != nil {
		version = storage.Path(t.table.MetadataLocation())
		err = t.spare(ctx, objects)
	}
	if err == nil {
		err = s.spareDropped(ctx, objects)
	}
	for uri := range part {
		if !objects[uri] {
			delete(part, uri)
		}
	}
	return version, err
}

func (s *sweeping) spareDropped(ctx context.Context, objects map[string]bool) error {
	entries, err := s.w.store.List(ctx, storage.Join(s.folder, "metadata"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if !ownDropped.MatchString(e.Name) {
			continue
		}
		was, err := icetable.NewFromLocation(ctx, s.name.parts, e.URI, s.w.catalog.files, s.w.catalog)
		if err != nil {
			return fault.Wrap(fault.Storage, err, "what the table %s was that was dropped cannot be read from %s", s.name, e.URI)
		}
		t := &Table{Name: s.name, store: s.w.store, table: was, state: was.CurrentSnapshot(), branch: Main}
		if err := t.spare(ctx, objects); err != nil {
			return err
		}
	}
	return err
}

// newest returns where the newest version of a table's metadata is, empty where there is none.
func (w *Warehouse) newest(ctx context.Context, name Name) (string, error) {
	if w.folder != nil {
		uri, _, err := w.folder.newest(ctx, name.parts)
		return uri, err
	}
	t, err := w.Load(ctx, name)
	if t == nil || err != nil {
		return "", err
	}
	return storage.Path(t.table.MetadataLocation()), nil
}
