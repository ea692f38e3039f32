package locate

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// spool keeps what standard input gives.
func (f *Found) spool(ctx context.Context, stdin io.Reader) error {
	if stdin == nil {
		return fault.New(fault.Usage, "standard input is read, but there is none").Try("name a file, a folder or a pattern")
	}
	for _, o := range f.Objects {
		if o.Location == "-" {
			return nil
		}
	}
	return f.keep(ctx, "-", func() (io.ReadCloser, error) { return io.NopCloser(stdin), nil })
}

// pipe keeps what a pipe, a socket or a device gives: it can be read once only, and says nothing of its size.
func (f *Found) pipe(ctx context.Context, object storage.Object) error {
	return f.keep(ctx, object.URI, func() (io.ReadCloser, error) { return f.store.Open(ctx, object) })
}

// keep copies what cannot be read twice to a temporary file that vanishes with the program.
func (f *Found) keep(ctx context.Context, location string, open func() (io.ReadCloser, error)) error {
	wrong := func(err error) error {
		if errors.Is(err, context.Canceled) {
			return err
		}
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return explained(ctx, f.store, location, err)
		}
		e := fault.New(fault.Storage, "cannot be kept in a temporary file").In(shownName(location)).Try("make room in %s, or name "+
			"another folder with TMPDIR", storage.ScratchFolder())
		e.Cause = err
		return e
	}
	file, err := storage.NewScratch("")
	if err != nil {
		return wrong(err)
	}
	size, err := Await(ctx, func() (int64, error) {
		from, err := open()
		if err != nil {
			return 0, err
		}
		defer from.Close()
		return io.Copy(file, from)
	})
	if err != nil {
		return wrong(err)
	}
	if size == 0 {
		file.Close()
		f.Empty++
		return nil
	}
	f.Objects = append(f.Objects, Object{Location: location, Size: size, Modified: time.Now(), source: spooled{file, size}})
	return nil
}

// shownName is what standard input is called in messages.
func shownName(location string) string {
	if location == "-" {
		return "standard input"
	}
	return location
}

// Await calls a function that may wait for another program, and returns early when the context ends. The function is then left
// behind: nothing can wake what waits for a pipe that nobody writes to but the end of the program.
func Await[T any](ctx context.Context, f func() (T, error)) (T, error) {
	type outcome struct {
		value T
		err   error
	}
	done := make(chan outcome, 1)
	go func() {
		value, err := f()
		done <- outcome{value, err}
	}()
	select {
	case o := <-done:
		return o.value, o.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}
