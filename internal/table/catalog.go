package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/apache/iceberg-go"
	icebergio "github.com/apache/iceberg-go/io"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/storage"
)

// folderCatalog finds tables in the folders of a warehouse, as file-based catalogs do: the newest version of the metadata is the
// table, and version-hint.text names it for engines that do not list folders (Iceberg specification, "File System Tables").
// Whoever commits holds the warehouse's lock, where its store has locks.
type folderCatalog struct {
	store storage.Store
	dir   string
	// stale is why the hint of the last commit could not be written, nil where it was.
	stale error
	// last are the tables that were read last, by the version of their metadata, which never changes.
	mutex sync.Mutex
	last  map[string]*icetable.Table
}

// catalog finds tables, and makes their next versions.
type catalog interface {
	// LoadTable reads a table as its newest version has it; the error is errNoTable where there is none. CommitTable makes the next
	// version, unless a requirement does not hold any more: the error is errRaced then.
	icetable.CatalogIO
	// files gives the table library its files.
	files(ctx context.Context) (icebergio.IO, error)
	// load is LoadTable with the number of the version, 0 where versions have none.
	load(ctx context.Context, ident icetable.Identifier) (*icetable.Table, int, error)
	// create makes the first version of a table that was planned, with updates; the error is errRaced where there is one meanwhile.
	create(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata, updates []icetable.Update) (icetable.Metadata, string,
		error)
	// names lists the tables in order.
	names(ctx context.Context) ([]Name, error)
}

// errNoTable says that a folder holds no table.
var errNoTable = errors.New("there is no such table")

// Names of metadata files, those of other catalogs included, whose tables are read and go on with versions of our own.
var (
	versionName = regexp.MustCompile(`^v([0-9]+)(?:\.gz)?\.metadata\.json$`)
	foreignName = regexp.MustCompile(`^([0-9]{5,})-[0-9a-fA-F-]{36}(?:\.gz)?\.metadata\.json$`)
)

const hintName = "version-hint.text"

// files gives the table library its files.
func (c *folderCatalog) files(ctx context.Context) (icebergio.IO, error) {
	// The library keeps them for longer than the call that it asks in.
	return mending{files{context.WithoutCancel(ctx), c.store}}, nil
}

// metadataFolder is where the metadata of a table lies.
func (c *folderCatalog) metadataFolder(ident icetable.Identifier) string {
	return storage.Join(c.dir, append(slices.Clone(ident), "metadata")...)
}

// create publishes the first version.
func (c *folderCatalog) create(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	metadata, err := icetable.UpdateTableMetadata(planned, updates, "")
	if err != nil {
		return nil, "", err
	}
	location, err := c.publish(ctx, ident, 1, metadata)
	return metadata, location, err
}

// names lists the tables in order. A warehouse that does not exist has none.
func (c *folderCatalog) names(ctx context.Context) ([]Name, error) {
	var out []Name
	err := storage.Walk(ctx, c.store, c.dir, func(e storage.Entry, err error) error {
		switch {
		case err != nil && e.URI == c.dir && errors.Is(err, fs.ErrNotExist):
			return storage.SkipAll
		case err != nil && e.URI == c.dir:
			return err
		case err != nil:
			// What lies in a folder that cannot be read is nobody's to list.
			return storage.SkipFolder
		case e.Kind != storage.Folder:
			return nil
		case strings.HasPrefix(e.Name, "."):
			return storage.SkipFolder
		case !locate.IsTable(ctx, c.store, e.URI):
			return nil
		}
		if rel, ok := storage.Rel(c.dir, e.URI); ok {
			out = append(out, Name{strings.Split(rel, "/")})
		}
		return storage.SkipFolder
	})
	return out, err
}

// newest returns the URI and number of a table's newest version, 0 where there is none.
func (c *folderCatalog) newest(ctx context.Context, ident icetable.Identifier) (uri string, version int, err error) {
	entries, err := c.store.List(ctx, c.metadataFolder(ident))
	if errors.Is(err, fs.ErrNotExist) {
		return c.later(ctx, ident, "", 0)
	}
	if err != nil {
		return "", 0, err
	}
	ours := false
	for _, e := range entries {
		for _, pattern := range []*regexp.Regexp{versionName, foreignName} {
			m := pattern.FindStringSubmatch(e.Name)
			if m == nil {
				continue
			}
			n, err := strconv.Atoi(m[1])
			if err == nil && (uri == "" || n > version || n == version && pattern == versionName && !ours) {
				uri, version, ours = e.URI, n, pattern == versionName
			}
		}
	}
	return c.later(ctx, ident, uri, version)
}

// later looks for versions after one that was listed: there are stores whose listings do not have yet what was written a moment ago.
func (c *folderCatalog) later(ctx context.Context, ident icetable.Identifier, uri string, version int) (string, int, error) {
	if storage.InFlight(c.store, c.dir) == 0 {
		return uri, version, nil
	}
	for {
		next := storage.Join(c.metadataFolder(ident), fmt.Sprintf("v%d.metadata.json", version+1))
		_, err := c.store.Stat(ctx, next)
		if errors.Is(err, fs.ErrNotExist) {
			return uri, version, nil
		}
		if err != nil {
			return "", 0, err
		}
		uri, version = next, version+1
	}
}

// LoadTable reads a table as its newest version has it. The error is errNoTable where there is none.
func (c *folderCatalog) LoadTable(ctx context.Context, ident icetable.Identifier) (*icetable.Table, error) {
	t, _, err := c.load(ctx, ident)
	return t, err
}

