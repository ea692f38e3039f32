package locate

import (
	"archive/zip"
	"context"
	"errors"
	"io"
	"os"

	"trevak/internal/fault"
)

// store is where the stored bytes of an object lie. Object stores join here.
type store interface {
	// open reads the bytes from their beginning. Errors name the object.
	open(ctx context.Context) (io.ReadCloser, error)
}

// disk is a file, by its path.
type disk string

func (d disk) open(context.Context) (io.ReadCloser, error) {
	file, err := os.Open(string(d))
	if err != nil {
		return nil, missing(string(d), err)
	}
	return file, nil
}

// spooled is what standard input gave, in a file without a name.
type spooled struct {
	file *os.File
	size int64
}

func (s spooled) open(context.Context) (io.ReadCloser, error) {
	return io.NopCloser(io.NewSectionReader(s.file, 0, s.size)), nil
}

// fetched is an object behind a URL.
type fetched string

func (f fetched) open(ctx context.Context) (io.ReadCloser, error) {
	return &remote{ctx: ctx, url: string(f)}, nil
}

// archived is a member of a zip archive. Its bytes are given unpacked.
type archived struct{ path, member string }

func (a archived) open(context.Context) (io.ReadCloser, error) {
	archive, err := zip.OpenReader(a.path)
	if err != nil {
		return nil, fault.New(fault.Input, "is no whole zip archive: %s", err).In(a.path).Try("ask the sender for a whole copy")
	}
	for _, f := range archive.File {
		if f.Name != a.member {
			continue
		}
		r, err := f.Open()
		if err != nil {
			archive.Close()
			return nil, fault.New(fault.Input, "cannot be unpacked: %s", err).In(a.path + "!" + a.member).Try("ask the sender for a whole copy")
		}
		return member{r, archive}, nil
	}
	archive.Close()
	return nil, fault.New(fault.Storage, "is no longer in the archive").In(a.path + "!" + a.member)
}

// member closes its archive with itself.
type member struct {
	io.ReadCloser
	archive *zip.ReadCloser
}

func (m member) Close() error {
	err := m.ReadCloser.Close()
	if closed := m.archive.Close(); err == nil {
		err = closed
	}
	return err
}

// Section reads n stored bytes of an object from an offset on; ok is false for objects that cannot be read from within, as those that are
// fetched or lie in archives.
func (o Object) Section(offset, n int64) (b []byte, ok bool, err error) {
	var at io.ReaderAt
	switch s := o.store.(type) {
	case disk:
		file, err := os.Open(string(s))
		if err != nil {
			return nil, false, missing(string(s), err)
		}
		defer file.Close()
		at = file
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
