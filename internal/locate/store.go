package locate

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"trevak/internal/fault"
)

// store is where the stored bytes of an object lie. Object stores join here.
type store interface {
	// open reads the bytes of the version that was listed from their beginning. Errors name the object.
	open(ctx context.Context) (reader, error)
}

// reader reads the stored bytes of an object.
type reader interface {
	io.ReadCloser
	// unchanged returns an error where what was read is not what was listed.
	unchanged() error
}

// version tells one state of a file from another.
type version struct {
	size     int64
	modified time.Time
}

func versionOf(info os.FileInfo) version { return version{info.Size(), info.ModTime()} }

// same returns an error where an open file is not at the version that was listed.
func (v version) same(location string, file *os.File) error {
	info, err := file.Stat()
	if err != nil {
		return missing(location, err)
	}
	now := versionOf(info)
	if now.size == v.size && now.modified.Equal(v.modified) {
		return nil
	}
	return changed(location, "it had %d bytes of %s, and now has %d of %s", v.size, v.modified.UTC().Format(time.RFC3339Nano), now.size, now.modified.UTC().Format(time.RFC3339Nano))
}

// changed is the error for an object that is not what it was when the run began.
func changed(location, how string, args ...any) *fault.Error {
	return fault.New(fault.Storage, "was changed while it was read: "+how, args...).In(location).Try("run the command again when nothing writes to it any more; nothing was written")
}

// disk is a file, by its path.
type disk struct {
	path     string
	location string
	version
}

func (d disk) open(context.Context) (reader, error) {
	file, err := os.Open(d.path)
	if err != nil {
		return nil, missing(d.path, err)
	}
	if err := d.same(d.location, file); err != nil {
		file.Close()
		return nil, err
	}
	return diskReader{file, d}, nil
}

// diskReader is a file that is held against what was listed.
type diskReader struct {
	*os.File
	disk disk
}

func (r diskReader) unchanged() error { return r.disk.same(r.disk.location, r.File) }

// spooled is what standard input or a pipe gave, in a file without a name.
type spooled struct {
	file *os.File
	size int64
}

func (s spooled) open(context.Context) (reader, error) {
	return spoolReader{io.NewSectionReader(s.file, 0, s.size)}, nil
}

// spoolReader reads a file that nobody else can change. The file stays open for further readers.
type spoolReader struct{ io.Reader }

func (spoolReader) Close() error     { return nil }
func (spoolReader) unchanged() error { return nil }

// Section reads n stored bytes of an object from an offset on; ok is false for objects that cannot be read from within, as those that are
// fetched or lie in archives.
func (o Object) Section(offset, n int64) (b []byte, ok bool, err error) {
	var at io.ReaderAt
	switch s := o.store.(type) {
	case disk:
		opened, err := s.open(context.Background())
		if err != nil {
			return nil, false, err
		}
		defer opened.Close()
		at = opened.(diskReader)
	case spooled:
		at = s.file
	default:
		return nil, false, nil
	}
	b = make([]byte, n)
	read, err := at.ReadAt(b, offset)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, false, missing(o.Location, err)
	}
	return b[:read], true, nil
}

// File is a file on the disk, as it is now.
func File(path string) (Object, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Object{}, missing(path, err)
	}
	return Object{Location: path, Size: info.Size(), Modified: info.ModTime(), store: disk{path, path, versionOf(info)}}, nil
}

// Path returns where an object lies as a file of its own; ok is false for one that does not.
func (o Object) Path() (path string, ok bool) {
	d, ok := o.store.(disk)
	return d.path, ok
}

// Holder returns the path of the file that an object is or lies in; it is empty for one that has none.
func (o Object) Holder() string {
	switch s := o.store.(type) {
	case disk:
		return s.path
	case archived:
		return s.archive.path
	case sheeted:
		return s.archive.path
	}
	return ""
}

// Unchanged returns an error where an object on the disk is no longer at the version that was listed.
func (o Object) Unchanged() error {
	d, ok := o.store.(disk)
	if !ok {
		return nil
	}
	opened, err := d.open(context.Background())
	if err != nil {
		return err
	}
	return opened.Close()
}

// Canonical returns the location in a form that is the same however the user wrote it.
func (o Object) Canonical() string {
	holder := o.Holder()
	if abs, err := filepath.Abs(holder); holder != "" && err == nil {
		return abs + strings.TrimPrefix(o.Location, holder)
	}
	return o.Location
}