// load is LoadTable with the number of the version.
func (c *folderCatalog) load(ctx context.Context, ident icetable.Identifier) (*icetable.Table, int, error) {
	uri, version, err := c.newest(ctx, ident)
	if err != nil {
		return nil, 0, err
	}
	if uri == "" {
		return nil, 0, errNoTable
	}
	c.mutex.Lock()
	known := c.last[uri]
	c.mutex.Unlock()
	if known != nil {
		return known, version, nil
	}
	loaded, err := c.read(ctx, ident, uri)
	if err == nil {
		c.mutex.Lock()
		// One is enough: who works on a table asks for it again and again.
		c.last = map[string]*icetable.Table{uri: loaded}
		c.mutex.Unlock()
	}
	return loaded, version, err
}

// read reads a version of the metadata.
func (c *folderCatalog) read(ctx context.Context, ident icetable.Identifier, uri string) (*icetable.Table, error) {
	loaded, err := icetable.NewFromLocation(ctx, ident, uri, c.files, c)
	var path *fs.PathError
	if err != nil && ctx.Err() == nil && !errors.As(err, &path) {
		return nil, fault.New(fault.Storage, "the table %s cannot be loaded: %s is no metadata of a table",
			strings.Join(ident, "."), uri).Try("put the file back as it was, from a copy, or remove it, if it was not made by a commit")
	}
	return loaded, err
}

// CommitTable makes the next version of a table, unless a requirement does not hold any more.
func (c *folderCatalog) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	current, version, err := c.load(ctx, ident)
	if err != nil {
		return nil, "", err
	}
	for _, r := range requirements {
		if err := r.Validate(current.Metadata()); err != nil {
			return nil, "", errors.Join(errRaced, err)
		}
	}
	next, err := icetable.UpdateTableMetadata(current.Metadata(), updates, current.MetadataLocation())
	if err != nil {
		return nil, "", fmt.Errorf("making the next version of the metadata: %w", err)
	}
	location, err := c.publish(ctx, ident, version+1, next)
	if err == nil {
		c.prune(ctx, ident, version+1, next.Properties())
	}
	return next, location, err
}

// pruned is how often what former commits may have left of old versions is looked for as well.
const pruned = 50

// prune removes versions of the metadata that are older than those that the table's properties say are kept.
func (c *folderCatalog) prune(ctx context.Context, ident icetable.Identifier, version int, properties iceberg.Properties) {
	kept := properties.GetInt(icetable.MetadataPreviousVersionsMaxKey, icetable.MetadataPreviousVersionsMaxDefault)
	if !properties.GetBool(icetable.MetadataDeleteAfterCommitEnabledKey, icetable.MetadataDeleteAfterCommitEnabledDefault) {
		return
	}
	folder, oldest := c.metadataFolder(ident), version-kept-1
	if version%pruned != 0 {
		if oldest > 0 {
			// What cannot be removed is looked for again later.
			_ = c.store.Remove(ctx, storage.Join(folder, fmt.Sprintf("v%d.metadata.json", oldest)))
		}
		return
	}
	entries, err := c.store.List(ctx, folder)
	if err != nil {
		return
	}
	for _, e := range entries {
		if m := versionName.FindStringSubmatch(e.Name); m != nil {
			if n, err := strconv.Atoi(m[1]); err == nil && n <= oldest {
				_ = c.store.Remove(ctx, e.URI)
			}
		}
	}
}

// publish writes a version of the metadata unless there is one of that number. Only then does it count; the hint comes last, and when
// it cannot be written the table is as good, but other engines may see the version before.
func (c *folderCatalog) publish(ctx context.Context, ident icetable.Identifier, version int, metadata icetable.Metadata) (string, error) {
	text, err := json.Marshal(metadata)
	if err != nil {
		return "", err
	}
	folder := c.metadataFolder(ident)
	place := storage.Join(folder, fmt.Sprintf("v%d.metadata.json", version))
	err = storage.WriteAll(ctx, c.store, place, text, storage.Creation{Mode: storage.Exclusive, Durable: true})
	if errors.Is(err, fs.ErrExist) {
		return "", errors.Join(errRaced, err)
	}
	if err == nil {
		err = storage.Sync(ctx, c.store, folder)
	}
	if err != nil {
		return "", err
	}
	c.stale = c.hint(ctx, folder, version)
	return place, nil
}

// hint names a version for other engines. It takes the place of the one before at once: an empty hint would hide the table from them.
func (c *folderCatalog) hint(ctx context.Context, folder string, version int) error {
	err := storage.WriteAll(ctx, c.store, storage.Join(folder, hintName), []byte(strconv.Itoa(version)), durable)
	if err != nil {
		return err
	}
	return storage.Sync(ctx, c.store, folder)
}

// hinted reports whether the hint names a version.
func (c *folderCatalog) hinted(ctx context.Context, ident icetable.Identifier, version int) bool {
	text, err := storage.ReadAll(ctx, c.store, storage.Join(c.metadataFolder(ident), hintName))
	return err == nil && strings.TrimSpace(string(text)) == strconv.Itoa(version)
}

// ErrChanged is the cause of a conflict that another commit to the table brought about: what was done on its former state can
// be done again on the new one.
var ErrChanged = errors.New("the table is another than when this began")

// Overtaken is the conflict with another commit that did what this one was to do, so that it has to be looked at again.
func Overtaken(name Name) error { return changedMeanwhile(name, "took in the same objects") }

// changedMeanwhile is the conflict with another commit.
func changedMeanwhile(name Name, what string) *fault.Error {
	e := fault.New(fault.Conflict, "the table %s %s by another load meanwhile", name,
		what).Try("run the command again; nothing was written")
	e.Cause = ErrChanged
	return e
}
