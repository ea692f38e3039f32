package storage

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"
)

// Stage gathers the objects of a destination, which is an object or a folder of them, and puts them there together. One of
// Publish and Discard ends it.
type Stage interface {
	// Create begins an object by its path from the destination on; "" is the destination itself. It is committed when it is
	// whole, which shows nothing yet.
	Create(ctx context.Context, path string) (Writer, error)
	// Publish shows what was committed in the place of what is at the destination. Before that, check is asked whether that may be.
	// An error that is ErrLeft came after it.
	Publish(ctx context.Context, check func() error) error
	// Discard removes what was not published.
	Discard(ctx context.Context) error
}

// NewStage begins to gather the objects of a destination. On the disk they lie in a folder beside it, and change places with
// what is there at once; other stores keep them back until they are published, one after the other.
func NewStage(ctx context.Context, s Store, destination string) (Stage, error) {
	if _, ok := of(s, destination).(Disk); ok {
		return newDiskStage(Path(destination))
	}
	return &keptBack{store: s, destination: destination}, nil
}

// keptBack is objects that are whole and wait to be committed. Several may be written at a time.
type keptBack struct {
	store       Store
	destination string
	mutex       sync.Mutex
	made        map[string]bool // the URIs of all objects
	whole       []Writer
}

func (k *keptBack) Create(ctx context.Context, path string) (Writer, error) {
	uri := k.destination
	if path != "" {
		uri = Join(k.destination, path)
	}
	w, err := k.store.Create(ctx, uri, Creation{Mode: Replace})
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if k.made == nil {
		k.made = map[string]bool{}
	}
	k.made[uri] = true
	return &waiting{w, k}, err
}

// waiting is a writer whose object is committed later.
type waiting struct {
	Writer
	of *keptBack
}

func (w *waiting) Commit() error {
	w.of.mutex.Lock()
	w.of.whole = append(w.of.whole, w.Writer)
	w.of.mutex.Unlock()
	if s, ok := w.Writer.(Sealer); ok {
		return s.Seal()
	}
	return nil
}

// Sealer is a writer that can do with less until it is committed, once its object is whole.
type Sealer interface {
	Seal() error
}

