package arrival

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"sync"
	"time"

	"trevak/internal/locate"
	"trevak/internal/storage"
)

// state is what others may ask of a watcher.
type state struct {
	mutex   sync.Mutex
	oldest  time.Time // when the object was found that waits the longest; zero for none
	pending int
	aside   int
	ready   bool
}

// Lag is how long the object waits that waits the longest.
func (w *Watcher) Lag() time.Duration {
	w.state.mutex.Lock()
	defer w.state.mutex.Unlock()
	if w.state.oldest.IsZero() {
		return 0
	}
	return time.Since(w.state.oldest)
}

// Counts are how many objects wait, and how many are set aside; ready says that the sources were listed once.
func (w *Watcher) Counts() (pending, aside int, ready bool) {
	w.state.mutex.Lock()
	defer w.state.mutex.Unlock()
	return w.state.pending, w.state.aside, w.state.ready
}

func (w *Watcher) publish() {
	w.state.mutex.Lock()
	defer w.state.mutex.Unlock()
	w.state.oldest, w.state.pending, w.state.aside = time.Time{}, len(w.waiting)+len(w.late), len(w.aside)
	for _, c := range w.waiting {
		if w.state.oldest.IsZero() || c.found.Before(w.state.oldest) {
			w.state.oldest = c.found
		}
	}
}

// lookEvery is how often objects are looked at that are not whole.
const lookEvery = 50 * time.Millisecond

// mostTogether bounds how many objects one load takes in.
const mostTogether = 10_000

// Run watches until the context ends, or, once, until all that is there was tried: then the error is that of what could not be loaded. A
// load that is under way when the context ends is waited for.
func (w *Watcher) Run(ctx context.Context) error {
	if err := w.begin(ctx); err != nil {
		return err
	}
	var loading chan loaded
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		if ctx.Err() != nil {
			if loading != nil {
				<-loading
			}
			return nil
		}
		now := time.Now()
		if w.due(now) {
			if err := w.list(ctx); err != nil && ctx.Err() == nil {
				if w.Once {
					return err
				}
				w.Tell(Event{Kind: Failing, Why: "the sources could not be listed", Err: err})
			}
			now = time.Now()
		}
		w.look(ctx, now)
		if loading == nil {
			if burst := w.burst(now); len(burst) > 0 {
				loading = make(chan loaded, 1)
				go w.load(ctx, burst, loading)
			} else if w.Once && len(w.waiting) == 0 {
				return w.failed
			}
		}
		w.publish()
		timer.Reset(w.sleep(now, loading != nil))
		select {
		case <-ctx.Done():
		case <-timer.C:
		case done := <-loading:
			loading = nil
			w.take(ctx, done)
		case path, ok := <-w.events:
			w.hear(ctx, path, ok)
		case uri := <-w.notices:
			if uri == "" {
				w.listedAt = time.Time{}
			} else {
				w.see(ctx, uri, true)
			}
		}
	}
}

// begin settles where the sources lie, and takes up what could not be loaded before.
func (w *Watcher) begin(ctx context.Context) error {
	if w.roots == nil {
		if err := w.Locate(); err != nil {
			return err
		}
	}
	if w.Memory != nil {
		list, err := w.Memory.Waiting(ctx)
		if err != nil {
			return err
		}
		for _, one := range list {
			f := &failure{Waiting: one, due: time.Now()}
			w.kept[one.Object] = true
			if one.Aside {
				w.aside[one.Object] = f
			} else {
				w.late[one.Object] = f
			}
		}
	}
	var folders []string
	for _, r := range w.roots {
		if !far(r.folder) {
			folders = append(folders, r.folder)
		}
	}
	if !w.Events || w.Once || len(folders) == 0 {
		return nil
	}
	e, err := storage.Follow(ctx, folders)
	if err != nil {
		// Listings find it all.
		w.Tell(Event{Kind: Failing, Why: "the file system does not tell of what arrives, so folders are listed alone", Err: err})
		return nil
	}
	w.events = e.Changed
	return nil
}

// due reports whether it is time to list.
func (w *Watcher) due(now time.Time) bool {
	return w.listedAt.IsZero() || !w.Once && now.Sub(w.listedAt) >= w.Every
}

// list lists the sources.
func (w *Watcher) list(ctx context.Context) error {
	began := time.Now()
	w.listedAt = began
	counted, asked := storage.Counting(ctx)
	objects, empty, hidden, err := locate.List(counted, w.Store, w.Sources)
	if err != nil {
		return err
	}
	w.count("empty", empty, &w.empties)
	w.count("hidden", hidden, &w.hiddens)
	w.Tell(Event{Kind: Listed, Objects: int64(len(objects)), Requests: asked.Load(), Took: time.Since(began)})
	var fresh []storage.Object
	for _, o := range objects {
		at, err := w.Store.Canonical(o.URI)
		if err != nil {
			return err
		}
		if o.URI = at; !w.settled[mark(o)] {
			fresh = append(fresh, o)
		}
	}
	if len(fresh) > 0 && w.Known != nil {
		known, err := w.Known(ctx)
		if err != nil {
			return err
		}
		if known != nil {
			fresh = slices.DeleteFunc(fresh, func(o storage.Object) bool {
				is := known(o)
				if is {
					w.settled[mark(o)] = true
				}
				return is
			})
		}
	}
	now := time.Now()
	for _, o := range fresh {
		w.sight(o, now, false)
	}
	w.state.mutex.Lock()
	w.state.ready = true
	w.state.mutex.Unlock()
	return nil
}

