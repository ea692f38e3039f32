package storage

import (
	"context"
	"errors"
	"io"
	"sync"
)

// Fetched is stores whose objects are fetched once, however often they are opened: those of stores that are not the local disk wait in
// temporary files until Close.
type Fetched struct {
	Stores
	mutex sync.Mutex
	kept  map[string]*fetch
}

// fetch is an object that is fetched, or was.
type fetch struct {
	once sync.Once
	file *Scratch
	size int64
	err  error
}

// Fetch has objects of stores fetched once. Others than Stores stay as they are.
func Fetch(s Store) (out Store, end func()) {
	stores, ok := s.(Stores)
	if !ok {
		return s, func() {}
	}
	f := &Fetched{Stores: Stores{}, kept: map[string]*fetch{}}
	for scheme, one := range stores {
		if scheme == "" {
			f.Stores[scheme] = one
			continue
		}
		with := fetching{one, f}
		flat, isFlat := one.(Flat)
		far, isFar := one.(Far)
		if f.Stores[scheme] = Store(with); isFlat && isFar {
			f.Stores[scheme] = fetchingKeys{with, flat, far}
		}
	}
	return f.Stores, f.close
}

// close gives up what was fetched.
func (f *Fetched) close() {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	for _, one := range f.kept {
		if one.file != nil {
			// It has no name, and nobody reads it any more.
			_ = one.file.Close()
		}
	}
	f.kept = map[string]*fetch{}
}

// fetching is a store whose objects are fetched once.
type fetching struct {
	Store
	all *Fetched
}

// fetchingKeys is one that has no folders.
type fetchingKeys struct {
	fetching
	Flat
	Far
}

// Open opens an object that was fetched, or fetches it first.
func (f fetching) Open(ctx context.Context, o Object) (File, error) {
	key := o.URI + "\n" + o.Version.String()
	f.all.mutex.Lock()
	one := f.all.kept[key]
	if one == nil {
		one = &fetch{}
		f.all.kept[key] = one
	}
	f.all.mutex.Unlock()
	one.once.Do(func() { one.file, one.size, one.err = f.fetch(ctx, o) })
	if one.err != nil {
		// Who comes next may be luckier.
		f.all.mutex.Lock()
		if f.all.kept[key] == one {
			delete(f.all.kept, key)
		}
		f.all.mutex.Unlock()
		return nil, one.err
	}
	return fetchedFile{io.NewSectionReader(one.file, 0, one.size)}, nil
}

func (f fetching) fetch(ctx context.Context, o Object) (*Scratch, int64, error) {
	from, err := f.Store.Open(ctx, o)
	if err != nil {
		return nil, 0, err
	}
	defer from.Close()
	to, err := NewScratch("")
	if err != nil {
		return nil, 0, err
	}
	n, err := io.Copy(to, from)
	if err == nil {
		err = from.Unchanged()
	}
	if err != nil {
		return nil, 0, errors.Join(err, to.Close())
	}
	return to, n, nil
}

// fetchedFile reads an object that was fetched, and is at its version whatever becomes of it.
type fetchedFile struct{ *io.SectionReader }

func (fetchedFile) Unchanged() error { return nil }

func (fetchedFile) Close() error { return nil }
