package table

import (
	"context"
	"io"
	"io/fs"
	"time"

	icebergio "github.com/apache/iceberg-go/io"

	"trevak/internal/storage"
)

// files is a store in the form in which the table library wants one. What it writes is on the disk before a call returns, so
// that a commit is never ahead of the files that it names.
type files struct {
	ctx   context.Context
	store storage.Store
}

// Open opens an object as it is now.
func (f files) Open(name string) (icebergio.File, error) {
	o, err := f.store.Stat(f.ctx, name)
	if err != nil {
		return nil, err
	}
	opened, err := f.store.Open(f.ctx, o)
	if err != nil {
		return nil, err
	}
	return &openFile{SectionReader: io.NewSectionReader(opened, 0, o.Size), file: opened, object: o}, nil
}

// openFile is an object with what the library wants of files.
type openFile struct {
	*io.SectionReader
	file   storage.File
	object storage.Object
}

func (f *openFile) Close() error               { return f.file.Close() }
func (f *openFile) Stat() (fs.FileInfo, error) { return objectInfo(f.object), nil }

// objectInfo is what a store tells of an object, as the library wants it.
type objectInfo storage.Object

func (i objectInfo) Name() string       { return storage.Base(i.URI) }
func (i objectInfo) Size() int64        { return i.Version.Size }
func (i objectInfo) Mode() fs.FileMode  { return 0o644 }
func (i objectInfo) ModTime() time.Time { return i.Modified }
func (i objectInfo) IsDir() bool        { return i.Kind == storage.Folder }
func (i objectInfo) Sys() any           { return nil }

// ReadFile reads a whole object.
func (f files) ReadFile(name string) ([]byte, error) { return storage.ReadAll(f.ctx, f.store, name) }

// durable creates what has a name of its own.
var durable = storage.Creation{Mode: storage.Replace, Durable: true}

// Create begins an object, which is there when it is closed.
func (f files) Create(name string) (icebergio.FileWriter, error) {
	w, err := f.store.Create(f.ctx, name, durable)
	if err != nil {
		return nil, err
	}
	return fileWriter{w}, nil
}

// fileWriter is a writer for whom to close is to commit.
type fileWriter struct{ storage.Writer }

func (w fileWriter) Close() error { return w.Commit() }

func (w fileWriter) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{w.Writer}, r)
}

// WriteFile writes a whole object.
func (f files) WriteFile(name string, content []byte) error {
	return storage.WriteAll(f.ctx, f.store, name, content, durable)
}

// Remove removes an object.
func (f files) Remove(name string) error { return f.store.Remove(f.ctx, name) }

// mending is files in which manifest lists are mended before they are written.
type mending struct{ files }

// Create begins an object, which is mended when it is closed if it is a manifest list.
func (m mending) Create(name string) (icebergio.FileWriter, error) {
	w, err := m.files.Create(name)
	if err != nil || !isManifestList(name) {
		return w, err
	}
	return &manifestList{files: m.files, into: w}, nil
}

// WriteFile writes a whole object, mended if it is a manifest list.
func (m mending) WriteFile(name string, content []byte) error {
	w, err := m.Create(name)
	if err != nil {
		return err
	}
	if _, err := w.Write(content); err != nil {
		w.Close()
		return err
	}
	return w.Close()
}
