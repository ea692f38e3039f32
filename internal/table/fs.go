package table

import (
	"context"
	"net/url"
	"os"
	"path/filepath"

	icebergio "github.com/apache/iceberg-go/io"
)

// syncing is the library's local file system with one thing added: what it writes is on the disk before a call returns, so
// that a commit is never ahead of the files it names.
type syncing struct{ icebergio.LocalFS }

func init() {
	for _, scheme := range []string{"", "file"} {
		icebergio.Unregister(scheme)
		icebergio.Register(scheme, func(context.Context, *url.URL, map[string]string) (icebergio.IO, error) { return syncing{}, nil })
	}
}

// Create makes a file that is synced when it is closed, and a manifest list that is mended then.
func (s syncing) Create(name string) (icebergio.FileWriter, error) {
	w, err := s.LocalFS.Create(name)
	if err != nil {
		return nil, err
	}
	if file, ok := w.(*os.File); ok {
		w = syncedFile{file}
	}
	if isManifestList(name) {
		return &manifestList{files: s, into: w}, nil
	}
	return w, nil
}

// WriteFile writes a whole file and syncs it.
func (s syncing) WriteFile(name string, content []byte) error {
	w, err := s.Create(name)
	if err != nil {
		return err
	}
	if _, err := w.Write(content); err != nil {
		w.Close()
		return err
	}
	return w.Close()
}

// Rename renames and syncs the folder.
func (s syncing) Rename(from, to string) error {
	if err := s.LocalFS.Rename(from, to); err != nil {
		return err
	}
	return syncFolder(filepath.Dir(plainPath(to)))
}

// RenameNoReplace renames unless the new name is taken, and syncs the folder.
func (s syncing) RenameNoReplace(from, to string) error {
	if err := s.LocalFS.RenameNoReplace(from, to); err != nil {
		return err
	}
	return syncFolder(filepath.Dir(plainPath(to)))
}

// syncedFile is on the disk once it is closed.
type syncedFile struct{ *os.File }

func (f syncedFile) Close() error {
	if err := f.File.Sync(); err != nil {
		f.File.Close()
		return err
	}
	return f.File.Close()
}

func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	defer folder.Close()
	return folder.Sync()
}

// plainPath returns the local path of a location, which may be a file URL.
func plainPath(location string) string {
	if u, err := url.Parse(location); err == nil && u.Scheme == "file" {
		return u.Path
	}
	return location
}
