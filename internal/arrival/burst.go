package arrival

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/runlog"
	"trevak/internal/storage"
)

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
		f = &failure{Waiting: runlog.Waiting{Object: o.URI, Version: o.Version.String(), Since: time.Now()}}
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
