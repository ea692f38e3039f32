// Package arrival finds what arrives: by listing, by events of the file system, and by being told; it waits until objects are whole,
// gathers
// bursts of them, has them loaded, and tries again what failed.
//
// What comes in are sources, and a function that loads objects; what goes out are calls of it, each with objects that are whole, and an
// account of what was passed over and set aside.
package arrival

import (
	"context"
	"hash/fnv"
	"time"

	"trevak/internal/runlog"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
)

// Options are how objects of a feed are found and loaded.
type Options struct {
	runsheet.Arrival
	Feed    string
	Sources []string
	Store   storage.Store
	// Events has the file system tell of what arrives on disks.
	Events bool
	// Once ends when all that is there was tried.
	Once bool
	// Load loads objects, all or none. It may fail.
	Load func(ctx context.Context, objects []storage.Object) error
	// Known tells objects that were loaded before; it may be nil.
	Known func(ctx context.Context) (func(storage.Object) bool, error)
	// Memory keeps what could not be loaded; it may be nil.
	Memory Memory
	// Tell is told of what happens; it may be nil.
	Tell func(Event)
}

// Memory keeps objects that could not be loaded between runs of the program.
type Memory interface {
	Waiting(ctx context.Context) ([]runlog.Waiting, error)
	Wait(ctx context.Context, w runlog.Waiting) error
	Arrived(ctx context.Context, object string) error
}

// Kind is what sort of event it is.
type Kind string

// The kinds of events. Listed tells what a listing cost, Passed that objects were passed over for what they are, Loading that objects
// are loaded, Loaded that they were, Trying that an object failed and is tried again, Aside that it is not, and Failing that something
// is wrong that is the fault of no object.
const (
	Listed  Kind = "listed"
	Passed  Kind = "passed_over"
	Loading Kind = "loading"
	Loaded  Kind = "loaded"
	Trying  Kind = "trying_again"
	Aside   Kind = "set_aside"
	Failing Kind = "failing"
)

// Event is something that happens to what arrives.
type Event struct {
	Kind Kind
	// Objects is how many it is about, Requests what a listing asked of the store.
	Objects, Requests int64
	// Object is the one that it is about, Why the reason.
	Object, Why string
	Wait        time.Duration
	Took        time.Duration
	Err         error
}

// Watcher watches the sources of one feed. Run is its only goroutine but for those that ask by Notice, List, Lag and Counts.
type Watcher struct {
	Options
	notices chan string
	events  <-chan string

	// waiting are objects that are not whole yet or wait for their turn, by URI; late those that failed, aside those that are not tried.
	waiting map[string]*candidate
	late    map[string]*failure
	aside   map[string]*failure
	// kept are those that Memory keeps.
	kept map[string]bool
	// settled has the hash of each object and version that is done with.
	settled   map[uint64]bool
	roots     []root
	empties   int // as the last listing counted them
	hiddens   int
	gathering time.Time // since when there is something whole
	listedAt  time.Time
	failed    error // the last load's error that was nobody's fault
	backoff   time.Duration
	notBefore time.Time

	state state
}

// candidate is an object that is looked at until it is whole.
type candidate struct {
	object storage.Object
	// since is when it was first seen as it is, found when it was first seen at all.
	since, found time.Time
	whole        bool
}

// failure is an object that could not be loaded.
type failure struct {
	runlog.Waiting
	due time.Time
}

// New prepares to watch.
func New(o Options) *Watcher {
	if o.Tell == nil {
		o.Tell = func(Event) {}
	}
	return &Watcher{Options: o, notices: make(chan string, 1<<12), waiting: map[string]*candidate{}, late: map[string]*failure{},
		aside: map[string]*failure{}, kept: map[string]bool{}, settled: map[uint64]bool{}}
}

// mark is what an object is remembered by at a version.
func mark(o storage.Object) uint64 {
	h := fnv.New64a()
	// A hash takes everything.
	_, _ = h.Write([]byte(o.URI))
	_, _ = h.Write([]byte{0})
	_, _ = h.Write([]byte(o.Version.String()))
	return h.Sum64()
}

// List has the sources listed now, since notices may have been missed.
func (w *Watcher) List() {
	select {
	case w.notices <- "":
	default:
		// So many wait that they are listed soon.
	}
}

// Notice tells of an object that may have arrived. It reports whether the sources have a place for it.
func (w *Watcher) Notice(ctx context.Context, uri string) bool {
	at, ok := w.place(uri)
	if !ok {
		return false
	}
	select {
	case w.notices <- at:
		return true
	case <-ctx.Done():
		return false
	default:
		// The next listing finds it.
		return true
	}
}
