package flow

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/locate"
)

// mark is what the file says that a convert leaves in a folder: which files are its own, so that a later convert may replace them and nothing else.
type mark struct {
	WrittenBy string       `json:"written_by"`
	Files     []markedFile `json:"files"`
}

// markedFile is a file by its path from the folder on, with slashes.
type markedFile struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
}

const markWriter = "trevak convert"

// writeMark lists the files in a folder that is about to be published.
func writeMark(folder string) error {
	m := mark{WrittenBy: markWriter, Files: []markedFile{}}
	err := eachFile(folder, func(path string, size int64) { m.Files = append(m.Files, markedFile{path, size}) })
	if err != nil {
		return err
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, locate.ConvertMark), text, 0o644)
}

// eachFile visits everything but folders below a folder, by its path from there on.
func eachFile(folder string, visit func(path string, size int64)) error {
	return filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(folder, path)
		if err == nil {
			visit(filepath.ToSlash(rel), info.Size())
		}
		return err
	})
}

// mayReplace refuses to replace a folder in which anything lies that no convert wrote.
func mayReplace(folder string) error {
	var m mark
	text, err := os.ReadFile(filepath.Join(folder, locate.ConvertMark))
	known := err == nil && json.Unmarshal(text, &m) == nil && m.WrittenBy == markWriter
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.Storage, err, "what lies in %s cannot be told", folder)
	}
	ours := make(map[markedFile]bool, len(m.Files))
	for _, f := range m.Files {
		ours[f] = true
	}
	var foreign []string
	err = eachFile(folder, func(path string, size int64) {
		if path != locate.ConvertMark && !ours[markedFile{path, size}] {
			foreign = append(foreign, path)
		}
	})
	if err != nil {
		return fault.Wrap(fault.Storage, err, "what lies in %s cannot be listed", folder)
	}
	way := "choose another name; if it is not needed any more, remove the folder yourself"
	switch {
	case !known:
		return fault.New(fault.Usage, "%s was not written by a convert, so it is not replaced; it holds %s", folder, someOf(foreign)).Try("%s", way)
	case len(foreign) > 0:
		return fault.New(fault.Usage, "%s holds what no convert wrote, or what was changed since: %s; so it is not replaced", folder, someOf(foreign)).Try("%s", way)
	}
	return nil
}

// repositories are folders by which one is known to be kept by version control.
var repositories = []string{".git", ".hg", ".svn", ".jj"}

// precious refuses places that nobody means to be replaced, or to get files from a convert, whatever lies there. home is the user's home folder, empty
// where there is none.
func precious(path, home string) error {
	abs, err := filepath.Abs(path)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "%s has no absolute path", path)
	}
	if real, err := filepath.EvalSymlinks(abs); err == nil {
		abs = real
	}
	refuse := func(what string, args ...any) error {
		return fault.New(fault.Usage, "the destination %s %s", path, fmt.Sprintf(what, args...)).Try("name a folder of its own")
	}
	if abs == filepath.Dir(abs) {
		return refuse("is the root of all folders")
	}
	if home != "" && within(abs, home) {
		return refuse("is your home folder, or holds it")
	}
	if here, err := filepath.Abs("."); err == nil && within(abs, here) {
		return refuse("is the working folder, or holds it")
	}
	for _, name := range repositories {
		if _, err := os.Lstat(filepath.Join(abs, name)); err == nil {
			return refuse("is a repository, as it has %s", name)
		}
	}
	if folder, what := locate.Holds(abs); what == "table" || what == "warehouse" && folder == abs {
		return refuse("is or lies in the %s %s", what, folder)
	}
	return holdsWarehouse(abs, refuse)
}

// holdsWarehouse refuses a folder with a warehouse or table in it.
func holdsWarehouse(folder string, refuse func(string, ...any) error) error {
	var found error
	filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil || !entry.IsDir():
			return nil
		case locate.IsWarehouse(path):
			found = refuse("holds the warehouse %s", path)
		case locate.IsTable(path):
			found = refuse("holds the table %s", path)
		case strings.Count(strings.TrimPrefix(path, folder), string(filepath.Separator)) > deepestLook:
			return fs.SkipDir
		default:
			return nil
		}
		return fs.SkipAll
	})
	return found
}

// deepestLook is how many levels down a warehouse is looked for; what no convert wrote is found at any level.
const deepestLook = 3
