package storage_test

import (
	"context"
	"io"
	"strings"
	"sync"
	"testing"

	"trevak/internal/storage"
)

// counted counts how often its objects are opened.
type counted struct {
	*storage.Memory
	mutex sync.Mutex
	opens int
}

func (c *counted) Open(ctx context.Context, o storage.Object) (storage.File, error) {
	c.mutex.Lock()
	c.opens++
	c.mutex.Unlock()
	return c.Memory.Open(ctx, o)
}

// TestFetched opens an object many times at once, and it is fetched once.
func TestFetched(t *testing.T) {
	inner := &counted{Memory: storage.NewMemory()}
	text := strings.Repeat("tides of the sound\n", 10_000)
	if err := storage.WriteAll(t.Context(), inner, "mem://harbour/a.csv", []byte(text), storage.Creation{}); err != nil {
		t.Fatal(err)
	}
	s, end := storage.Fetch(storage.Stores{"": storage.Disk{}, "mem": inner})
	defer end()
	o, err := s.Stat(t.Context(), "mem://harbour/a.csv")
	if err != nil {
		t.Fatal(err)
	}
	var running sync.WaitGroup
	for range 8 {
		running.Go(func() {
			f, err := s.Open(t.Context(), o)
			if err != nil {
				t.Error(err)
				return
			}
			defer f.Close()
			got, err := io.ReadAll(f)
			part := make([]byte, 5)
			if _, failed := f.ReadAt(part, 6); failed != nil || err != nil || string(got) != text || string(part) != "of th" || f.Unchanged() != nil {
				t.Errorf("%d bytes, %q, %v, %v", len(got), part, err, failed)
			}
		})
	}
	running.Wait()
	if inner.opens != 1 {
		t.Errorf("opened %d times", inner.opens)
	}
	missing := o
	missing.URI = "mem://harbour/none.csv"
	if _, err := s.Open(t.Context(), missing); err == nil {
		t.Error("what is not there was opened")
	}
	plain := storage.NewMemory()
	if same, _ := storage.Fetch(plain); same != storage.Store(plain) {
		t.Error("a single store was changed")
	}
}
