package remote

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"sync"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// isMissing reports whether an error says that there is no such object.
func isMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// How large objects are read: in pieces, some of them ahead of who reads.
const (
	piece       = 4 << 20
	piecesAhead = 4
)

// Open opens an object at the version that it was listed at. Nothing is asked for before it is read.
func (s *Store) Open(ctx context.Context, o storage.Object) (storage.File, error) {
	p, err := s.at(o.URI)
	if err != nil {
		return nil, err
	}
	if o.Size < 0 {
		if o, err = s.Stat(ctx, o.URI); err != nil {
			return nil, err
		}
	}
	f := &file{place: p, object: o, heads: s.heads, patience: s.options.Patience}
	f.ctx, f.quit = context.WithCancel(ctx)
	return f, nil
}

// file reads an object.
type file struct {
	place
	object   storage.Object
	heads    *heads
	patience time.Duration
	ctx      context.Context
	quit     context.CancelFunc
	streams  streams
	offset   int64
	whole    []byte         // the piece that is read
	now      []byte         // what is left of it
	next     []chan fetched // pieces that are fetched, in order
	asked    int64          // where the next piece to be fetched begins
	err      error
}

// fetched is what became of a piece.
type fetched struct {
	data []byte
	err  error
}

// Read reads on, while pieces to come are fetched.
func (f *file) Read(b []byte) (int, error) {
	for len(f.now) == 0 {
		switch {
		case f.err != nil:
			return 0, f.err
		case f.offset >= f.object.Size:
			return 0, io.EOF
		}
		f.recycle()
		f.ahead()
		got := <-f.next[0]
		f.next = f.next[1:]
		if f.err = got.err; f.err == nil {
			f.whole, f.now = got.data, got.data
		}
	}
	n := copy(b, f.now)
	f.now, f.offset = f.now[n:], f.offset+int64(n)
	return n, nil
}

// pieces are the memory of pieces that were read, which is used again.
var pieces = sync.Pool{New: func() any { return new([piece]byte) }}

// room is memory for so many bytes.
func room(size int64) []byte {
	if size == piece {
		return pieces.Get().(*[piece]byte)[:0]
	}
	return make([]byte, 0, size)
}

// recycle gives the memory of the piece back that was read.
func (f *file) recycle() {
	if cap(f.whole) == piece {
		pieces.Put((*[piece]byte)(f.whole[:piece]))
	}
	f.whole = nil
}

// ahead has pieces fetched. The first is small, as it is all that many who open an object want of it.
func (f *file) ahead() {
	for len(f.next) < piecesAhead && f.asked < f.object.Size {
		from, size := f.asked, int64(piece)
		if from == 0 {
			size = headBytes
		}
		size = min(size, f.object.Size-from)
		to := make(chan fetched, 1)
		go func() {
			data, err := f.fetch(from, size)
			to <- fetched{data, err}
		}()
		f.next, f.asked = append(f.next, to), from+size
		if from == 0 && f.offset == 0 && len(f.next) == 1 {
			return
		}
	}
}

// fetch reads a piece of the object, going on where a connection broke.
func (f *file) fetch(from, size int64) ([]byte, error) {
	if from == 0 {
		if head := f.heads.get(f.object); int64(len(head)) >= size {
			return head[:size], nil
		}
	}
	data := room(size)
	var err error
	for try := range Tries {
		if try > 0 && !pause(f.ctx, try) {
			return nil, f.ctx.Err()
		}
		before := len(data)
		data, err = f.request(data, from, size)
		if err == nil {
			if from == 0 {
				f.heads.put(f.object, data)
			}
			return data, nil
		}
		if f.ctx.Err() != nil {
			return nil, f.ctx.Err()
		}
		if final(f.Bucket, err) && len(data) == before {
			break
		}
	}
	return nil, f.explained(Read, err)
}

// request asks for what is missing of a piece, and puts what comes behind what is there.
func (f *file) request(data []byte, from, size int64) ([]byte, error) {
	missing := size - int64(len(data))
	ctx, quit := context.WithCancelCause(f.ctx)
	defer quit(nil)
	body, err := f.Get(ctx, f.key, f.object.Version, from+int64(len(data)), missing)
	if err != nil {
		return data, err
	}
	defer body.Close()
	// A server that sends nothing more is not waited for.
	silence := time.AfterFunc(f.patience, func() { quit(errSilent) })
	defer silence.Stop()
	for missing > 0 {
		n, err := body.Read(data[len(data):min(int64(cap(data)), int64(len(data))+missing)])
		data, missing = data[:len(data)+n], missing-int64(n)
		if n > 0 {
			silence.Reset(f.patience)
		}
		if err != nil && missing > 0 {
			if cause := context.Cause(ctx); cause != nil && f.ctx.Err() == nil {
				return data, cause
			}
			return data, err
		}
	}
	return data, nil
}

var errSilent = errors.New("it sends nothing more")

// ReadAt reads a piece. Pieces that follow each other are fetched together.
func (f *file) ReadAt(b []byte, offset int64) (int, error) {
	if offset < 0 {
		return 0, fault.New(fault.Storage, "cannot be read from before its beginning").In(storage.Shown(f.uri))
	}
	size := min(int64(len(b)), f.object.Size-offset)
	if size <= 0 {
		return 0, io.EOF
	}
	if head := f.heads.get(f.object); head != nil && offset+size <= int64(len(head)) {
		copy(b, head[offset:offset+size])
	} else {
		s, largest := f.streams.at(offset)
		if err := s.read(b[:size], offset, largest, f.object.Size, f.fetch); err != nil {
			return 0, err
		}
	}
	if size < int64(len(b)) {
		return int(size), io.EOF
	}
	return int(size), nil
}

// Unchanged has nothing to ask: each piece was asked for by the version that was opened.
func (f *file) Unchanged() error { return nil }

// Close ends what is fetched still.
func (f *file) Close() error {
	f.quit()
	f.next, f.now, f.err = nil, nil, fs.ErrClosed
	return nil
}
