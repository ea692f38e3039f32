package arrival

import (
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"trevak/internal/locate"
	"trevak/internal/storage"
)

// root is a source in its canonical form.
type root struct {
	folder  string
	pattern string // empty for a folder, or for one file
}

// Locate settles where the sources lie, so that it can be told which objects belong to them. Run does it where nobody did.
func (w *Watcher) Locate() error {
	var roots []root
	for _, source := range w.Sources {
		folder := locate.Root(source)
		at, err := w.Store.Canonical(folder)
		if err != nil {
			return err
		}
		r := root{folder: strings.TrimSuffix(at, "/")}
		if locate.HasPattern(source) {
			rest := strings.TrimPrefix(source, folder)
			r.pattern = storage.Join(r.folder, strings.TrimPrefix(rest, "/"))
		}
		roots = append(roots, r)
	}
	w.state.mutex.Lock()
	defer w.state.mutex.Unlock()
	w.roots = roots
	return nil
}

// place is the canonical form of a URI, and whether one of the sources has it.
func (w *Watcher) place(uri string) (string, bool) {
	uri = strings.TrimPrefix(uri, "file://")
	at, err := w.Store.Canonical(uri)
	if err != nil {
		return uri, false
	}
	w.state.mutex.Lock()
	roots := w.roots
	w.state.mutex.Unlock()
	for _, r := range roots {
		if r.pattern == "" && (at == r.folder || strings.HasPrefix(at, r.folder+"/")) {
			return at, !hiddenBelow(r.folder, at)
		}
		if r.pattern == "" {
			continue
		}
		if ok, err := doublestar.Match(r.pattern, at); err == nil && ok {
			return at, !hiddenBelow(r.folder, at)
		}
	}
	return at, false
}

// hiddenBelow reports whether a folder on the way to an object is hidden.
func hiddenBelow(folder, at string) bool {
	rel := strings.TrimPrefix(strings.TrimPrefix(at, folder), "/")
	for part := range strings.SplitSeq(storage.Dir(rel), "/") {
		if len(part) > 1 && (part[0] == '.' || part[0] == '_') {
			return true
		}
	}
	return false
}

// temporary are endings of names that writers give to what is not whole.
var temporary = []string{".tmp", ".temp", ".part", ".partial", ".crdownload", ".download", ".swp", ".filepart", ".writing", "~"}

// passing tells why an object is passed over whatever it holds; it is empty for one that is not.
func (w *Watcher) passing(o storage.Object) string {
	name := strings.ToLower(storage.Base(o.URI))
	switch {
	case o.Kind != storage.Regular:
		return "no file"
	case strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_"):
		return "hidden"
	case w.isMarker(name):
		return "marker"
	}
	for _, ending := range temporary {
		if strings.HasSuffix(name, ending) {
			return "temporary"
		}
	}
	if o.Size == 0 {
		return "empty"
	}
	return ""
}

// isMarker reports whether a name is one of files that say that others are whole.
func (w *Watcher) isMarker(name string) bool {
	if w.Marker == "" {
		return false
	}
	before, after, of := strings.Cut(strings.ToLower(w.Marker), "{name}")
	if !of {
		return name == before
	}
	return len(name) > len(before)+len(after) && strings.HasPrefix(name, before) && strings.HasSuffix(name, after)
}

// markerOf is the file that says that an object is whole.
func (w *Watcher) markerOf(uri string) string {
	return storage.Join(storage.Dir(uri), strings.ReplaceAll(w.Marker, "{name}", storage.Base(uri)))
}

// far reports whether an object lies in a store, where it is whole as soon as it is there.
func far(uri string) bool { return storage.Scheme(uri) != "" }
