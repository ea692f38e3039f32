package locate

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// source is where the stored bytes of an object come from: an object of a store, a part of one, or what standard input gave.
type source interface {
	// open reads the bytes of the version that was listed from their beginning. Errors name the object.
	open(ctx context.Context) (reader, error)
}

// reader reads the stored bytes of an object.
type reader interface {
	io.ReadCloser
	// Unchanged returns an error where what was read is not what was listed.
	Unchanged() error
}

// explained makes an error about an object of one of its store.
func explained(ctx context.Context, s storage.Store, location string, err error) error {
	var changed *storage.ChangedError
	switch {
	case err == nil, fault.KindOf(err) != 0, errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	case errors.As(err, &changed):
		way := changed.WayOut
		if way == "" {
			way = "run the command again when nothing writes to it any more; nothing was written"
		}
		return fault.New(fault.Storage, "was changed while it was read: %s", changed.How).In(location).Try("%s", way)
	case errors.Is(err, fs.ErrNotExist):
		return suggest(ctx, s, fault.New(fault.Storage, "there is no file or folder %q", location), location)
	}
	return &fault.Error{Kind: fault.Storage, Object: location, Reason: "cannot be read", Cause: err}
}

// stored is an object of a store.
type stored struct {
	store    storage.Store
	object   storage.Object
	location string
}

func (s stored) open(ctx context.Context) (reader, error) { return s.file(ctx) }

func (s stored) file(ctx context.Context) (storage.File, error) {
	file, err := s.store.Open(ctx, s.object)
	if err != nil {
		return nil, explained(ctx, s.store, s.location, err)
	}
	return storedFile{file, s}, nil
}

// storedFile explains what goes wrong with a file.
type storedFile struct {
	storage.File
	of stored
}

func (f storedFile) Unchanged() error {
	return explained(context.Background(), f.of.store, f.of.location, f.File.Unchanged())
}

func (f storedFile) Read(p []byte) (int, error) {
	n, err := f.File.Read(p)
	if errors.Is(err, storage.ErrChanged) {
		err = explained(context.Background(), f.of.store, f.of.location, err)
	}
	return n, err
}

// spooled is what standard input or a pipe gave, in a file without a name.
type spooled struct {
	file *storage.Scratch
	size int64
}

func (s spooled) open(context.Context) (reader, error) {
	return spoolReader{io.NewSectionReader(s.file, 0, s.size)}, nil
}

// spoolReader reads a file that nobody else can change. The file stays open for further readers.
type spoolReader struct{ io.Reader }

func (spoolReader) Close() error     { return nil }
func (spoolReader) Unchanged() error { return nil }

// Section reads n stored bytes of an object from an offset on; ok is false for objects that are not read from within, as those that are
// fetched or lie in archives.
func (o Object) Section(ctx context.Context, offset, n int64) (b []byte, ok bool, err error) {
	var at io.ReaderAt
	switch s := o.source.(type) {
	case stored:
		if !o.AtHand() {
			return nil, false, nil
		}
		file, err := s.file(ctx)
		if err != nil {
			return nil, false, err
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
		return nil, false, &fault.Error{Kind: fault.Storage, Object: o.Location, Reason: "cannot be read", Cause: err}
	}
	return b[:read], true, nil
}

// AtHand reports whether an object is one of a store that can be read from within without asking a server each time.
func (o Object) AtHand() bool {
	s, ok := o.source.(stored)
	return ok && !storage.IsURL(s.object.URI)
}

// InFlight is how many requests to the object's store are best under way at a time, 0 where they are answered at once.
func (o Object) InFlight() int {
	if s, ok := o.source.(stored); ok {
		return storage.InFlight(s.store, s.object.URI)
	}
	return 0
}

// File opens an object that is AtHand, to be read at offsets. The caller closes it.
func (o Object) File(ctx context.Context) (storage.File, error) {
	s, ok := o.source.(stored)
	if !ok {
		return nil, fault.New(fault.Storage, "cannot be read from within").In(o.Location)
	}
	return s.file(ctx)
}

// Stat is an object of a store as it is now.
func Stat(ctx context.Context, s storage.Store, uri string) (Object, error) {
	object, err := s.Stat(ctx, uri)
	if err != nil {
		return Object{}, explained(ctx, s, uri, err)
	}
	return of(s, object), nil
}

// of makes an object of one of a store.
func of(s storage.Store, object storage.Object) Object {
	location := storage.Shown(object.URI)
	return Object{Location: location, Size: max(0, object.Size), Modified: object.Modified, source: stored{s, object, location}}
}

// Holder returns the URI of what an object is or lies in; it is empty for standard input.
func (o Object) Holder() string {
	switch s := o.source.(type) {
	case stored:
		return s.object.URI
	case archived:
		return s.archive.object.URI
	case sheeted:
		return s.archive.object.URI
	}
	return ""
}

// Unchanged returns an error where an object of a store is no longer at the version that was listed.
func (o Object) Unchanged(ctx context.Context) error {
	if !o.AtHand() {
		return nil
	}
	opened, err := o.source.open(ctx)
	if err != nil {
		return err
	}
	return opened.Close()
}

// Canonical returns the location in a form that is the same however the user wrote it.
func (o Object) Canonical() string {
	var s storage.Store
	switch from := o.source.(type) {
	case stored:
		s = from.store
	case archived:
		s = from.archive.store
	case sheeted:
		s = from.archive.store
	default:
		return o.Location
	}
	canonical, err := s.Canonical(o.Holder())
	if err != nil {
		return o.Location
	}
	return canonical + strings.TrimPrefix(o.Location, storage.Shown(o.Holder()))
}
