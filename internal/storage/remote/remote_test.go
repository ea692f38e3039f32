package remote

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/storagetest"
)

// shelf is a bucket in memory, with troubles.
type shelf struct {
	mutex   sync.Mutex
	objects map[string]kept
	uploads map[string]*upload
	now     int
	// pageSize is how many entries a listing has at once; cutEvery ends one of so many answers early, loseEvery carries out one of so many
	// writes and loses the answer; asked counts requests.
	pageSize, cutEvery, loseEvery int
	asked                         map[string]int
}

type kept struct {
	data []byte
	told Told
}

type upload struct {
	key   string
	how   How
	parts map[int][]byte
}

var errLost = errors.New("the answer was lost")

func newShelf() *shelf {
	return &shelf{objects: map[string]kept{}, uploads: map[string]*upload{}, pageSize: 1000, asked: map[string]int{}}
}

// at counts a request, and reports whether it is one of so many.
func (s *shelf) at(request string, every int) bool {
	s.asked[request]++
	return every > 0 && s.asked[request]%every == 0
}

func (s *shelf) Base() string { return "shelf://orrin" }

func (s *shelf) Stat(_ context.Context, key string) (Told, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.at("stat", 0)
	o, ok := s.objects[key]
	if !ok {
		return Told{}, fs.ErrNotExist
	}
	return o.told, nil
}

func (s *shelf) Page(_ context.Context, prefix string, deep bool, token string, most int) (out Page, err error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.at("page", 0)
	size := s.pageSize
	if most > 0 {
		size = min(size, most)
	}
	for _, key := range slices.Sorted(maps.Keys(s.objects)) {
		if !strings.HasPrefix(key, prefix) || key <= token {
			continue
		}
		folder := ""
		if at := strings.IndexByte(key[len(prefix):], '/'); !deep && at >= 0 {
			folder = key[:len(prefix)+at+1]
			if strings.HasPrefix(token, folder) || len(out.Folders) > 0 && out.Folders[len(out.Folders)-1] == folder {
				continue
			}
		}
		if len(out.Objects)+len(out.Folders) == size {
			return out, nil
		}
		if folder != "" {
			// What follows in the folder is passed over with it.
			out.Folders, out.Next = append(out.Folders, folder), folder+"\xff"
		} else {
			out.Objects, out.Next = append(out.Objects, Listed{key, s.objects[key].told.Version}), key
		}
	}
	out.Next = ""
	return out, nil
}

