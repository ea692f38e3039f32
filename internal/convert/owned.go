package convert

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/locate"
	"trevak/internal/storage"
	"trevak/internal/wording"
)

// owned is what the file says that a convert leaves in a folder: which files are its own, so that a later convert may replace
// them and nothing else.
type owned struct {
	WrittenBy string      `json:"written_by"`
	Files     []ownedFile `json:"files"`
}

// ownedFile is a file by its path from the folder on, with slashes.
type ownedFile struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
}

const ownedWriter = "trevak convert"

// list lists the files that are about to be published in a folder.
func (d *destination) list(ctx context.Context, files []layout.DataFile) error {
	list := owned{WrittenBy: ownedWriter, Files: []ownedFile{}}
	for _, f := range files {
		name, ok := storage.Rel(d.uri, f.URI)
		if !ok {
			return fmt.Errorf("%s does not lie in %s", f.URI, d.uri)
		}
		list.Files = append(list.Files, ownedFile{name, f.Summary.Bytes})
	}
	slices.SortFunc(list.Files, func(a, b ownedFile) int { return strings.Compare(a.Path, b.Path) })
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	w, err := d.stage.Create(ctx, locate.ConvertList)
	if err != nil {
		return err
	}
	if _, err := w.Write(text); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.Commit()
}

// eachFile visits everything but folders below a folder, by its path from there on.
func eachFile(ctx context.Context, s storage.Store, folder string, visit func(path string, size int64)) error {
	return storage.Walk(ctx, s, folder, func(e storage.Entry, err error) error {
		if err != nil || e.Kind == storage.Folder {
			return err
		}
		var size int64
		if e.Kind == storage.Regular {
			o, err := s.Stat(ctx, e.URI)
			if err != nil {
				return err
			}
			size = o.Size
		}
		path, ok := storage.Rel(folder, e.URI)
		if !ok {
			return fmt.Errorf("%s does not lie in %s", e.URI, folder)
		}
		visit(path, size)
		return nil
	})
}

// mayReplace refuses to replace a folder in which anything lies that no convert wrote.
func mayReplace(ctx context.Context, s storage.Store, folder string) error {
	var m owned
	text, err := storage.ReadAll(ctx, s, storage.Join(folder, locate.ConvertList))
	known := err == nil && json.Unmarshal(text, &m) == nil && m.WrittenBy == ownedWriter
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.Storage, err, "what lies in %s cannot be told", folder)
	}
	ours := make(map[ownedFile]bool, len(m.Files))
	for _, f := range m.Files {
		ours[f] = true
	}
	var foreign []string
	err = eachFile(ctx, s, folder, func(path string, size int64) {
		if path != locate.ConvertList && !ours[ownedFile{path, size}] {
			foreign = append(foreign, path)
		}
	})
	if err != nil {
		return fault.Wrap(fault.Storage, err, "what lies in %s cannot be listed", folder)
	}
	way := "choose another name; if it is not needed any more, remove the folder yourself"
	switch {
	case !known:
		return fault.New(fault.Usage, "%s was not written by a convert, so it is not replaced; it holds %s", folder,
			wording.Some(foreign)).Try("%s", way)
	case len(foreign) > 0:
		return fault.New(fault.Usage, "%s holds what no convert wrote, or what was changed since: %s; so it is not replaced", folder,
			wording.Some(foreign)).Try("%s", way)
	}
	return nil
}

// repositories are folders by which one is known to be kept by version control.
var repositories = []string{".git", ".hg", ".svn", ".jj"}

// precious refuses places that nobody means to be replaced, or to get files from a convert, whatever lies there. home is the
// user's home folder, empty where there is none.
func precious(ctx context.Context, s storage.Store, uri, home string) error {
	place, err := storage.Real(s, uri)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "%s has no canonical form", uri)
	}
	refuse := func(what string, args ...any) error {
		return fault.New(fault.Usage, "the destination %s %s", uri, fmt.Sprintf(what, args...)).Try("name a folder of its own")
	}
	within := func(folder string) bool {
		folder, err := s.Canonical(folder)
		_, inside := storage.Rel(place, folder)
		return err == nil && inside
	}
	switch {
	case place == storage.Dir(place):
		return refuse("is the root of all folders")
	case home != "" && within(home):
		return refuse("is your home folder, or holds it")
	case within("."):
		return refuse("is the working folder, or holds it")
	}
	for _, name := range repositories {
		if storage.Exists(ctx, s, storage.Join(place, name)) {
			return refuse("is a repository, as it has %s", name)
		}
	}
	if folder, what := locate.Holds(ctx, s, place); what == "table" || what == "warehouse" && folder == place {
		return refuse("is or lies in the %s %s", what, folder)
	}
	return holdsWarehouse(ctx, s, place, refuse)
}

// holdsWarehouse refuses a folder with a warehouse or table in it.
func holdsWarehouse(ctx context.Context, s storage.Store, folder string, refuse func(string, ...any) error) error {
	var found error
	err := storage.Walk(ctx, s, folder, func(e storage.Entry, err error) error {
		rel, _ := storage.Rel(folder, e.URI)
		switch {
		case err != nil:
			return storage.SkipFolder
		case e.Kind != storage.Folder:
			return nil
		case locate.IsWarehouse(ctx, s, e.URI):
			found = refuse("holds the warehouse %s", e.URI)
		case locate.IsTable(ctx, s, e.URI):
			found = refuse("holds the table %s", e.URI)
		case strings.Count(rel, "/") >= deepestLook:
			return storage.SkipFolder
		default:
			return nil
		}
		return storage.SkipAll
	})
	if found == nil {
		found = err
	}
	return found
}

// deepestLook is how many levels down a warehouse is looked for; what no convert wrote is found at any level.
const deepestLook = 3
