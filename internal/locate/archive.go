package locate

import (
	"archive/zip"
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"trevak/internal/fault"
	"trevak/internal/sheet"
	"trevak/internal/storage"
)

// mostMembers bounds how many members of a zip archive are listed.
const mostMembers = 100_000

// members takes the files in a zip archive.
func (f *Found) members(ctx context.Context, object storage.Object, matched bool) error {
	path := object.URI
	a := &archive{stored: stored{f.store, object, path}}
	if err := a.hold(ctx); err != nil {
		return err
	}
	defer a.release()
	contents, err := zip.NewReader(a, object.Size)
	if err != nil {
		return fault.New(fault.Input, "is no whole zip archive: %s", err).In(path).Try("ask the sender for a whole copy")
	}
	if len(contents.File) > mostMembers {
		return fault.New(fault.Input, "is a zip archive with %d members, more than %d", len(contents.File),
			mostMembers).In(path).Try("unpack it first")
	}
	if sheet.IsBook(contents) {
		return f.sheets(a, contents, matched)
	}
	spans := make([]span, 0, len(contents.File))
	slices.SortStableFunc(contents.File, func(a, b *zip.File) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range contents.File {
		at, err := m.DataOffset()
		if err != nil {
			return fault.New(fault.Input, "is no whole zip archive: the member %s: %s", fault.Quote(m.Name),
				err).In(path).Try("ask the sender for a whole copy")
		}
		spans = append(spans, span{at, at + int64(m.CompressedSize64)})
		location := path + "!" + m.Name
		switch {
		case m.FileInfo().IsDir():
		case m.Mode()&fs.ModeSymlink != 0:
			// A link is the path that it leads to, not a file.
			f.Passed = append(f.Passed, Passed{location, "link"})
		case slices.ContainsFunc(strings.Split(m.Name, "/"), hidden):
			f.Hidden++
		case m.UncompressedSize64 == 0:
			f.Empty++
		default:
			f.Objects = append(f.Objects, Object{Location: location, Size: int64(m.CompressedSize64), Modified: m.Modified,
				Matched: matched || len(contents.File) > 1,
				source:  archived{a, m, location}})
		}
	}
	return disjoint(path, spans)
}

// archive is a zip file that is open while members of it are read.
type archive struct {
	stored
	mutex  sync.Mutex
	opened storage.File
	users  int
}

// hold opens the file, if it is still at the version that was listed; release ends that.
func (a *archive) hold(ctx context.Context) error {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if a.users == 0 {
		var err error
		if a.opened, err = a.file(ctx); err != nil {
			return err
		}
	}
	a.users++
	return nil
}

func (a *archive) release() error {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if a.users--; a.users > 0 {
		return nil
	}
	return a.opened.Close()
}

// ReadAt reads the file while it is held.
func (a *archive) ReadAt(p []byte, offset int64) (int, error) { return a.opened.ReadAt(p, offset) }

// archived is a member of a zip archive. Its bytes are given unpacked.
type archived struct {
	archive  *archive
	file     *zip.File
	location string
}

func (a archived) open(ctx context.Context) (reader, error) {
	return a.archive.part(ctx, func() (io.ReadCloser, error) {
		r, err := a.file.Open()
		if err != nil {
			return nil, fault.New(fault.Input, "cannot be unpacked: %s", err).In(a.location).Try("ask the sender for a whole copy")
		}
		return r, nil
	})
}

// part opens a part of the archive, which is held until that is closed.
func (a *archive) part(ctx context.Context, open func() (io.ReadCloser, error)) (reader, error) {
	if err := a.hold(ctx); err != nil {
		return nil, err
	}
	r, err := open()
	if err != nil {
		a.release()
		return nil, err
	}
	return member{r, a}, nil
}

// member releases its archive when it is closed.
type member struct {
	io.ReadCloser
	archive *archive
}

func (m member) Unchanged() error { return m.archive.opened.Unchanged() }

func (m member) Close() error { return errors.Join(m.ReadCloser.Close(), m.archive.release()) }

// span is where the bytes of a member lie.
type span struct{ from, to int64 }

// disjoint refuses an archive in which members share bytes: a small one could then hold very much.
func disjoint(path string, spans []span) error {
	slices.SortFunc(spans, func(a, b span) int { return int(a.from - b.from) })
	for i := 1; i < len(spans); i++ {
		if spans[i].from < spans[i-1].to {
			return fault.New(fault.Input, "is a zip archive in which members overlap").In(path).Try("do not trust it; ask the sender " +
				"for a proper copy")
		}
	}
	return nil
}
