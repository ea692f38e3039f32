// Package locate turns what the user names into objects, in an order that is always the same, and opens them as streams of
// unpacked bytes. It never writes to a source.
package locate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/magic"
	"trevak/internal/storage"
	"trevak/internal/wording"
)

// Object is one file of a source.
type Object struct {
	// Location is the path as the user would write it.
	Location string
	// Size is the number of bytes as stored.
	Size int64
	// Modified is when the object last changed.
	Modified time.Time
	// MayExpand lifts the guard against objects that unpack to very much.
	MayExpand bool
	// Hashed says that the hash of what is read will be asked for.
	Hashed bool
	// Sheet says that it is a sheet of a workbook, whose bytes are its rows as lines of JSON.
	Sheet bool
	// Matched says that a folder or a pattern led to the object, which was not named itself.
	Matched bool

	source source
}

// Found is what the sources name.
type Found struct {
	// Objects are in the order of their locations, whatever the order of the sources; none occurs twice.
	Objects []Object
	// Empty counts files without a byte, Hidden those whose name begins with a dot or an underscore. Neither is read.
	Empty, Hidden int
	// Passed is what else lies in the folders and is not read.
	Passed []Passed
	// Known are the files that were passed over for being known.
	Known []string

	store storage.Store
	// taken are the files that were taken, by their URIs: a pattern may match a folder and what lies in it, and sources may overlap.
	taken map[string]bool
	known func(storage.Object) bool
}

// Passed is a file or folder that was passed over, and what it is.
type Passed struct {
	Location string
	What     string
}

// Resolve finds the objects of paths, folders (with everything below them), glob patterns and URLs. "-" is stdin. What can be
// read once only, as stdin and pipes, is kept in temporary files that vanish with the program.
func Resolve(ctx context.Context, s storage.Store, sources []string, stdin io.Reader) (Found, error) {
	return ResolveBut(ctx, s, sources, stdin, nil)
}

// ResolveBut is Resolve but for files that are known, which it does not open; known may be nil.
func ResolveBut(ctx context.Context, s storage.Store, sources []string, stdin io.Reader, known func(storage.Object) bool) (Found, error) {
	found := Found{store: s, known: known, taken: map[string]bool{}}
	seen := map[string]bool{}
	for _, source := range sources {
		if err := found.take(ctx, source, stdin, seen); err != nil {
			return Found{}, err
		}
	}
	slices.SortStableFunc(found.Objects, func(a, b Object) int { return strings.Compare(a.Location, b.Location) })
	if len(found.Objects)+len(found.Known) == 0 {
		return Found{}, found.nothing(sources)
	}
	return found, nil
}

// Given makes of objects, with the versions that they were listed at, what sources would name that are these and nothing else.
func Given(ctx context.Context, s storage.Store, objects []storage.Object) (Found, error) {
	found := Found{store: s, taken: map[string]bool{}}
	for _, o := range objects {
		if err := found.file(ctx, o, true); err != nil {
			return Found{}, err
		}
	}
	slices.SortStableFunc(found.Objects, func(a, b Object) int { return strings.Compare(a.Location, b.Location) })
	if len(found.Objects) == 0 {
		return Found{}, found.nothing([]string{"what was given"})
	}
	return found, nil
}

// List finds the objects of paths, folders, patterns and URLs without opening one. Empty counts those without a byte, Hidden those whose
// names say that they are to be passed over.
func List(ctx context.Context, s storage.Store, sources []string) (objects []storage.Object, empty, hidden int, err error) {
	found, err := ResolveBut(ctx, s, sources, nil, func(o storage.Object) bool {
		objects = append(objects, o)
		return true
	})
	var nothing *NothingError
	if errors.As(err, &nothing) && len(objects) == 0 {
		return nil, nothing.Empty, nothing.Hidden, nil
	}
	return objects, found.Empty, found.Hidden, err
}

