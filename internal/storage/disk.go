package storage

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
)

// Disk is the local disk.
type Disk struct{}

// List lists a folder.
func (Disk) List(ctx context.Context, folder string) ([]Entry, error) {
	Asked(ctx)
	entries, err := os.ReadDir(Path(folder))
	if err != nil {
		return nil, err
	}
	out := make([]Entry, len(entries))
	for i, e := range entries {
		out[i] = Entry{URI: filepath.Join(Path(folder), e.Name()), Name: e.Name(), Kind: kindOf(e.Type())}
	}
	return out, nil
}

func kindOf(mode fs.FileMode) Kind {
	switch {
	case mode.IsDir():
		return Folder
	case mode&fs.ModeSymlink != 0:
		return Link
	case mode&fs.ModeDevice != 0:
		return Device
	case !mode.IsRegular():
		return Stream
	}
	return Regular
}

// Stat tells of a file, and follows links. A file that says it is empty but has bytes, as the system makes them when they are
// read, is a stream.
func (Disk) Stat(ctx context.Context, uri string) (Object, error) {
	Asked(ctx)
	info, err := os.Stat(Path(uri))
	if err != nil {
		return Object{}, err
	}
	o := Object{URI: uri, Kind: kindOf(info.Mode()), Version: versionOf(info)}
	if o.Kind == Regular && o.Size == 0 && givesBytes(Path(uri)) {
		o.Kind = Stream
	}
	return o, nil
}

// givesBytes reports whether a file that claims to have none has some.
func givesBytes(path string) bool {
	file, err := os.Open(path)
	if err != nil {
		return false
	}
	defer file.Close()
	n, _ := file.Read(make([]byte, 1))
	return n > 0
}

func versionOf(info os.FileInfo) Version { return Version{Size: info.Size(), Modified: info.ModTime()} }

// Open opens a file, if it is what was listed. Streams are opened as they are.
func (Disk) Open(_ context.Context, o Object) (File, error) {
	file, err := os.Open(Path(o.URI))
	if err != nil {
		return nil, err
	}
	f := diskFile{file, o}
	if err := f.Unchanged(); err != nil {
		file.Close()
		return nil, err
	}
	return f, nil
}

// diskFile is a file that is held against what was listed.
type diskFile struct {
	*os.File
	listed Object
}

func (f diskFile) Unchanged() error {
	if f.listed.Kind == Stream || f.listed.Kind == Device {
		return nil
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if now := versionOf(info); !now.Equal(f.listed.Version) {
		return changed("it had %s, and now has %s", f.listed.Version, now)
	}
	return nil
}

// changed is ErrChanged with what is known of it.
func changed(how string, args ...any) error { return &ChangedError{How: fmt.Sprintf(how, args...)} }

// ChangedError is ErrChanged with how the object differs from what was listed, and the way out where it is not the usual one.
type ChangedError struct{ How, WayOut string }

func (e *ChangedError) Error() string { return "the object was changed: " + e.How }

// Is says that the error is ErrChanged.
func (e *ChangedError) Is(target error) bool { return target == ErrChanged }

// Create begins a file beside its place, which Commit gives its name.
func (Disk) Create(_ context.Context, uri string, c Creation) (Writer, error) {
	place := Path(uri)
	if c.Mode == Exclusive {
		if _, err := os.Lstat(place); err == nil {
			return nil, &fs.PathError{Op: "create", Path: place, Err: fs.ErrExist}
		}
	}
	file, err := beside(place)
	if errors.Is(err, fs.ErrNotExist) && !c.InFolder {
		if err = os.MkdirAll(filepath.Dir(place), 0o777); err == nil {
			file, err = beside(place)
		}
	}
	if err != nil {
		return nil, err
	}
	return &diskWriter{file: file, place: place, creation: c}, nil
}

// beside makes a file in the folder of another, with a hidden name.
func beside(place string) (*os.File, error) {
	for {
		name := fmt.Sprintf(".%016x.tmp", rand.Uint64())
		file, err := os.OpenFile(filepath.Join(filepath.Dir(place), name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
		if !errors.Is(err, fs.ErrExist) {
			return file, err
		}
	}
}

// diskWriter is a file that has no name of its own yet.
type diskWriter struct {
	file     *os.File
	place    string
	creation Creation
	ended    bool
}

func (w *diskWriter) Write(p []byte) (int, error) { return w.file.Write(p) }

func (w *diskWriter) Commit() error {
	if w.ended {
		return fs.ErrClosed
	}
	w.ended = true
	var err error
	if w.creation.Durable {
		err = w.file.Sync()
	}
	if closed := w.file.Close(); err == nil {
		err = closed
	}
	switch {
	case err == nil && w.creation.Mode == Replace:
		err = os.Rename(w.file.Name(), w.place)
	case err == nil:
		err = renameNoReplace(w.file.Name(), w.place)
	}
	if err != nil {
		os.Remove(w.file.Name())
	}
	return err
}

func (w *diskWriter) Abort() error {
	if w.ended {
		return nil
	}
	w.ended = true
	return errors.Join(w.file.Close(), os.Remove(w.file.Name()))
}

// linkNoReplace gives a file another name unless that is taken, where the system cannot rename so at once.
func linkNoReplace(from, to string) error {
	err := os.Link(from, to)
	if err == nil {
		return os.Remove(from)
	}
	if errors.Is(err, fs.ErrExist) {
		return err
	}
	// Some file systems have no links. The name is taken first then, and the file takes its place.
	claim, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	claim.Close()
	return os.Rename(from, to)
}

// Remove removes a file or an empty folder.
func (Disk) Remove(_ context.Context, uri string) error { return os.Remove(Path(uri)) }

// Canonical returns the absolute path.
func (Disk) Canonical(uri string) (string, error) { return filepath.Abs(Path(uri)) }

// Sync has the names in a folder on the disk.
func (Disk) Sync(_ context.Context, folder string) error {
	f, err := os.Open(Path(folder))
	if err != nil {
		return err
	}
	defer f.Close()
	return syncFolder(f)
}

// fewObjects is up to how many objects are synced one by one.
const fewObjects = 16

// SyncAll has objects and the names in folders on the disk. Of very many it is their file systems that are synced, which takes
// no longer for each object more.
func (d Disk) SyncAll(ctx context.Context, objects, folders []string) error {
	if len(objects) > fewObjects && syncFileSystems(folders) {
		return nil
	}
	for _, uri := range objects {
		if err := syncObject(Path(uri)); err != nil {
			return err
		}
	}
	for _, folder := range folders {
		if err := d.Sync(ctx, folder); err != nil {
			return err
		}
	}
	return nil
}

// syncObject has the bytes of an object on the disk.
func syncObject(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Real returns the absolute path of what a URI of the local disk leads to, links followed as far as they lead somewhere. Other
// URIs are returned in their canonical form.
func Real(s Store, uri string) (string, error) {
	canonical, err := s.Canonical(uri)
	if err != nil || !local(canonical) {
		return canonical, err
	}
	return followed(canonical), nil
}

// followed resolves the links in the part of a path that exists.
func followed(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	up := filepath.Dir(path)
	if up == path {
		return path
	}
	return filepath.Join(followed(up), filepath.Base(path))
}
