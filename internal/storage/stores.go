package storage

import (
	"context"

	"trevak/internal/fault"
)

// Stores is several stores as one: each URI goes to the store of its scheme, paths and file URLs to that of the empty one.
type Stores map[string]Store

// Standard are the stores of the program: the local disk, and HTTP and HTTPS as is said.
func Standard(w Web) Stores {
	web := NewHTTP(w)
	return Stores{"": Disk{}, "http": web, "https": web}
}

// of returns the store that a URI belongs to.
func of(s Store, uri string) Store {
	stores, ok := s.(Stores)
	if !ok {
		return s
	}
	scheme := Scheme(uri)
	if scheme == "file" {
		scheme = ""
	}
	if store, ok := stores[scheme]; ok {
		return store
	}
	return unknown(scheme)
}

// Has reports whether URIs of a scheme belong to a store here.
func (s Stores) Has(scheme string) bool {
	_, ok := s[scheme]
	return ok
}

// List lists a folder of the store that it belongs to.
func (s Stores) List(ctx context.Context, folder string) ([]Entry, error) {
	return of(s, folder).List(ctx, folder)
}

// Stat tells of an object of the store that it belongs to.
func (s Stores) Stat(ctx context.Context, uri string) (Object, error) {
	return of(s, uri).Stat(ctx, uri)
}

// Open opens an object of the store that it belongs to.
func (s Stores) Open(ctx context.Context, o Object) (File, error) { return of(s, o.URI).Open(ctx, o) }

// Create begins an object in the store that it belongs to.
func (s Stores) Create(ctx context.Context, uri string, c Creation) (Writer, error) {
	return of(s, uri).Create(ctx, uri, c)
}

// Remove removes an object of the store that it belongs to.
func (s Stores) Remove(ctx context.Context, uri string) error { return of(s, uri).Remove(ctx, uri) }

// Canonical spells a URI as the store that it belongs to does.
func (s Stores) Canonical(uri string) (string, error) { return of(s, uri).Canonical(uri) }

// unknown stands for the store of a scheme that there is none for.
type unknown string

func (u unknown) err(uri string) error {
	return fault.New(fault.Usage, "%s: what lies behind %s:// is not reached from here", Shown(uri), string(u)).
		Try("name a place on the disk or in a store, like s3://, gs:// or az://, or, to read from it, an address that begins with https://")
}

func (u unknown) List(_ context.Context, uri string) ([]Entry, error) { return nil, u.err(uri) }
func (u unknown) Stat(_ context.Context, uri string) (Object, error)  { return Object{}, u.err(uri) }
func (u unknown) Open(_ context.Context, o Object) (File, error)      { return nil, u.err(o.URI) }
func (u unknown) Create(_ context.Context, uri string, _ Creation) (Writer, error) {
	return nil, u.err(uri)
}
func (u unknown) Remove(_ context.Context, uri string) error { return u.err(uri) }
func (u unknown) Canonical(uri string) (string, error)       { return uri, u.err(uri) }
