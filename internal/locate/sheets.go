package locate

import (
	"archive/zip"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/sheet"
)

// sheets takes the sheets of a workbook that has rows. The archive is held.
func (f *Found) sheets(a *archive, contents *zip.Reader, info fs.FileInfo, matched bool) error {
	book, err := sheet.NewBook(contents)
	if err != nil {
		return inWorkbook(err, a.path)
	}
	for _, s := range book.Sheets {
		location := a.path + "!" + s.Name
		if s.Hidden {
			f.Passed = append(f.Passed, Passed{location, "hidden sheet"})
			continue
		}
		some, err := hasRows(s)
		switch {
		case err != nil:
			return inWorkbook(err, location)
		case !some:
			f.Empty++
		default:
			f.Objects = append(f.Objects, Object{Location: location, Size: s.Size, Modified: info.ModTime(), Matched: matched || len(book.Sheets) > 1, Sheet: true, store: sheeted{a, s, location}})
		}
	}
	return nil
}

// inWorkbook names the workbook in an error about it.
func inWorkbook(err error, location string) error {
	var e *fault.Error
	if errors.As(err, &e) {
		if e.WayOut == "" {
			e.WayOut = "ask the sender for a whole copy"
		}
		return e.In(location)
	}
	return err
}

// hasRows reports whether a sheet has a row with a value.
func hasRows(s sheet.Sheet) (bool, error) {
	r, err := s.Rows()
	if err != nil {
		return false, err
	}
	defer r.Close()
	some := make([]byte, 4096)
	for {
		n, err := r.Read(some)
		if strings.Trim(string(some[:n]), "[]\n") != "" {
			return true, nil
		}
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
	}
}

// sheeted is a sheet of a workbook. Its bytes are its rows as lines of JSON.
type sheeted struct {
	archive  *archive
	sheet    sheet.Sheet
	location string
}

func (s sheeted) open(context.Context) (reader, error) {
	return s.archive.part(func() (io.ReadCloser, error) {
		r, err := s.sheet.Rows()
		if err != nil {
			return nil, inWorkbook(err, s.location)
		}
		return r, nil
	})
}

// memberOf splits what names a member of an archive, or a sheet of a workbook, as in depths.xlsx!Spring, into the archive and that.
func memberOf(source string) (holder string, ok bool) {
	if _, err := os.Lstat(source); err == nil {
		return "", false
	}
	holder, _, ok = strings.Cut(source, "!")
	return holder, ok && zipped(holder)
}

// oneMember takes one member of an archive.
func (f *Found) oneMember(ctx context.Context, holder, source string) error {
	var all Found
	if err := all.add(ctx, holder, false); err != nil {
		return err
	}
	at := slices.IndexFunc(all.Objects, func(o Object) bool { return o.Location == source })
	if at < 0 {
		var names []string
		for _, o := range all.Objects[:min(len(all.Objects), 5)] {
			names = append(names, "'"+o.Location+"'")
		}
		return fault.New(fault.Storage, "there is no %s", fault.Quote(source)).Try("name one of its parts: %s", strings.Join(names, ", "))
	}
	object := all.Objects[at]
	object.Matched = false
	f.Objects = append(f.Objects, object)
	return nil
}
