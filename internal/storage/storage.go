// Package storage lists, opens, creates and removes objects by their URIs, wherever they lie. Nothing else in the program
// touches a disk or a network.
//
// What comes in are URIs: paths of the local disk as the user writes them, file URLs, and URIs with the scheme of another
// store. What goes out are objects with the version that they were listed at, files of exactly that version, and writers whose
// objects appear when they are committed.
package storage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"
)

// Errors that callers test for. What is not there is fs.ErrNotExist, what is there already fs.ErrExist, what a store cannot do
// errors.ErrUnsupported.
var (
	// ErrChanged says that an object is not at the version that was listed.
	ErrChanged = errors.New("the object was changed")
	// ErrLocked says that somebody else holds a lock.
	ErrLocked = errors.New("somebody else holds the lock")
	// ErrLeft says that what was published is in its place, and that what it replaced could not be removed.
	ErrLeft = errors.New("what was replaced is left")
)

// UnknownSize is the size of an object of which its store does not tell it.
const UnknownSize = -1

// Version tells one state of an object from another, as far as its store does.
type Version struct {
	// Size is in bytes, or UnknownSize.
	Size int64
	// Modified is when the object last changed; the zero time where that is not known.
	Modified time.Time
	// Tag is the store's own mark of the version, an ETag or a generation; empty where there is none.
	Tag string
	// stamp is the time of change as a server writes it, which requests are tied to where there is no tag.
	stamp string
}

// Equal reports whether two versions are the same, as far as they tell.
func (v Version) Equal(o Version) bool {
	return v.Size == o.Size && v.Tag == o.Tag && v.Modified.Equal(o.Modified)
}

// String names a version by what is known of it.
func (v Version) String() string {
	text := "an object of unknown size"
	if v.Size != UnknownSize {
		text = fmt.Sprintf("%d bytes", v.Size)
	}
	if v.Tag != "" {
		text += ", version " + v.Tag
	}
	switch {
	case v.stamp != "":
		text += ", of " + v.stamp
	case !v.Modified.IsZero():
		text += " of " + v.Modified.UTC().Format(time.RFC3339Nano)
	}
	return text
}

// Kind is what lies at a URI.
type Kind uint8

// A Regular object has bytes that can be read as often as wanted; a Stream, a pipe or a socket, gives them once, and of a
// Device nothing is known. A Link is told by listings alone: to stat a URI follows it.
const (
	Regular Kind = iota
	Folder
	Link
	Stream
	Device
)

// Object is what a store tells of one object.
type Object struct {
	URI  string
	Kind Kind
	Version
}

// Entry is what lies in a folder.
type Entry struct {
	// URI names it from the folder's on, Name is its last part.
	URI, Name string
	Kind      Kind
	// Listed is the version of an object whose store tells it with the listing, nil elsewhere.
	Listed *Version
}

// File reads an object. Each piece that it gives is of the version that was opened, or there is an error that is ErrChanged.
type File interface {
	io.Reader
	io.ReaderAt
	io.Closer
	// Unchanged returns an error where the object is no longer at the version that was opened.
	Unchanged() error
}

// Mode says what becomes of an object that is created where there is one.
type Mode uint8

const (
	// Exclusive refuses with fs.ErrExist, when the object is committed at the latest.
	Exclusive Mode = iota
	// Replace takes the place of what is there, all at once, when the object is committed.
	Replace
)

// Creation says how an object is created.
type Creation struct {
	Mode Mode
	// Durable has the object on the disk when Commit returns. What names the object in its folder is made so by Sync.
	Durable bool
	// InFolder makes no folders: that of the object has to be there, where the store has folders.
	InFolder bool
}

// Writer writes an object, which is there, whole, once Commit has returned. One of Commit and Abort ends it; Abort after Commit
// does nothing.
type Writer interface {
	io.Writer
	Commit() error
	Abort() error
}

