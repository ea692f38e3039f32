package locate

import (
	"archive/zip"
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/sheet"
	"trevak/internal/storage"
)

// sheets takes the sheets of a workbook that has rows. The archive is held.
func (f *Found) sheets(a *archive, contents *zip.Reader, matched bool) error {
	book, err := sheet.NewBook(contents)
	if err != nil {
		return inWorkbook(err, a.location)
	}
	for _, s := range book.Sheets {
		location := a.location + "!" + s.Name
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
			f.Objects = append(f.Objects, Object{Location: location, Size: s.Size, Modified: a.object.Modified, Matched: matched ||
				len(book.Sheets) > 1, Sheet: true, source: sheeted{a, s, location}})
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

func (s sheeted) open(ctx context.Context) (reader, error) {
	return s.archive.part(ctx, func() (io.ReadCloser, error) {
		r, err := s.sheet.Rows()
		if err != nil {
			return nil, inWorkbook(err, s.location)
		}
		return r, nil
	})
}

// memberOf splits what names a member of an archive, or a sheet of a workbook, as in depths.xlsx!Spring, into the archive and that.
func (f *Found) memberOf(ctx context.Context, source string) (holder string, ok bool) {
	if storage.Exists(ctx, f.store, source) {
		return "", false
	}
	if holder, _, ok = strings.Cut(source, "!"); !ok {
		return "", false
	}
	object, err := f.store.Stat(ctx, holder)
	return holder, err == nil && object.Kind == storage.Regular && f.zipped(ctx, object)
}

// oneMember takes one member of an archive.
func (f *Found) oneMember(ctx context.Context, holder, source string) error {
	all := Found{store: f.store}
	if err := all.add(ctx, storage.Entry{URI: holder}, false); err != nil {
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