// Publish commits the objects, and then removes what else was in the folder before.
func (k *keptBack) Publish(ctx context.Context, check func() error) error {
	if err := check(); err != nil {
		return err
	}
	var before []string
	err := Walk(ctx, k.store, k.destination, func(e Entry, err error) error {
		if err == nil && e.Kind != Folder && !k.made[e.URI] {
			before = append(before, e.URI)
		}
		return err
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	if err := k.commitAll(); err != nil {
		return err
	}
	if k.made[k.destination] {
		return nil
	}
	for _, uri := range before {
		if err := k.store.Remove(ctx, uri); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%w: %w", ErrLeft, err)
		}
	}
	return nil
}

// commitAll commits the objects, as many at a time as their store is best asked for; the last comes when all others are there.
func (k *keptBack) commitAll() error {
	if len(k.whole) == 0 {
		return nil
	}
	var group errgroup.Group
	group.SetLimit(max(1, InFlight(k.store, k.destination)))
	last := len(k.whole) - 1
	for _, w := range k.whole[:last] {
		group.Go(w.Commit)
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if err := k.whole[last].Commit(); err != nil {
		return err
	}
	k.whole = nil
	return nil
}

func (k *keptBack) Discard(context.Context) error {
	var errs []error
	for _, w := range k.whole {
		errs = append(errs, w.Abort())
	}
	k.whole = nil
	return errors.Join(errs...)
}

// diskStage is the folder beside a destination in which its files are written. It is locked for as long as its run lives, so
// that a later run can tell those that nobody will finish.
type diskStage struct {
	place  string
	folder string
	lock   *flock.Flock
	single string // the file that is to be the destination; empty for a folder
}

// asideEnding is that of what was at a destination, where two folders cannot be exchanged at once.
const asideEnding = ".old"

// newDiskStage makes a fresh folder, and removes those that killed runs have left.
func newDiskStage(place string) (*diskStage, error) {
	d := &diskStage{place: place}
	parent := filepath.Dir(place)
	if err := os.MkdirAll(parent, 0o777); err != nil {
		return nil, err
	}
	d.sweep(parent)
	for {
		// Unlike a temporary folder it becomes the destination, for whoever the umask lets see that.
		folder := filepath.Join(parent, d.prefix()+strconv.FormatUint(rand.Uint64(), 36))
		if err := os.Mkdir(folder, 0o777); errors.Is(err, fs.ErrExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		lock := folderLock(folder)
		// Without a lock nothing is lost: where folders have none, none is ever taken for one that was left.
		_ = lock.Lock()
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			// Another run swept it away before it was locked.
			lock.Close()
			continue
		} else if err != nil {
			lock.Close()
			return nil, err
		}
		d.folder, d.lock = folder, lock
		return d, nil
	}
}

// prefix begins the names of all folders that this machine makes for a destination. Those of other machines are theirs to
// remove: a lock may not be seen from one machine to another.
func (d *diskStage) prefix() string {
	return "." + filepath.Base(d.place) + ".partial-" + machineName() + "-"
}

func machineName() string {
	machine, err := os.Hostname()
	if err != nil {
		return "here"
	}
	return machine
}

// folderLock is a lock on a folder itself, which needs no file in it.
func folderLock(folder string) *flock.Flock { return flock.New(folder, flock.SetFlag(os.O_RDONLY)) }

// sweep removes the folders of runs that were killed, and puts back what one of them had moved aside. What cannot be removed
// stays: it is in nobody's way.
func (d *diskStage) sweep(parent string) {
	folder, err := os.Open(parent)
	if err != nil {
		return
	}
	names, _ := folder.Readdirnames(-1)
	folder.Close()
	var asides []string
	for _, name := range names {
		path := filepath.Join(parent, name)
		if !strings.HasPrefix(name, d.prefix()) {
			continue
		}
		if strings.HasSuffix(name, asideEnding) {
			asides = append(asides, path)
			continue
		}
		lock := folderLock(path)
		if left, err := lock.TryLock(); err == nil && left {
			os.RemoveAll(path)
		}
		lock.Close()
	}
	for _, aside := range asides {
		_, staged := os.Stat(strings.TrimSuffix(aside, asideEnding))
		switch _, there := os.Stat(d.place); {
		case !os.IsNotExist(staged):
			// Its run lives.
		case os.IsNotExist(there):
			os.Rename(aside, d.place)
		case there == nil:
			os.RemoveAll(aside)
		}
	}
}

func (d *diskStage) Create(_ context.Context, path string) (Writer, error) {
	place := filepath.Join(d.folder, filepath.FromSlash(path))
	if path == "" {
		d.single = filepath.Join(d.folder, "single")
		place = d.single
	}
	file, err := os.Create(place)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(filepath.Dir(place), 0o777); err == nil {
			file, err = os.Create(place)
		}
	}
	return staged{file}, err
}

// staged is a file in a folder that is not seen.
type staged struct{ *os.File }

func (s staged) Commit() error { return s.Close() }

func (s staged) Abort() error {
	if err := s.Close(); err != nil && !errors.Is(err, fs.ErrClosed) {
		return err
	}
	return nil
}

// Publish gives what was staged its name. A file takes the place of another at once; so do folders, where the system can exchange them.
func (d *diskStage) Publish(ctx context.Context, check func() error) error {
	if err := check(); err != nil {
		return err
	}
	if err := d.move(); err != nil {
		return err
	}
	if err := d.Discard(ctx); err != nil {
		return fmt.Errorf("%w: %w", ErrLeft, err)
	}
	return nil
}

func (d *diskStage) move() error {
	if runtime.GOOS == "windows" {
		// A folder that is open, as it is while it is locked, cannot be moved there.
		d.lock.Close()
	}
	info, err := os.Lstat(d.place)
	switch there := err == nil; {
	case d.single != "":
		return os.Rename(d.single, d.place)
	case !there:
		return os.Rename(d.folder, d.place)
	case info.IsDir() && os.Remove(d.place) == nil:
		// An empty folder makes way.
		return os.Rename(d.folder, d.place)
	case exchange(d.folder, d.place) == nil:
		return nil
	}
	aside := d.folder + asideEnding
	if err := os.Rename(d.place, aside); err != nil {
		return err
	}
	if err := os.Rename(d.folder, d.place); err != nil {
		return errors.Join(err, os.Rename(aside, d.place))
	}
	d.folder = aside
	return nil
}

// Discard removes what is left of the folder.
func (d *diskStage) Discard(context.Context) error {
	if d.folder == "" {
		return nil
	}
	err := os.RemoveAll(d.folder)
	d.folder = ""
	return errors.Join(err, d.lock.Close())
}
