package storage

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// SkipFolder is returned to Walk by a function that wants nothing of what lies in a folder, or no more of the one that it was
// given something of.
var SkipFolder = fs.SkipDir

// SkipAll is returned to Walk by a function that wants nothing more.
var SkipAll = fs.SkipAll

// Walk visits everything below a folder in the order of names, folders before what lies in them, and follows no link. The error
// of a folder that cannot be listed is handed to visit with the folder; what visit returns then counts.
func Walk(ctx context.Context, s Store, folder string, visit func(Entry, error) error) error {
	err := walk(ctx, s, folder, visit)
	if errors.Is(err, SkipAll) {
		return nil
	}
	return err
}

func walk(ctx context.Context, s Store, folder string, visit func(Entry, error) error) error {
	entries, err := s.List(ctx, folder)
	if err != nil {
		err = visit(Entry{URI: folder, Name: Base(folder), Kind: Folder}, err)
		if errors.Is(err, SkipFolder) {
			return nil
		}
		return err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := visit(e, nil)
		switch {
		case errors.Is(err, SkipFolder) && e.Kind == Folder:
			continue
		case errors.Is(err, SkipFolder):
			return nil
		case err != nil:
			return err
		}
		if e.Kind == Folder {
			if err := walk(ctx, s, e.URI, visit); err != nil {
				return err
			}
		}
	}
	return nil
}

// RemoveAll removes a folder with everything in it; what is not there is no error.
func RemoveAll(ctx context.Context, s Store, folder string) error {
	entries, err := s.List(ctx, folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if e.Kind == Folder {
			err = RemoveAll(ctx, s, e.URI)
		} else {
			err = s.Remove(ctx, e.URI)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := s.Remove(ctx, folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Glob returns what a pattern matches, in no particular order, and the folder that the pattern begins with. What cannot be
// listed on the way is an error.
func Glob(ctx context.Context, s Store, pattern string) (matches []Entry, folder string, err error) {
	pattern = Clean(pattern)
	if flat, ok := FlatOf(s, pattern); ok {
		return globFlat(ctx, flat, pattern)
	}
	head := ""
	if Scheme(pattern) != "" {
		head, pattern = split(pattern)
	}
	base, rest := doublestar.SplitPattern(toSlash(pattern, head))
	folder = fromSlash(base, head)
	found, err := doublestar.Glob(listing{ctx, s, folder}, rest, doublestar.WithFailOnIOErrors())
	for _, m := range found {
		matches = append(matches, Entry{URI: Join(folder, m), Name: path.Base(m)})
	}
	return matches, folder, err
}

// globFlat lists what begins as the pattern does before its first character that stands for others. A folder matches where what
// lies in it does not.
func globFlat(ctx context.Context, s Flat, pattern string) (matches []Entry, folder string, err error) {
	if !doublestar.ValidatePattern(pattern) {
		return nil, "", doublestar.ErrBadPattern
	}
	literal := pattern[:strings.IndexAny(pattern+"*", `*?[{\`)]
	folder = literal[:strings.LastIndexByte(literal, '/')]
	last := ""
	err = s.Below(ctx, literal, func(e Entry) error {
		if ok, _ := doublestar.Match(pattern, e.URI); ok {
			matches = append(matches, e)
			return nil
		}
		for at := len(literal); ; at++ {
			slash := strings.IndexByte(e.URI[min(at, len(e.URI)):], '/')
			if slash < 0 {
				return nil
			}
			at += slash
			ok, _ := doublestar.Match(pattern, e.URI[:at])
			if ok && e.URI[:at] != last {
				last = e.URI[:at]
				matches = append(matches, Entry{URI: last, Name: path.Base(last), Kind: Folder})
			}
			if ok {
				return nil
			}
		}
	})
	return matches, folder, err
}

// IsBadPattern reports whether an error is that of a pattern which is none.
func IsBadPattern(err error) bool { return errors.Is(err, doublestar.ErrBadPattern) }

// listing is what lies below a folder, in the form in which patterns are looked for.
type listing struct {
	ctx    context.Context
	store  Store
	folder string
}

func (l listing) uri(name string) string {
	if name == "." {
		return l.folder
	}
	return Join(l.folder, name)
}

// Open exists for the form alone: nothing is read while patterns are looked for.
func (l listing) Open(name string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: name, Err: errors.ErrUnsupported}
}

func (l listing) Stat(name string) (fs.FileInfo, error) {
	o, err := l.store.Stat(l.ctx, l.uri(name))
	if err != nil {
		return nil, err
	}
	return seen{path.Base(name), o.Kind, o.Version}, nil
}

func (l listing) ReadDir(name string) ([]fs.DirEntry, error) {
	entries, err := l.store.List(l.ctx, l.uri(name))
	out := make([]fs.DirEntry, len(entries))
	for i, e := range entries {
		out[i] = fs.FileInfoToDirEntry(seen{e.Name, e.Kind, Version{}})
	}
	return out, err
}

// seen is what a listing tells, as patterns want it.
type seen struct {
	name string
	kind Kind
	Version
}

func (i seen) Name() string       { return i.name }
func (i seen) Size() int64        { return i.Version.Size }
func (i seen) ModTime() time.Time { return i.Modified }
func (i seen) IsDir() bool        { return i.kind == Folder }
func (i seen) Sys() any           { return nil }

func (i seen) Mode() fs.FileMode {
	return map[Kind]fs.FileMode{Folder: fs.ModeDir | 0o755, Link: fs.ModeSymlink, Stream: fs.ModeNamedPipe,
		Device: fs.ModeDevice}[i.kind]
}

// toSlash and fromSlash turn a path into the form of patterns and back; head is what stands before it in a URI.
func toSlash(p, head string) string {
	if head != "" {
		return strings.TrimPrefix(p, "/")
	}
	return filepath.ToSlash(p)
}

func fromSlash(p, head string) string {
	switch {
	case head == "":
		return filepath.FromSlash(p)
	case p == ".":
		return head
	}
	return head + "/" + p
}

// SortEntries puts what lies in a folder in the order of names.
func SortEntries(entries []Entry) {
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
}
