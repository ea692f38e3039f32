// Package locate turns what the user names into objects, in an order that is always the same, and opens them as streams of
// unpacked bytes. It never writes to a source.
package locate

import (
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
	// Sheet says that it is a sheet of a workbook, whose bytes are its rows as lines of JSON.
	Sheet bool
	// Matched says that a folder or a pattern led to the object, which was not named itself.
	Matched bool

	store store
}

// Found is what the sources name.
type Found struct {
	// Objects are in the order of their locations, whatever the order of the sources; none occurs twice.
	Objects []Object
	// Empty counts files without a byte, Hidden those whose name begins with a dot or an underscore. Neither is read.
	Empty, Hidden int
	// Passed is what else lies in the folders and is not read.
	Passed []Passed
}

// Passed is a file or folder that was passed over, and what it is.
type Passed struct {
	Location string `json:"location"`
	What     string `json:"what"`
}

// Resolve finds the objects of paths, folders (with everything below them), glob patterns and URLs. "-" is stdin. What can be read once only, as stdin
// and pipes, is kept in temporary files that vanish with the program.
func Resolve(ctx context.Context, sources []string, w Web, stdin io.Reader) (Found, error) {
	var found Found
	seen := map[string]bool{}
	for _, source := range sources {
		if err := found.source(ctx, source, w, stdin, seen); err != nil {
			return Found{}, err
		}
	}
	slices.SortStableFunc(found.Objects, func(a, b Object) int { return strings.Compare(a.Location, b.Location) })
	if len(found.Objects) == 0 {
		return Found{}, found.nothing(sources)
	}
	return found, nil
}

// source takes what one source names.
func (f *Found) source(ctx context.Context, source string, w Web, stdin io.Reader, seen map[string]bool) error {
	switch {
	case source == "-":
		return f.spool(ctx, stdin)
	case IsURL(source):
		return f.remote(ctx, source, w)
	}
	if holder, ok := memberOf(source); ok {
		if seen[source] {
			return nil
		}
		seen[source] = true
		return f.oneMember(ctx, holder, source)
	}
	paths, passed, err := expand(source)
	if err != nil {
		return err
	}
	f.Hidden += passed
	for _, path := range paths {
		if err := ctx.Err(); err != nil {
			return err
		}
		if clean := filepath.Clean(path); !seen[clean] {
			seen[clean] = true
			if err := f.add(ctx, path, path != source); err != nil {
				return err
			}
		}
	}
	return nil
}

// nothing is the error for sources that hold nothing to read.
func (f *Found) nothing(sources []string) error {
	shown := make([]string, len(sources))
	for i, s := range sources {
		shown[i] = Shown(s)
	}
	e := fault.New(fault.Input, "there is nothing to read in %s: %d empty and %d hidden files were passed over", strings.Join(shown, ", "), f.Empty, f.Hidden)
	if len(f.Passed) > 0 {
		return e.Try("the %s %s was passed over as well; to read it all the same, name what lies in it", f.Passed[0].What, f.Passed[0].Location)
	}
	return e.Try("name files that hold data")
}

// add takes one file, or everything below one folder.
func (f *Found) add(ctx context.Context, path string, matched bool) error {
	info, err := os.Stat(path)
	if err != nil {
		return missing(path, err)
	}
	if info.IsDir() {
		return f.below(ctx, path)
	}
	return f.file(ctx, path, info, matched)
}

// file takes one file, or the members of a zip archive. What is no regular file is kept in a temporary one first.
func (f *Found) file(ctx context.Context, path string, info fs.FileInfo, matched bool) error {
	switch {
	case !info.Mode().IsRegular(), info.Size() == 0 && givesBytes(path):
		return f.pipe(ctx, path)
	case info.Size() == 0:
		f.Empty++
		return nil
	case zipped(path):
		return f.members(path, info, matched)
	}
	object, err := File(path)
	object.Matched = matched
	f.Objects = append(f.Objects, object)
	return err
}

// givesBytes reports whether a file that claims to have none has some, as those do that the system makes when they are read.
func givesBytes(path string) bool {
	file, err := os.Open(path)
	if err != nil {
		return false
	}
	defer file.Close()
	n, _ := file.Read(make([]byte, 1))
	return n > 0
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

// hidden reports whether a name is one that is passed over. Steps upward, which members of archives may have, hide nothing.
func hidden(name string) bool {
	return (strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_")) && name != "." && name != ".."
}

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
