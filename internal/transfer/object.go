package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"github.com/zeebo/xxh3"

	"trevak/internal/fault"
	"trevak/internal/run"
	"trevak/internal/storage"
)

// atOnce is how many objects are copied at a time: as many as there are workers, or more where answers take a while.
func atOnce(s storage.Store, uri string, b run.Budget) int {
	return max(1, b.Workers, min(16, storage.InFlight(s, uri)))
}

// object copies an object, and reads both back: the hash of what is there is that of what was copied. One that was copied before is
// kept; one that lies in its place and is another is replaced. A size below 0 is not known.
func object(ctx context.Context, from storage.Store, uri string, size int64, to storage.Store, place string) (kept bool, err error) {
	source, err := from.Stat(ctx, uri)
	if err != nil {
		return false, lost(uri, err)
	}
	if size >= 0 && source.Size >= 0 && source.Size != size {
		return false, lost(uri, fmt.Errorf("it has %d bytes, and the table says %d", source.Size, size))
	}
	if there, err := to.Stat(ctx, place); err == nil && there.Size == source.Size {
		same, err := alike(ctx, from, source, to, there)
		if same || err != nil {
			return same, err
		}
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, lost(place, err)
	}
	w, err := to.Create(ctx, place, storage.Creation{Mode: storage.Replace, Durable: true})
	if err != nil {
		return false, lost(place, err)
	}
	sum, err := copied(ctx, from, source, w)
	if err != nil {
		w.Abort()
		return false, lost(uri, err)
	}
	if err := w.Commit(); err != nil {
		return false, lost(place, err)
	}
	back, err := to.Stat(ctx, place)
	if err != nil {
		return false, lost(place, err)
	}
	again, err := copied(ctx, to, back, io.Discard)
	if err != nil {
		return false, lost(place, err)
	}
	if again != sum {
		return false, fault.New(fault.Storage, "is not as what it was copied from, %s", uri).In(place).
			Try("look at the disk; nothing was committed")
	}
	return false, storage.Sync(ctx, to, storage.Dir(place))
}

// object copies an object of the table, and counts it.
func (c *Copied) object(ctx context.Context, from storage.Store, uri string, size int64, to storage.Store, place string) error {
	kept, err := object(ctx, from, uri, size, to, place)
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if kept {
		c.Kept++
	} else {
		c.made = append(c.made, place)
	}
	return err
}

// alike reports whether two objects have the same bytes.
func alike(ctx context.Context, from storage.Store, a storage.Object, to storage.Store, b storage.Object) (bool, error) {
	one, err := copied(ctx, from, a, io.Discard)
	if err != nil {
		return false, lost(a.URI, err)
	}
	other, err := copied(ctx, to, b, io.Discard)
	if err != nil {
		return false, lost(b.URI, err)
	}
	return one == other, nil
}

func lost(uri string, err error) error {
	return fault.Wrap(fault.Storage, err, "copying %s", uri)
}

// copied copies an object, and returns the hash of its bytes.
func copied(ctx context.Context, s storage.Store, o storage.Object, to io.Writer) (sum xxh3.Uint128, err error) {
	in, err := s.Open(ctx, o)
	if err != nil {
		return sum, err
	}
	defer in.Close()
	h := xxh3.New()
	buffer := make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return sum, err
		}
		k, err := in.Read(buffer)
		// A hash never fails to take bytes.
		_, _ = h.Write(buffer[:k])
		if _, failed := to.Write(buffer[:k]); failed != nil {
			return sum, failed
		}
		if errors.Is(err, io.EOF) {
			return h.Sum128(), in.Unchanged()
		}
		if err != nil {
			return sum, err
		}
	}
}
