package storage

import (
	"context"
	"strings"
)

// Diverted is a store in which what is said to lie in one folder is looked for in another, where it was moved to.
type Diverted struct {
	Store
	from, to string
}

// NewDiverted makes a store that looks for what lies below one URI below another; both are canonical.
func NewDiverted(s Store, from, to string) *Diverted { return &Diverted{s, Clean(from), Clean(to)} }

func (d *Diverted) at(uri string) string {
	if uri == d.from {
		return d.to
	}
	if rest, ok := strings.CutPrefix(uri, d.from+"/"); ok {
		return d.to + "/" + rest
	}
	return uri
}

// List lists the folder where it lies.
func (d *Diverted) List(ctx context.Context, folder string) ([]Entry, error) {
	return d.Store.List(ctx, d.at(folder))
}

// Stat tells of an object where it lies.
func (d *Diverted) Stat(ctx context.Context, uri string) (Object, error) {
	return d.Store.Stat(ctx, d.at(uri))
}

// Open opens an object where it lies.
func (d *Diverted) Open(ctx context.Context, o Object) (File, error) {
	o.URI = d.at(o.URI)
	return d.Store.Open(ctx, o)
}
