package arrival

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/runlog"
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
			w.see(ctx, uri, true)
		}
	}
}

// begin settles where the sources lie, and takes up what could not be loaded before.
func (w *Watcher) begin(ctx context.Context) error {
	if err := w.locate(); err != nil {
		return err
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
		if !w.passed[key] && why != "empty" && why != "hidden" {
			// What is empty or hidden is counted by listings.
			w.passed[key] = true
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
		f.object = o
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
		f.object = o
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

// burst takes the objects that are to be loaded now, if it is time.
func (w *Watcher) burst(now time.Time) []storage.Object {
	var whole []*candidate
	var bytes int64
	for _, c := range w.waiting {
		if c.whole {
			whole = append(whole, c)
			bytes += c.object.Size
		}
	}
	if len(whole) == 0 {
		w.gathering = time.Time{}
		return nil
	}
	if now.Before(w.notBefore) || now.Sub(w.gathering) < w.Gather && bytes < w.Bytes && !w.Once && len(whole) < mostTogether {
		return nil
	}
	if w.Once && len(whole) < len(w.waiting) && bytes < w.Bytes {
		return nil
	}
	slices.SortFunc(whole, func(a, b *candidate) int {
		if w.Order == "time" {
			if c := a.object.Modified.Compare(b.object.Modified); c != 0 {
				return c
			}
		}
		return strings.Compare(a.object.URI, b.object.URI)
	})
	var out []storage.Object
	bytes = 0
	for _, c := range whole {
		if len(out) > 0 && bytes+c.object.Size > w.Bytes || len(out) == mostTogether {
			break
		}
		out, bytes = append(out, c.object), bytes+c.object.Size
	}
	return out
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

// loaded is what became of a burst.
type loaded struct {
	objects []storage.Object
	failed  []failed
	// err is what went wrong that is the fault of no object.
	err error
}

// failed is an object that could not be loaded.
type failed struct {
	object storage.Object
	err    error
}

// load loads a burst. Of one that is refused, the objects are found that are to blame, and the others loaded.
func (w *Watcher) load(ctx context.Context, objects []storage.Object, done chan<- loaded) {
	out := loaded{objects: objects}
	w.Tell(Event{Kind: Loading, Objects: int64(len(objects))})
	w.halve(ctx, objects, &out)
	done <- out
}

// halve loads objects together, and where that is refused without those that are to blame: the one that the error names, or those of the
// one half and of the other.
func (w *Watcher) halve(ctx context.Context, objects []storage.Object, out *loaded) {
	if len(objects) == 0 || out.err != nil {
		return
	}
	err := w.Load(ctx, objects)
	kind := fault.KindOf(err)
	switch {
	case err == nil:
		return
	case ctx.Err() != nil:
		out.err = ctx.Err()
		return
	case len(objects) == 1 && (kind == fault.Input || kind == fault.Schema || named(err, objects) == 0):
		out.failed = append(out.failed, failed{objects[0], err})
		return
	case kind != fault.Input && kind != fault.Schema && named(err, objects) < 0:
		out.err = err
		return
	}
	if at := named(err, objects); at >= 0 {
		out.failed = append(out.failed, failed{objects[at], err})
		w.halve(ctx, slices.Delete(slices.Clone(objects), at, at+1), out)
		return
	}
	middle := len(objects) / 2
	w.halve(ctx, objects[:middle], out)
	w.halve(ctx, objects[middle:], out)
}

// named is the number of the object that an error names, -1 for none.
func named(err error, objects []storage.Object) int {
	var e *fault.Error
	if !errors.As(err, &e) || e.Object == "" {
		return -1
	}
	return slices.IndexFunc(objects, func(o storage.Object) bool {
		return o.URI == e.Object || strings.HasPrefix(e.Object, o.URI+"/") || strings.HasPrefix(e.Object, o.URI+"#")
	})
}

// take takes notice of what became of a burst.
func (w *Watcher) take(ctx context.Context, done loaded) {
	bad := map[string]error{}
	for _, f := range done.failed {
		bad[f.object.URI] = f.err
	}
	w.gathering = time.Time{}
	if done.err != nil {
		if ctx.Err() != nil {
			return
		}
		w.backoff = min(max(2*w.backoff, time.Second), w.Again)
		w.notBefore = time.Now().Add(w.backoff)
		w.Tell(Event{Kind: Failing, Objects: int64(len(done.objects)), Wait: w.backoff, Err: done.err, Why: "nothing could be loaded"})
		if w.Once {
			w.failed = cmp.Or(w.failed, done.err)
			for _, o := range done.objects {
				delete(w.waiting, o.URI)
			}
		}
		return
	}
	w.backoff = 0
	n := 0
	for _, o := range done.objects {
		c := w.waiting[o.URI]
		if c != nil && c.object.Version.Equal(o.Version) {
			delete(w.waiting, o.URI)
		}
		if err := bad[o.URI]; err != nil {
			w.fail(ctx, o, err)
			continue
		}
		n++
		w.settled[mark(o)] = true
		delete(w.late, o.URI)
		delete(w.aside, o.URI)
		w.forget(ctx, o.URI)
	}
	if n > 0 {
		w.Tell(Event{Kind: Loaded, Objects: int64(n)})
	}
}

// fail notes that an object could not be loaded.
func (w *Watcher) fail(ctx context.Context, o storage.Object, err error) {
	f := w.late[o.URI]
	if f == nil || f.Version != o.Version.String() {
		f = &failure{Waiting: runlog.Waiting{Object: o.URI, Version: o.Version.String(), Since: time.Now()}, object: o}
	}
	f.Tries, f.Reason, f.due = f.Tries+1, err.Error(), time.Now().Add(w.Again)
	f.Aside = f.Tries >= w.Tries
	if f.Aside {
		delete(w.late, o.URI)
		w.aside[o.URI] = f
		w.Tell(Event{Kind: Aside, Objects: 1, Object: o.URI, Why: fmt.Sprintf("after %d tries", f.Tries), Err: err})
	} else {
		w.late[o.URI] = f
		w.Tell(Event{Kind: Trying, Objects: 1, Object: o.URI, Wait: w.Again, Err: err})
	}
	w.failed = cmp.Or(w.failed, err)
	if w.Memory != nil {
		w.kept[o.URI] = true
		if err := w.Memory.Wait(context.WithoutCancel(ctx), f.Waiting); err != nil {
			w.Tell(Event{Kind: Failing, Why: "it cannot be kept that an object failed", Err: err})
		}
	}
}

// forget notes that an object waits no more.
func (w *Watcher) forget(ctx context.Context, uri string) {
	if w.Memory != nil && w.kept[uri] {
		delete(w.kept, uri)
		if err := w.Memory.Arrived(context.WithoutCancel(ctx), uri); err != nil {
			w.Tell(Event{Kind: Failing, Why: "it cannot be kept that an object was loaded", Err: err})
		}
	}
}