// count tells of objects that a listing passed over, where they are more than before.
func (w *Watcher) count(why string, n int, before *int) {
	if n > *before {
		w.Tell(Event{Kind: Passed, Objects: int64(n - *before), Why: why})
	}
	*before = n
}

// hear takes notice of an event of the file system.
func (w *Watcher) hear(ctx context.Context, path string, ok bool) {
	switch {
	case !ok:
		w.events = nil
	case path == "":
		w.listedAt = time.Time{}
	default:
		if at, ok := w.place(path); ok {
			w.see(ctx, at, false)
		}
	}
}

// see looks at an object that somebody told of.
func (w *Watcher) see(ctx context.Context, uri string, told bool) {
	o, err := w.Store.Stat(ctx, uri)
	if err != nil {
		// What is not there cannot be loaded; if it comes, the next listing finds it.
		return
	}
	o.URI = uri
	if o.Kind == storage.Folder {
		w.listedAt = time.Time{}
		return
	}
	w.sight(o, time.Now(), told)
}

// sight takes notice of an object as it is.
func (w *Watcher) sight(o storage.Object, now time.Time, told bool) {
	key := mark(o)
	if w.settled[key] {
		return
	}
	if why := w.passing(o); why != "" {
		if why != "empty" && why != "hidden" {
			// What is empty or hidden is counted by listings.
			w.Tell(Event{Kind: Passed, Objects: 1, Object: o.URI, Why: why})
		}
		if why != "empty" {
			w.settled[key] = true
		}
		return
	}
	if f := w.aside[o.URI]; f != nil {
		if f.Version == o.Version.String() {
			return
		}
		delete(w.aside, o.URI) // it is another by now
	}
	if f := w.late[o.URI]; f != nil {
		if f.Version == o.Version.String() {
			return
		}
		delete(w.late, o.URI)
	}
	c := w.waiting[o.URI]
	if c == nil {
		c = &candidate{found: now}
		w.waiting[o.URI] = c
	}
	if c.object.URI == "" || !c.object.Version.Equal(o.Version) {
		c.object, c.since, c.whole = o, now, false
	}
	c.whole = c.whole || far(o.URI) && w.Marker == "" || told && !writing(o.URI)
}

func writing(uri string) bool {
	is, known := storage.BeingWritten(uri)
	return is && known
}

// look finds out which objects are whole by now, and takes up those that failed and are to be tried again.
func (w *Watcher) look(ctx context.Context, now time.Time) {
	for uri, f := range w.late {
		if now.Before(f.due) {
			continue
		}
		o, err := w.Store.Stat(ctx, uri)
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				delete(w.late, uri)
				w.forget(ctx, uri)
			} else {
				f.due = now.Add(w.Again)
			}
			continue
		}
		o.URI = uri
		if w.waiting[uri] == nil {
			w.waiting[uri] = &candidate{object: o, since: now, found: now}
		}
		f.due = now.Add(100 * 365 * 24 * time.Hour) // until it was tried
	}
	for uri, c := range w.waiting {
		if !c.whole {
			w.lookAt(ctx, uri, c, now)
		}
		if c.whole && w.gathering.IsZero() {
			w.gathering = now
		}
	}
}

// lookAt finds out whether an object is whole by now.
func (w *Watcher) lookAt(ctx context.Context, uri string, c *candidate, now time.Time) {
	if w.Marker != "" {
		if storage.Exists(ctx, w.Store, w.markerOf(uri)) {
			if o, err := w.Store.Stat(ctx, uri); err == nil {
				o.URI = uri
				c.object, c.whole = o, true
			}
		}
		return
	}
	if now.Sub(c.since) < w.Settle {
		return
	}
	o, err := w.Store.Stat(ctx, uri)
	if err != nil {
		delete(w.waiting, uri) // gone, or to be found by the next listing
		return
	}
	o.URI = uri
	if !o.Version.Equal(c.object.Version) || writing(uri) {
		c.object, c.since = o, now
		return
	}
	c.whole = true
}

// sleep is how long there is nothing to do.
func (w *Watcher) sleep(now time.Time, loading bool) time.Duration {
	next := w.listedAt.Add(w.Every)
	if w.Once {
		next = now.Add(time.Second)
	}
	earlier := func(at time.Time) {
		if at.Before(next) {
			next = at
		}
	}
	for _, c := range w.waiting {
		switch {
		case !c.whole && w.Marker == "":
			earlier(c.since.Add(w.Settle))
		case !c.whole:
			earlier(now.Add(4 * lookEvery))
		case !loading:
			earlier(later(w.gathering.Add(w.Gather), w.notBefore))
		}
	}
	for _, f := range w.late {
		earlier(f.due)
	}
	return max(next.Sub(now), time.Millisecond*5)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