// Store is a place where objects lie.
type Store interface {
	// List returns what lies in a folder, in the order of names. The error of a folder that is not there is fs.ErrNotExist,
	// where the store has folders.
	List(ctx context.Context, folder string) ([]Entry, error)
	// Stat tells of an object as it is now.
	Stat(ctx context.Context, uri string) (Object, error)
	// Open opens an object at the version that it was listed at.
	Open(ctx context.Context, o Object) (File, error)
	// Create begins an object, and the folders that it lies in.
	Create(ctx context.Context, uri string, c Creation) (Writer, error)
	// Remove removes an object, or a folder that is empty.
	Remove(ctx context.Context, uri string) error
	// Canonical returns a URI in the one form that all its spellings have, without anything secret.
	Canonical(uri string) (string, error)
}

// Flat is a store that lists without folders, as those do whose objects have keys.
type Flat interface {
	// Below visits all objects whose URIs begin with a prefix, in the order of their URIs, with their versions.
	Below(ctx context.Context, prefix string, visit func(Entry) error) error
}

// Far is a store whose every answer takes a while.
type Far interface {
	// InFlight is how many requests are best under way at a time.
	InFlight() int
}

// InFlight is how many requests to the store of a URI are best under way at a time, 0 where they are answered at once.
func InFlight(s Store, uri string) int {
	if far, ok := of(s, uri).(Far); ok {
		return far.InFlight()
	}
	return 0
}

// FlatOf returns the store of a URI where it lists without folders.
func FlatOf(s Store, uri string) (Flat, bool) {
	flat, ok := of(s, uri).(Flat)
	return flat, ok
}

// Locker is a store with locks that all its users see.
type Locker interface {
	// Lock waits for a lock that the object stands for, which is made where it is missing, and returns what releases it. Where
	// it is not to wait, or the context ends, the error is ErrLocked or the context's.
	Lock(ctx context.Context, uri string, wait bool) (release func(), err error)
}

// Prover is a store that may or may not keep an object from taking the place of another that came first.
type Prover interface {
	// ProveExclusive returns an error where it does not, by trying it with an object of no bytes, which stays.
	ProveExclusive(ctx context.Context, uri string) error
}

// ProveExclusive returns an error where two who create an object with Exclusive could both believe that it is theirs.
func ProveExclusive(ctx context.Context, s Store, uri string) error {
	if prover, ok := of(s, uri).(Prover); ok {
		return prover.ProveExclusive(ctx, uri)
	}
	return nil
}

// Syncer is a store in which the names of objects reach the disk later than their bytes.
type Syncer interface {
	// Sync has the names in a folder on the disk.
	Sync(ctx context.Context, folder string) error
	// SyncAll has objects that are not durable yet on the disk, and the names in folders.
	SyncAll(ctx context.Context, objects, folders []string) error
}

// Sync has the names in a folder where they survive, if the store needs to be asked for that.
func Sync(ctx context.Context, s Store, folder string) error {
	syncer, ok := of(s, folder).(Syncer)
	if !ok {
		return nil
	}
	return syncer.Sync(ctx, folder)
}

// SyncAll has objects of one store that are not durable yet where they survive, and the names in folders.
func SyncAll(ctx context.Context, s Store, objects, folders []string) error {
	for _, uri := range append(objects, folders...) {
		if syncer, ok := of(s, uri).(Syncer); ok {
			return syncer.SyncAll(ctx, objects, folders)
		}
		break
	}
	return nil
}

// Lock locks an object of a store that has locks; where there are none, it returns at once.
func Lock(ctx context.Context, s Store, uri string, wait bool) (release func(), err error) {
	locker, ok := of(s, uri).(Locker)
	if !ok {
		return func() {}, nil
	}
	return locker.Lock(ctx, uri, wait)
}

// ReadAll reads a whole object that is known to be small.
func ReadAll(ctx context.Context, s Store, uri string) ([]byte, error) {
	o, err := s.Stat(ctx, uri)
	if err != nil {
		return nil, err
	}
	f, err := s.Open(ctx, o)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// WriteAll creates an object of some bytes.
func WriteAll(ctx context.Context, s Store, uri string, content []byte, c Creation) error {
	w, err := s.Create(ctx, uri, c)
	if err != nil {
		return err
	}
	if _, err := w.Write(content); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.Commit()
}

// Exists reports whether there is anything at a URI that can be looked at.
func Exists(ctx context.Context, s Store, uri string) bool {
	_, err := s.Stat(ctx, uri)
	return err == nil
}