// Root is the folder that a source lies in: the source itself where it has no pattern, and what comes before the pattern otherwise.
func Root(source string) string {
	if !HasPattern(source) {
		return source
	}
	at := strings.IndexAny(source, "*?[{")
	slash := strings.LastIndexAny(source[:at], `/\`)
	if slash < 0 {
		return "."
	}
	return source[:max(slash, 1)]
}

// NothingError says that sources name no object, though nothing is wrong with them.
type NothingError struct {
	because *fault.Error
	// Empty and Hidden count what was passed over.
	Empty, Hidden int
}

func (n *NothingError) Error() string { return n.because.Error() }

// Unwrap returns the error with its kind and way out.
func (n *NothingError) Unwrap() error { return n.because }

// take takes what one source names.
func (f *Found) take(ctx context.Context, source string, stdin io.Reader, seen map[string]bool) error {
	switch {
	case source == "-":
		return f.spool(ctx, stdin)
	case storage.IsURL(source):
		return f.remote(ctx, source)
	}
	if holder, ok := f.memberOf(ctx, source); ok {
		if seen[source] {
			return nil
		}
		seen[source] = true
		return f.oneMember(ctx, holder, source)
	}
	entries, passed, err := f.expand(ctx, source)
	if err != nil {
		return err
	}
	f.Hidden += passed
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		if clean := storage.Clean(e.URI); !seen[clean] {
			seen[clean] = true
			if err := f.add(ctx, e, e.URI != source); err != nil {
				return err
			}
		}
	}
	return nil
}

// remote takes an object behind a URL.
func (f *Found) remote(ctx context.Context, source string) error {
	object, err := f.store.Stat(ctx, source)
	if err != nil {
		return err
	}
	if object.Size == 0 {
		f.Empty++
		return nil
	}
	if f.known != nil && f.known(object) {
		f.Known = append(f.Known, object.URI)
		return nil
	}
	f.Objects = append(f.Objects, of(f.store, object))
	return nil
}

// nothing is the error for sources that hold nothing to read.
func (f *Found) nothing(sources []string) error {
	if len(sources) == 1 && sources[0] == "-" {
		return fault.New(fault.Input, "standard input gave no byte").Try("look at what the command before the pipe does")
	}
	shown := make([]string, len(sources))
	for i, s := range sources {
		shown[i] = storage.Shown(s)
	}
	e := fault.New(fault.Input, "there is nothing to read in %s: %d empty and %d hidden objects were passed over",
		strings.Join(shown, ", "), f.Empty, f.Hidden)
	if len(f.Passed) > 0 {
		return &NothingError{e.Try("the %s %s was passed over as well; to read it all the same, name what lies in it", f.Passed[0].What,
			f.Passed[0].Location), f.Empty, f.Hidden}
	}
	return &NothingError{e.Try("name objects that hold data"), f.Empty, f.Hidden}
}

// add takes one file, or everything below one folder.
func (f *Found) add(ctx context.Context, e storage.Entry, matched bool) error {
	if e.Listed != nil {
		return f.file(ctx, storage.Object{URI: e.URI, Version: *e.Listed}, matched)
	}
	object, err := f.store.Stat(ctx, e.URI)
	if err != nil {
		return explained(ctx, f.store, e.URI, err)
	}
	if object.Kind == storage.Folder {
		return f.below(ctx, e.URI)
	}
	return f.file(ctx, object, matched)
}

// file takes one file, or the members of a zip archive. What can be read once only is kept in a temporary file first.
func (f *Found) file(ctx context.Context, object storage.Object, matched bool) error {
	place := storage.Clean(object.URI)
	if f.taken[place] {
		return nil
	}
	if f.taken != nil && object.Kind == storage.Regular {
		f.taken[place] = true
	}
	switch {
	case object.Kind == storage.Device:
		return fault.New(fault.Usage, "%s is a device, not a file", object.URI).
			Try("name a file, a folder or a pattern, or - for what is piped in")
	case object.Kind == storage.Stream:
		return f.pipe(ctx, object)
	case object.Size == 0:
		f.Empty++
		return nil
	case f.known != nil && f.known(object):
		f.Known = append(f.Known, object.URI)
		return nil
	case f.zipped(ctx, object):
		return f.members(ctx, object, matched)
	}
	found := of(f.store, object)
	found.Matched = matched
	f.Objects = append(f.Objects, found)
	return nil
}

// zipped reports whether an object begins like a zip archive. Far away, where that would take a request for each, one whose name says
// that it is something else is not asked; what it is shows when it is looked at.
func (f *Found) zipped(ctx context.Context, object storage.Object) bool {
	if storage.InFlight(f.store, object.URI) > 0 && namesOther(object.URI) {
		return false
	}
	file, err := f.store.Open(ctx, object)
	if err != nil {
		return false
	}
	defer file.Close()
	head := make([]byte, 4)
	_, err = io.ReadFull(file, head)
	return err == nil && string(head) == magic.Zip
}

// hidden reports whether a name is one that is passed over. Steps upward, which members of archives may have, hide nothing.
func hidden(name string) bool {
	return (strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_")) && name != "." && name != ".."
}

// otherEndings are those of names of objects that are no archives.
var otherEndings = []string{".csv", ".tsv", ".psv", ".txt", ".dat", ".log", ".json", ".jsonl", ".ndjson", ".geojson", ".xml",
	".parquet", ".orc", ".avro", ".arrow", ".feather", ".gz", ".zst", ".bz2", ".xz", ".lz4", ".sz", ".br"}

// namesOther reports whether the name of an object says that it is no archive.
func namesOther(uri string) bool {
	name := strings.ToLower(storage.Base(uri))
	return slices.ContainsFunc(otherEndings, func(ending string) bool { return strings.HasSuffix(name, ending) })
}

// expand resolves a glob pattern to sorted entries, and counts the hidden ones that it leaves out. What exists under its own name
// is taken as it is, whatever it contains.
func (f *Found) expand(ctx context.Context, source string) (entries []storage.Entry, passed int, err error) {
	object, err := f.store.Stat(ctx, source)
	switch {
	case err == nil && object.Kind == storage.Regular && storage.InFlight(f.store, source) > 0:
		return []storage.Entry{{URI: source, Listed: &object.Version}}, 0, nil
	case err == nil:
		return []storage.Entry{{URI: source}}, 0, nil
	case !HasPattern(source):
		return nil, 0, explained(ctx, f.store, source, err)
	}
	pattern, err := spellRanges(source)
	if err != nil {
		return nil, 0, err
	}
	matches, folder, err := storage.Glob(ctx, f.store, pattern)
	if storage.IsBadPattern(err) {
		return nil, 0, fault.Wrap(fault.Usage, err, "%q is not a pattern", source)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, 0, fault.Wrap(fault.Storage, err, "the files of the pattern %q cannot be listed", source)
	}
	for _, e := range matches {
		if hiddenBelow(folder, e.URI) {
			passed++
		} else {
			entries = append(entries, e)
		}
	}
	if len(entries) == 0 {
		e := fault.New(fault.Storage, "no file matches the pattern %q", source)
		// It adds the way out.
		_ = suggest(ctx, f.store, e, source)
		return nil, 0, &NothingError{because: e}
	}
	slices.SortFunc(entries, func(a, b storage.Entry) int { return strings.Compare(a.URI, b.URI) })
	return entries, passed, nil
}

var numberRange = regexp.MustCompile(`\{(\d+)\.\.(\d+)\}`)

// mostInRange bounds what a numbered range may spell out.
const mostInRange = 10_000

// spellRanges writes numbered ranges out: {0..2} is {0,1,2}, and {08..10} is {08,09,10}.
func spellRanges(pattern string) (string, error) {
	var bad error
	out := numberRange.ReplaceAllStringFunc(pattern, func(text string) string {
		m := numberRange.FindStringSubmatch(text)
		from, err := strconv.Atoi(m[1])
		to, err2 := strconv.Atoi(m[2])
		if err != nil || err2 != nil || to < from || to-from >= mostInRange {
			bad = fault.New(fault.Usage, "the range %s is not one from low to high of at most %d numbers", text,
				mostInRange).Try("write it like {0..12}")
			return text
		}
		width := 0
		if m[1][0] == '0' && len(m[1]) > 1 {
			width = len(m[1])
		}
		words := make([]string, 0, to-from+1)
		for n := from; n <= to; n++ {
			words = append(words, fmt.Sprintf("%0*d", width, n))
		}
		return "{" + strings.Join(words, ",") + "}"
	})
	return out, bad
}

// hiddenBelow reports whether a part of the path below base is hidden.
func hiddenBelow(base, path string) bool {
	rel, ok := storage.Rel(base, path)
	return ok && slices.ContainsFunc(strings.Split(rel, "/"), hidden)
}

// HasPattern reports whether a source is written with glob characters.
func HasPattern(source string) bool { return strings.ContainsAny(source, "*?[{") }

// suggest adds the names in the same folder that come nearest.
func suggest(ctx context.Context, s storage.Store, e *fault.Error, uri string) error {
	folder, name := storage.Dir(uri), storage.Base(uri)
	entries, err := s.List(ctx, folder)
	switch {
	case err != nil && HasPattern(folder):
		return e.Try("check the parts of the pattern")
	case err != nil:
		return e.Try("the folder %q does not exist either; check the path", folder)
	}
	if slices.ContainsFunc(entries, func(entry storage.Entry) bool { return entry.Name == name && entry.Kind == storage.Link }) {
		e.Reason = fmt.Sprintf("%q is a link that leads to nothing", uri)
		return e.Try("mend the link, or name what it was to lead to")
	}
	near := alike(folder, name, entries)
	if len(near) == 0 {
		return e.Try("the folder %q holds nothing of a like name", folder)
	}
	return e.Try("there is %s", strings.Join(near, ", "))
}

// Alike lists up to three locations of a like name in the folder of one that does not exist.
func Alike(ctx context.Context, s storage.Store, uri string) []string {
	entries, err := s.List(ctx, storage.Dir(uri))
	if err != nil {
		return nil
	}
	return alike(storage.Dir(uri), storage.Base(uri), entries)
}

// alike lists those of a folder's entries, three at most, whose names come near to one, or have its beginning in them.
func alike(folder, name string, entries []storage.Entry) []string {
	stem := strings.ToLower(strings.TrimLeft(name, "*?[{"))
	stem = stem[:min(3, len(stem))]
	var near []string
	names := make([]string, len(entries))
	for i, entry := range entries {
		if len(near) < 3 && !hidden(entry.Name) && (stem == "" || strings.Contains(strings.ToLower(entry.Name), stem)) {
			near = append(near, entry.URI)
		}
		names[i] = entry.Name
	}
	for _, name := range wording.Nearest(name, names) {
		if uri := storage.Join(folder, name); len(near) < 3 && !hidden(name) && !slices.Contains(near, uri) {
			near = append(near, uri)
		}
	}
	return near
}
