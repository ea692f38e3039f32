// Package remote is the stores whose objects are reached by requests, whatever protocol they speak.
//
// What comes in are buckets, which each answer one request of a protocol; what goes out are objects, files and writers as package
// storage has them. Pieces of an object are asked for by its version, so that two states of it are never mixed; objects appear when
// their upload is completed, and only where there is none yet if that is asked for.
package remote

import (
	"context"
	"io"
	"strings"
	"sync"
	"time"

	"trevak/internal/storage"
)

// Bucket is what objects lie in. Its requests are sent again as often as that can help (Patiently), apart from Get. Its errors are those
// of its protocol's library; Explain makes of them what is told.
type Bucket interface {
	// Base is the URI that those of all its objects begin with, without a slash at its end.
	Base() string
	// Stat tells of an object. What is not there is fs.ErrNotExist once it is explained.
	Stat(ctx context.Context, key string) (Told, error)
	// Page lists a page of objects whose keys begin with a prefix, in the order of keys, of at most so many, 0 for as many as the
	// protocol has. Unless deep, those with a further slash stand together as a folder. It goes on where token says, empty for the
	// first page.
	Page(ctx context.Context, prefix string, deep bool, token string, most int) (Page, error)
	// Get asks for a piece of an object at the version that it was listed at, or refuses as one that was changed.
	Get(ctx context.Context, key string, at storage.Version, from, size int64) (io.ReadCloser, error)
	// Put makes a small object.
	Put(ctx context.Context, key string, body io.ReaderAt, size int64, how How) error
	// Begin begins a large one; Part sends a piece of it, and returns what names that at the end; Finish sends the last piece, which
	// may be empty, and has the object appear; Abort gives it up: nil for one that is given up already.
	Begin(ctx context.Context, key string, how How) (upload string, err error)
	Part(ctx context.Context, key, upload string, p Part) (tag string, err error)
	Finish(ctx context.Context, key, upload string, sent []Sent, last Part, how How) error
	Abort(ctx context.Context, key, upload string) error
	// Remove removes an object. What is not there is removed already.
	Remove(ctx context.Context, key string) error
	// Explain makes of an error one that says what to do; right is the one that the request needs. It leaves errors as they are that
	// say so already, or come of the context.
	Explain(key string, right Right, err error) error
	Asked
	// Denied reports whether a right is missing.
	Denied(err error) bool
}

// Leaver is a bucket that lists uploads which were begun and never ended.
type Leaver interface {
	// Uploads lists those of keys with a prefix that were begun before a time, and gives them up where that is asked for.
	Uploads(ctx context.Context, prefix string, before time.Time, remove bool) ([]storage.Leftover, error)
}

// InTurn is a bucket that takes the parts of an object only one after the other, each of the size that package remote gives to all
// but the last.
type InTurn interface{ inTurn() }

// OneAfterTheOther makes a bucket that it is embedded in one that takes parts only in turn.
type OneAfterTheOther struct{}

func (OneAfterTheOther) inTurn() {}

// Right is what a request needs.
type Right uint8

// The rights.
const (
	Read Right = iota
	List
	Write
	Delete
	ListUploads
)

// Told is what a server tells of an object.
type Told struct {
	storage.Version
	// Mark tells by which writer it was made, empty where that is not known.
	Mark string
}

// How says how an object is made.
type How struct {
	// Exclusive refuses, as changed, where there is one already.
	Exclusive bool
	// Mark is kept with the object: where an answer is lost, it is found out by it whether the object is this writer's.
	Mark string
}

// Part is a piece of a large object.
type Part struct {
	// Number counts from 1, From is where it begins.
	Number     int
	From, Size int64
	Body       io.ReaderAt
}

// Reader reads the part from its beginning.
func (p Part) Reader() io.ReadSeeker { return io.NewSectionReader(p.Body, 0, p.Size) }

// Sent is a part that has arrived.
type Sent struct {
	Number int
	Tag    string
}

// Page is a part of a listing.
type Page struct {
	Objects []Listed
	// Folders are what keys begin with that go on after a further slash, which is their last character.
	Folders []string
	// Next goes on, empty after the last page.
	Next string
}

// Listed is an object of a listing.
type Listed struct {
	Key string
	storage.Version
}

// Options are how stores are used.
type Options struct {
	// Locate takes a URI apart; the key is as it stands there.
	Locate func(uri string) (Bucket, string, error)
	// Patience is how long a server may be silent, 0 for storage.DefaultPatience.
	Patience time.Duration
	// Memory is how many bytes of uploads wait in memory; what is beyond waits in temporary files. 0 is 64 MiB.
	Memory int64
}

// Store is the stores of a protocol.
type Store struct {
	options Options
	parts   *partRoom
	heads   *heads
	mutex   sync.Mutex
	// proven are buckets in which objects are kept from being replaced.
	proven map[string]bool
}

// New makes the store. No request is sent.
func New(o Options) *Store {
	if o.Patience <= 0 {
		o.Patience = storage.DefaultPatience
	}
	if o.Memory <= 0 {
		o.Memory = 64 << 20
	}
	return &Store{options: o, parts: newPartRoom(o.Memory), heads: newHeads(), proven: map[string]bool{}}
}

// place is where a request goes.
type place struct {
	Bucket
	uri, key string
}

// at takes a URI apart. The key of a folder has no slash at its end.
func (s *Store) at(uri string) (place, error) {
	b, key, err := s.options.Locate(uri)
	return place{b, uri, strings.Trim(key, "/")}, err
}

func (p place) explained(right Right, err error) error {
	if err == nil {
		return nil
	}
	return p.Explain(p.key, right, err)
}

// Canonical returns the URI without slashes that lead nowhere.
func (s *Store) Canonical(uri string) (string, error) {
	p, err := s.at(uri)
	if err != nil {
		return "", err
	}
	return join(p.Base(), p.key), nil
}

// join makes a URI.
func join(base, key string) string {
	if key == "" {
		return base
	}
	return base + "/" + key
}

// Remove removes an object. What is not there is removed already.
func (s *Store) Remove(ctx context.Context, uri string) error {
	p, err := s.at(uri)
	if err != nil || p.key == "" {
		return err
	}
	return p.explained(Delete, p.Bucket.Remove(ctx, p.key))
}

// mostRequests is how many requests to one server are under way at a time.
const mostRequests = 64

// InFlight is how many requests are best under way at a time.
func (s *Store) InFlight() int { return mostRequests }

// Leftovers lists uploads below a folder that runs which were stopped have begun before a time, and gives them up where that is
// asked for.
func (s *Store) Leftovers(ctx context.Context, folder string, before time.Time, remove bool) ([]storage.Leftover, error) {
	p, err := s.at(folder)
	if err != nil {
		return nil, err
	}
	leaver, ok := p.Bucket.(Leaver)
	if !ok {
		return nil, nil
	}
	prefix := p.key
	if prefix != "" {
		prefix += "/"
	}
	out, err := leaver.Uploads(ctx, prefix, before, remove)
	return out, p.explained(ListUploads, err)
}
