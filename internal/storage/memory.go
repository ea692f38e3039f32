package storage

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Memory is a store in memory, in which folders are but the beginnings of names, as in object stores.
type Memory struct {
	mutex   sync.Mutex
	objects map[string]kept
	locks   map[string]chan struct{}
	count   int
}

// kept is an object in memory.
type kept struct {
	content []byte
	version Version
}

// NewMemory returns an empty store.
func NewMemory() *Memory {
	return &Memory{objects: map[string]kept{}, locks: map[string]chan struct{}{}}
}

func wrong(op, uri string, err error) error { return &fs.PathError{Op: op, Path: uri, Err: err} }

// List lists what names have behind that of a folder.
func (m *Memory) List(_ context.Context, folder string) ([]Entry, error) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	prefix := Clean(folder) + "/"
	found := map[string]Entry{}
	for uri := range m.objects {
		rest, ok := strings.CutPrefix(uri, prefix)
		if !ok {
			continue
		}
		name, _, deeper := strings.Cut(rest, "/")
		e := Entry{URI: prefix + name, Name: name}
		if deeper {
			e.Kind = Folder
		}
		found[name] = e
	}
	if len(found) == 0 {
		return nil, wrong("list", folder, fs.ErrNotExist)
	}
	var out []Entry
	for _, e := range found {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Stat tells of an object, or of the folder that some lie in.
func (m *Memory) Stat(_ context.Context, uri string) (Object, error) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	uri = Clean(uri)
	if o, ok := m.objects[uri]; ok {
		return Object{URI: uri, Version: o.version}, nil
	}
	for other := range m.objects {
		if strings.HasPrefix(other, uri+"/") {
			return Object{URI: uri, Kind: Folder}, nil
		}
	}
	return Object{}, wrong("stat", uri, fs.ErrNotExist)
}

// Open opens an object, if it is what was listed.
func (m *Memory) Open(_ context.Context, o Object) (File, error) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	now, ok := m.objects[o.URI]
	if !ok {
		return nil, wrong("open", o.URI, fs.ErrNotExist)
	}
	f := &memoryFile{bytes.NewReader(now.content), m, o}
	if !now.version.Equal(o.Version) {
		return nil, changed("it had %s, and now has %s", o.Version, now.version)
	}
	return f, nil
}

// memoryFile reads an object as it was when it was opened.
type memoryFile struct {
	*bytes.Reader
	store  *Memory
	listed Object
}

func (f *memoryFile) Close() error { return nil }

func (f *memoryFile) Unchanged() error {
	now, err := f.store.Stat(context.Background(), f.listed.URI)
	if err == nil && !now.Version.Equal(f.listed.Version) {
		err = changed("it had %s, and now has %s", f.listed.Version, now.Version)
	}
	return err
}

// Create begins an object, which is there when it is committed.
func (m *Memory) Create(_ context.Context, uri string, c Creation) (Writer, error) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	uri = Clean(uri)
	if _, there := m.objects[uri]; there && c.Mode == Exclusive {
		return nil, wrong("create", uri, fs.ErrExist)
	}
	return &memoryWriter{store: m, uri: uri, mode: c.Mode}, nil
}

type memoryWriter struct {
	bytes.Buffer
	store *Memory
	uri   string
	mode  Mode
	ended bool
}

func (w *memoryWriter) Commit() error {
	w.store.mutex.Lock()
	defer w.store.mutex.Unlock()
	if w.ended {
		return fs.ErrClosed
	}
	w.ended = true
	if _, there := w.store.objects[w.uri]; there && w.mode == Exclusive {
		return wrong("create", w.uri, fs.ErrExist)
	}
	w.store.count++
	w.store.objects[w.uri] = kept{bytes.Clone(w.Bytes()),
		Version{Size: int64(w.Len()), Modified: time.Now(), Tag: strconv.Itoa(w.store.count)}}
	return nil
}

func (w *memoryWriter) Abort() error {
	w.ended = true
	return nil
}

// Remove removes an object. Folders are gone with the last object in them.
func (m *Memory) Remove(_ context.Context, uri string) error {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	uri = Clean(uri)
	if _, ok := m.objects[uri]; !ok {
		return wrong("remove", uri, fs.ErrNotExist)
	}
	delete(m.objects, uri)
	return nil
}

// Canonical returns a URI without steps that lead nowhere.
func (m *Memory) Canonical(uri string) (string, error) {
	if Scheme(uri) == "" {
		return "", fmt.Errorf("%q has no scheme", uri)
	}
	head, tail := split(uri)
	if tail = path.Clean("/" + tail); tail == "/" {
		return head, nil
	}
	return head + tail, nil
}

// Lock locks a name among the users of this store.
func (m *Memory) Lock(ctx context.Context, uri string, wait bool) (func(), error) {
	m.mutex.Lock()
	lock, ok := m.locks[uri]
	if !ok {
		lock = make(chan struct{}, 1)
		m.locks[uri] = lock
	}
	m.mutex.Unlock()
	release := func() { <-lock }
	if !wait {
		select {
		case lock <- struct{}{}:
			return release, nil
		default:
			return nil, ErrLocked
		}
	}
	select {
	case lock <- struct{}{}:
		return release, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

var _ io.ReaderAt = (*memoryFile)(nil)
