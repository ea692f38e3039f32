package remote

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"trevak/internal/ahead"
	"trevak/internal/fault"
	"trevak/internal/storage"
)

// List lists what lies in a folder, with the versions of objects.
func (s *Store) List(ctx context.Context, folder string) ([]storage.Entry, error) {
	p, err := s.at(folder)
	if err != nil {
		return nil, err
	}
	prefix := p.key
	if prefix != "" {
		prefix += "/"
	}
	var out []storage.Entry
	base, marked := p.Base(), false
	err = p.pages(ctx, prefix, false, func(answer Page) error {
		for _, sub := range answer.Folders {
			key := strings.TrimSuffix(sub, "/")
			if name := strings.TrimPrefix(key, prefix); name != "" {
				out = append(out, storage.Entry{URI: join(base, key), Name: name, Kind: storage.Folder})
			}
		}
		for _, o := range answer.Objects {
			if e, ok := entryOf(base, o); ok {
				out = append(out, e)
			} else {
				marked = true
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(out) == 0 && !marked && p.key != "" {
		return nil, &fs.PathError{Op: "list", Path: storage.Shown(folder), Err: fs.ErrNotExist}
	}
	storage.SortEntries(out)
	return out, nil
}

// pages asks for all pages of a listing.
func (p place) pages(ctx context.Context, prefix string, deep bool, take func(Page) error) error {
	for token := ""; ; {
		if err := ctx.Err(); err != nil {
			return err
		}
		answer, err := p.Page(ctx, prefix, deep, token, 0)
		if errors.Is(err, ErrCut) {
			return cutListing(p.uri)
		}
		if err != nil {
			return p.explained(List, err)
		}
		if err := take(answer); err != nil || answer.Next == "" {
			return err
		}
		if answer.Next == token {
			return cutListing(p.uri)
		}
		token = answer.Next
	}
}

// cutListing is the error of a listing that does not end, or cannot be gone on with.
func cutListing(uri string) error {
	return fault.New(fault.Storage, "the store lists a part of what it has, and does not say how to go on").In(storage.Shown(uri)).
		Try("name the objects by narrower patterns, or use another store")
}

// Stat tells of an object, or of a folder where objects lie below the URI.
func (s *Store) Stat(ctx context.Context, uri string) (storage.Object, error) {
	p, err := s.at(uri)
	if err != nil {
		return storage.Object{}, err
	}
	var missing error
	if p.key != "" {
		told, err := p.Bucket.Stat(ctx, p.key)
		if err == nil {
			return storage.Object{URI: uri, Version: told.Version}, nil
		}
		missing = p.explained(Read, err)
	}
	prefix := ""
	if p.key != "" {
		prefix = p.key + "/"
	}
	answer, err := p.Page(ctx, prefix, false, "", 1)
	switch {
	case err != nil && missing != nil && !isMissing(missing) && p.Denied(err):
		return storage.Object{}, missing
	case err != nil:
		// An answer to a question for the head of an object has no room to say why; this one has.
		return storage.Object{}, p.explained(List, err)
	case missing != nil && !isMissing(missing):
		return storage.Object{}, missing
	}
	if len(answer.Objects)+len(answer.Folders) == 0 && p.key != "" {
		return storage.Object{}, missing
	}
	return storage.Object{URI: uri, Kind: storage.Folder}, nil
}

// listedTogether is how many folders are listed at a time.
const listedTogether = 16

// Below visits all objects whose URIs begin with a prefix, in the order of their keys. Where there are folders, they are listed side
// by side.
func (s *Store) Below(ctx context.Context, prefix string, visit func(storage.Entry) error) error {
	p, err := s.at(prefix)
	if err != nil {
		return err
	}
	base := p.Base()
	// The slash at the end of a prefix is a part of it.
	key := strings.TrimPrefix(strings.TrimPrefix(prefix, base), "/")
	// Each part is an object, or a folder to be listed.
	var parts []storage.Entry
	err = p.pages(ctx, key, false, func(answer Page) error {
		for _, sub := range answer.Folders {
			parts = append(parts, storage.Entry{URI: join(base, sub), Name: sub, Kind: storage.Folder})
		}
		for _, o := range answer.Objects {
			if e, ok := entryOf(base, o); ok {
				parts = append(parts, e)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortFunc(parts, func(a, b storage.Entry) int { return strings.Compare(a.URI, b.URI) })
	return ahead.Each(ctx, len(parts), listedTogether, 2, func(ctx context.Context, i int, send func([]storage.Entry) error) error {
		if parts[i].Kind != storage.Folder {
			return send(parts[i : i+1])
		}
		return p.pages(ctx, parts[i].Name, true, func(answer Page) error {
			var entries []storage.Entry
			for _, o := range answer.Objects {
				if e, ok := entryOf(base, o); ok {
					entries = append(entries, e)
				}
			}
			return send(entries)
		})
	}, func(_ int, entries []storage.Entry) error {
		for _, e := range entries {
			if err := visit(e); err != nil {
				return err
			}
		}
		return nil
	})
}

// entryOf is an object of a listing; ok is false for the empty object that stands for a folder.
func entryOf(base string, o Listed) (e storage.Entry, ok bool) {
	if strings.HasSuffix(o.Key, "/") && o.Size == 0 {
		return e, false
	}
	return storage.Entry{URI: join(base, o.Key), Name: o.Key[strings.LastIndexByte(o.Key, '/')+1:], Listed: &o.Version}, true
}
