// Package locate turns what the user names into objects, in an order that is always the same, and opens them as streams of
// unpacked bytes. It never writes to a source.
package locate

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
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
	// MayExpand lifts the guard against objects that unpack to very much.
	MayExpand bool
	// Hashed says that the hash of what is read will be asked for.
	Hashed bool

	store store
}

// Found is what the sources name.
type Found struct {
	// Objects are in the order of their locations, whatever the order of the sources; none occurs twice.
	Objects []Object
	// Empty counts files without a byte, Hidden those whose name begins with a dot or an underscore. Neither is read.
	Empty, Hidden int
}

// Resolve finds the objects of paths, folders (with everything below them), glob patterns and URLs. "-" is stdin, which is kept in a
// temporary file that vanishes with the program.
func Resolve(ctx context.Context, sources []string, stdin io.Reader) (Found, error) {
	var found Found
	seen := map[string]bool{}
	for _, source := range sources {
		if source == "-" {
			if err := found.spool(stdin); err != nil {
				return Found{}, err
			}
			continue
		}
		if IsURL(source) {
			if err := found.remote(ctx, source); err != nil {
				return Found{}, err
			}
			continue
		}
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
	slices.SortStableFunc(found.Objects, func(a, b Object) int { return strings.Compare(a.Location, b.Location) })
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
		return f.file(path, info)
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
			return f.file(below, info)
		}
		return nil
	})
}

// file takes one file, or the members of a zip archive.
func (f *Found) file(path string, info fs.FileInfo) error {
	if info.Mode().IsRegular() && info.Size() == 0 {
		f.Empty++
		return nil
	}
	object := Object{Location: path, Size: info.Size(), Modified: info.ModTime(), store: disk(path)}
	if !zipped(path) {
		f.Objects = append(f.Objects, object)
		return nil
	}
	archive, err := zip.OpenReader(path)
	if err != nil {
		return fault.New(fault.Input, "is no whole zip archive: %s", err).In(path).Try("ask the sender for a whole copy")
	}
	defer archive.Close()
	members := slices.Clone(archive.File)
	slices.SortFunc(members, func(a, b *zip.File) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range members {
		switch {
		case m.FileInfo().IsDir():
		case slices.ContainsFunc(strings.Split(m.Name, "/"), hidden):
			f.Hidden++
		case m.UncompressedSize64 == 0:
			f.Empty++
		default:
			f.Objects = append(f.Objects, Object{Location: path + "!" + m.Name, Size: int64(m.CompressedSize64), Modified: m.Modified, store: archived{path, m.Name}})
		}
	}
	return nil
}

// zipped reports whether a file begins like a zip archive.
func zipped(path string) bool {
	file, err := os.Open(path)
	if err != nil {
		return false
	}
	defer file.Close()
	head := make([]byte, 4)
	_, err = io.ReadFull(file, head)
	return err == nil && string(head) == "PK\x03\x04"
}

// spool keeps what stdin gives.
func (f *Found) spool(stdin io.Reader) error {
	if stdin == nil {
		return fault.New(fault.Usage, "standard input can be named once only")
	}
	file, err := os.CreateTemp("", "trevak-stdin-")
	if err != nil {
		return fault.Wrap(fault.Storage, err, "standard input cannot be kept")
	}
	// The name goes at once, the file with the last descriptor.
	if err := os.Remove(file.Name()); err != nil {
		return fault.Wrap(fault.Storage, err, "standard input cannot be kept")
	}
	size, err := io.Copy(file, stdin)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "standard input cannot be kept")
	}
	if size == 0 {
		f.Empty++
		return nil
	}
	f.Objects = append(f.Objects, Object{Location: "-", Size: size, Modified: time.Now(), store: spooled{file, size}})
	return nil
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
	pattern, err := spellRanges(source)
	if err != nil {
		return nil, 0, err
	}
	matches, err := doublestar.FilepathGlob(pattern, doublestar.WithFailOnIOErrors())
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
			bad = fault.New(fault.Usage, "the range %s is not one from low to high of at most %d numbers", text, mostInRange).Try("write it like {0..12}")
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