func (s *shelf) Get(_ context.Context, key string, at storage.Version, from, size int64) (io.ReadCloser, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	o, ok := s.objects[key]
	switch {
	case !ok:
		return nil, fs.ErrNotExist
	case at.Tag != o.told.Tag:
		return nil, Changed
	}
	piece := o.data[from : from+size]
	if s.at("get", s.cutEvery) {
		return io.NopCloser(io.MultiReader(bytes.NewReader(piece[:len(piece)/2]), failing{})), nil
	}
	return io.NopCloser(bytes.NewReader(piece)), nil
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// place puts an object in its place.
func (s *shelf) place(key string, data []byte, how How) error {
	if _, there := s.objects[key]; there && how.Exclusive {
		return Changed
	}
	s.now++
	v := storage.Version{Size: int64(len(data)), Modified: time.Unix(int64(s.now), 0), Tag: fmt.Sprint(s.now)}
	s.objects[key] = kept{data, Told{v, how.Mark}}
	if s.at("write", s.loseEvery) {
		return errLost
	}
	return nil
}

func (s *shelf) Put(_ context.Context, key string, body io.ReaderAt, size int64, how How) error {
	data, err := io.ReadAll(io.NewSectionReader(body, 0, size))
	if err != nil || int64(len(data)) != size {
		return fmt.Errorf("%d bytes of %d, %w", len(data), size, err)
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.place(key, data, how)
}

func (s *shelf) Begin(_ context.Context, key string, how How) (string, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.now++
	id := fmt.Sprint("upload ", s.now)
	s.uploads[id] = &upload{key, how, map[int][]byte{}}
	return id, nil
}

func (s *shelf) Part(_ context.Context, _, id string, p Part) (string, error) {
	data, err := io.ReadAll(p.Reader())
	if err != nil || int64(len(data)) != p.Size {
		return "", fmt.Errorf("%d bytes of %d, %w", len(data), p.Size, err)
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.uploads[id].parts[p.Number] = data
	return fmt.Sprint(p.Number), nil
}

func (s *shelf) Finish(ctx context.Context, key, id string, sent []Sent, last Part, how How) error {
	if last.Size > 0 {
		tag, err := s.Part(ctx, key, id, last)
		if err != nil {
			return err
		}
		sent = append(sent, Sent{last.Number, tag})
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	var data []byte
	for i, p := range sent {
		if p.Number != i+1 {
			return fmt.Errorf("part %d comes at place %d", p.Number, i+1)
		}
		data = append(data, s.uploads[id].parts[p.Number]...)
	}
	delete(s.uploads, id)
	return s.place(key, data, how)
}

func (s *shelf) Abort(_ context.Context, _, id string) error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	delete(s.uploads, id)
	return nil
}

func (s *shelf) Remove(_ context.Context, key string) error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	delete(s.objects, key)
	return nil
}

func (s *shelf) Explain(key string, right Right, err error) error {
	if errors.Is(err, fs.ErrNotExist) || !Untold(err) {
		return err
	}
	e := fault.New(fault.Storage, "right %d", right).In(s.Base() + "/" + key)
	e.Cause = err
	return e
}

func (s *shelf) Final(err error) bool { return errors.Is(err, fs.ErrNotExist) }

func (s *shelf) Address() string { return "shelf" }

func (s *shelf) Denied(error) bool { return false }

// turning is a shelf that takes parts one after the other, and counts those that come out of turn.
type turning struct {
	*shelf
	OneAfterTheOther
	t    *testing.T
	next int
}

func (s *turning) Part(ctx context.Context, key, id string, p Part) (string, error) {
	s.mutex.Lock()
	s.next++
	if p.Number == 1 {
		s.next = 1
	}
	if p.Number != s.next {
		s.t.Errorf("part %d comes when %d is next", p.Number, s.next)
	}
	s.mutex.Unlock()
	return s.shelf.Part(ctx, key, id, p)
}

// stores makes the store of a bucket.
func stores(b Bucket, memory int64) storage.Stores {
	return storage.Stores{"shelf": New(Options{Memory: memory, Locate: func(uri string) (Bucket, string, error) {
		return b, strings.TrimPrefix(strings.TrimPrefix(uri, "shelf://orrin"), "/"), nil
	}})}
}

func TestStoresKeepPromises(t *testing.T) {
	for name, b := range map[string]Bucket{"at once": newShelf(), "in turn": &turning{shelf: newShelf(), t: t},
		"in small pages": &shelf{objects: map[string]kept{}, uploads: map[string]*upload{}, pageSize: 1, asked: map[string]int{}},
		"in trouble": &shelf{objects: map[string]kept{}, uploads: map[string]*upload{}, pageSize: 2, cutEvery: 5, loseEvery: 2,
			asked: map[string]int{}}} {
		t.Run(name, func(t *testing.T) {
			storagetest.Hold(t, stores(b, 0), "shelf://orrin/a")
			storagetest.Large(t, stores(b, 1<<20), "shelf://orrin/b")
			left := 0
			if s, ok := b.(*shelf); ok {
				left = len(s.uploads)
			}
			if left > 0 {
				t.Errorf("%d uploads are left", left)
			}
		})
	}
}

// TestListingsThatAreCut asks a bucket that lists a part and does not say how to go on.
func TestListingsThatAreCut(t *testing.T) {
	_, err := stores(&cutting{shelf: newShelf()}, 0).List(t.Context(), "shelf://orrin/a")
	if err == nil || !strings.Contains(err.Error(), "lists a part of what it has") {
		t.Errorf("%v", err)
	}
}

type cutting struct{ *shelf }

func (c *cutting) Page(context.Context, string, bool, string, int) (Page, error) {
	return Page{}, ErrCut
}

// TestSmallObjectsAreAskedForOnce reads an object as who looks at it, and then reads it, does.
func TestSmallObjectsAreAskedForOnce(t *testing.T) {
	b := newShelf()
	s := stores(b, 0)
	if err := storage.WriteAll(t.Context(), s, "shelf://orrin/a.csv", []byte("id\n1\n"), storage.Creation{}); err != nil {
		t.Fatal(err)
	}
	entries, err := s.List(t.Context(), "shelf://orrin")
	if err != nil || len(entries) != 1 || entries[0].Listed == nil {
		t.Fatal(entries, err)
	}
	for range 3 {
		f, err := s.Open(t.Context(), storage.Object{URI: entries[0].URI, Version: *entries[0].Listed})
		if err != nil {
			t.Fatal(err)
		}
		if text, err := io.ReadAll(f); string(text) != "id\n1\n" || err != nil {
			t.Errorf("%q, %v", text, err)
		}
		f.Close()
	}
	if b.asked["get"] != 1 || b.asked["page"] != 1 {
		t.Errorf("asked: %v", b.asked)
	}
}

// TestConditionsAreProven asks a bucket that keeps to conditions, and one that does not.
func TestConditionsAreProven(t *testing.T) {
	b := newShelf()
	s := stores(b, 0)
	for range 2 {
		if err := storage.ProveExclusive(t.Context(), s, "shelf://orrin/wh/.lock"); err != nil {
			t.Error(err)
		}
	}
	if b.now != 1 {
		t.Errorf("%d objects were written", b.now)
	}
	if err := storage.ProveExclusive(t.Context(), stores(&careless{newShelf()}, 0), "shelf://orrin/wh/.lock"); err == nil ||
		!strings.Contains(err.Error(), "replaces objects although it is asked not to") {
		t.Errorf("%v", err)
	}
}

type careless struct{ *shelf }

func (c *careless) Put(ctx context.Context, key string, body io.ReaderAt, size int64, how How) error {
	how.Exclusive = false
	return c.shelf.Put(ctx, key, body, size, how)
}
