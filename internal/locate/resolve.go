// Package locate turns what the user names into objects, in an order that is always the same, and opens them as streams of
// unpacked bytes. It never writes to a source.
package locate

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"trevak/internal/fault"
)

// Object is one file of a source.
type Object struct {
	// Location is the path as the user would write it.
	Location string
	// Size is the number of bytes as stored.
	Size int64
	// Modified is when the object last changed.
	Modified time.Time
}

// Found is what the sources name.
type Found struct {
	// Objects are in sorted order within each source, the sources in the order they were given; none occurs twice.
	Objects []Object
	// Empty counts files without a byte, Hidden those whose name begins with a dot or an underscore. Neither is read.
	Empty, Hidden int
}

// Resolve finds the objects of paths, folders (with everything below them) and glob patterns.
func Resolve(ctx context.Context, sources []string) (Found, error) {
	var found Found
	seen := map[string]bool{}
	for _, source := range sources {
		paths, passed, err := expand(source)
		if err != nil {
			return Found{}, err
		}
		found.Hidden += passed
		for _, path := range paths {
			if err := ctx.Err(); err != nil {
				return Found{}, err
			}
			if clean := filepath.Clean(path); !seen[clean] {
				seen[clean] = true
				if err := found.add(path); err != nil {
					return Found{}, err
				}
			}
		}
	}
	if len(found.Objects) == 0 {
		return Found{}, fault.New(fault.Input, "there is nothing to read in %s: %d empty and %d hidden files were passed over",
			strings.Join(sources, ", "), found.Empty, found.Hidden).Try("name files that hold data")
	}
	return found, nil
}

// add takes one file, or everything below one folder.
func (f *Found) add(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return missing(path, err)
	}
	if !info.IsDir() {
		f.file(path, info)
		return nil
	}
	return filepath.WalkDir(path, func(below string, entry fs.DirEntry, err error) error {
		if err != nil {
			return missing(below, err)
		}
		if below != path && hidden(entry.Name()) {
			if entry.IsDir() {
				return fs.SkipDir
			}
			f.Hidden++
			return nil
		}
		if entry.IsDir() {
			return nil
		}
		info, err := os.Stat(below)
		if err != nil {
			return missing(below, err)
		}
		if info.Mode().IsRegular() {
			f.file(below, info)
		}
		return nil
	})
}

func (f *Found) file(path string, info fs.FileInfo) {
	if info.Mode().IsRegular() && info.Size() == 0 {
		f.Empty++
		return
	}
	f.Objects = append(f.Objects, Object{Location: path, Size: info.Size(), Modified: info.ModTime()})
}

func hidden(name string) bool { return strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_") }

// expand resolves a glob pattern to sorted paths, and counts the hidden ones that it leaves out. What exists under its own name
// is taken as it is, whatever it contains.
func expand(source string) (paths []string, passed int, err error) {
	if _, err := os.Lstat(source); err == nil {
		return []string{source}, 0, nil
	}
	if !HasPattern(source) {
		_, err := os.Stat(source)
		return nil, 0, missing(source, err)
	}
	matches, err := doublestar.FilepathGlob(source, doublestar.WithFailOnIOErrors())
	if err != nil {
		return nil, 0, fault.Wrap(fault.Usage, err, "%q is not a pattern", source)
	}
	base, _ := doublestar.SplitPattern(filepath.ToSlash(source))
	for _, path := range matches {
		if hiddenBelow(base, path) {
			passed++
		} else {
			paths = append(paths, path)
		}
	}
	if len(paths) == 0 {
		return nil, 0, suggest(fault.New(fault.Storage, "no file matches the pattern %q", source), source)
	}
	slices.Sort(paths)
	return paths, passed, nil
}

// hiddenBelow reports whether a part of the path below base is hidden.
func hiddenBelow(base, path string) bool {
	rel, err := filepath.Rel(filepath.FromSlash(base), path)
	return err == nil && slices.ContainsFunc(strings.Split(filepath.ToSlash(rel), "/"), hidden)
}

// HasPattern reports whether a source is written with glob characters.
func HasPattern(source string) bool { return strings.ContainsAny(source, "*?[{") }

// missing explains why a path cannot be read.
func missing(path string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return suggest(fault.New(fault.Storage, "there is no file or folder %q", path), path)
	}
	return &fault.Error{Kind: fault.Storage, Object: path, Reason: "cannot be read", Cause: err}
}

// suggest adds the names in the same folder that come nearest.
func suggest(e *fault.Error, path string) error {
	folder, name := filepath.Split(path)
	if folder == "" {
		folder = "."
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return e.Try("the folder %q does not exist either; check the path", filepath.Clean(folder))
	}
	stem := strings.ToLower(strings.TrimLeft(name, "*?[{"))
	stem = stem[:min(3, len(stem))]
	var near []string
	for _, entry := range entries {
		if len(near) < 3 && !hidden(entry.Name()) && (stem == "" || strings.Contains(strings.ToLower(entry.Name()), stem)) {
			near = append(near, filepath.Join(folder, entry.Name()))
		}
	}
	if len(near) == 0 {
		return e.Try("the folder %q holds nothing of a like name", filepath.Clean(folder))
	}
	return e.Try("there is %s", strings.Join(near, ", "))
}
