package remote

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"sync"

	"trevak/internal/storage"
)

// Create begins an object. It is sent in parts while it is written, and is there once Commit has returned.
func (s *Store) Create(ctx context.Context, uri string, c storage.Creation) (storage.Writer, error) {
	p, err := s.at(uri)
	if err != nil {
		return nil, err
	}
	if c.Mode == storage.Exclusive {
		if _, err := p.Bucket.Stat(ctx, p.key); err == nil {
			return nil, &fs.PathError{Op: "create", Path: storage.Shown(uri), Err: fs.ErrExist}
		}
	}
	var mark [16]byte
	rand.Read(mark[:])
	// Whoever wants the object committed later may have ended what it was begun in.
	sent, quit := context.WithCancel(context.WithoutCancel(ctx))
	w := &writer{place: p, begun: ctx, ctx: sent, quit: quit, room: s.parts, sending: make(chan struct{}, partsSent),
		how: How{Exclusive: c.Mode == storage.Exclusive, Mark: hex.EncodeToString(mark[:])}}
	if _, w.inTurn = p.Bucket.(InTurn); w.inTurn {
		w.sending = make(chan struct{}, 1)
	}
	return w, nil
}

// partsSent is how many parts of an object are on their way at a time.
const partsSent = 3

// writer sends an object.
type writer struct {
	place
	begun   context.Context // that the object is written in
	ctx     context.Context // of requests
	quit    context.CancelFunc
	how     How
	inTurn  bool // parts are sent one after the other
	room    *partRoom
	part    *part  // that is being filled, nil for none
	upload  string // the upload's id, empty while there is but one part
	number  int    // of the part that was sent last
	sent    int64  // bytes in parts
	sending chan struct{}
	running sync.WaitGroup
	ended   bool

	mutex sync.Mutex
	done  []Sent
	err   error
}

// Write takes bytes.
func (w *writer) Write(b []byte) (int, error) {
	written := 0
	for len(b) > 0 {
		if err := errors.Join(w.begun.Err(), w.failed()); err != nil {
			return written, err
		}
		if w.part == nil {
			var err error
			if w.part, err = w.room.take(partBytes(w.number + 1)); err != nil {
				return written, err
			}
		}
		n, err := w.part.write(b)
		if err != nil {
			return written, err
		}
		b, written = b[n:], written+n
		if w.part.full() {
			if err := w.send(); err != nil {
				return written, err
			}
		}
	}
	return written, nil
}

func (w *writer) failed() error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.err
}

func (w *writer) fail(err error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.err == nil {
		w.err = err
	}
}

// send sends the part that was filled.
func (w *writer) send() error {
	if w.upload == "" {
		id, err := w.Begin(w.ctx, w.key, w.how)
		if err != nil {
			return w.explained(Write, err)
		}
		w.upload = id
	}
	w.number++
	number, from, filled := w.number, w.sent, w.part
	w.part, w.sent = nil, from+filled.size()
	select {
	case w.sending <- struct{}{}:
	case <-w.begun.Done():
		filled.close()
		return w.begun.Err()
	}
	w.running.Go(func() {
		defer func() { <-w.sending }()
		defer filled.close()
		tag, err := w.Part(w.ctx, w.key, w.upload, Part{number, from, filled.size(), filled.reader()})
		if err != nil {
			w.fail(w.explained(Write, err))
			return
		}
		w.mutex.Lock()
		w.done = append(w.done, Sent{number, tag})
		w.mutex.Unlock()
	})
	return nil
}

// Seal says that the object is whole and is committed later. What waits in a file is sent at once, so that very many can wait.
func (w *writer) Seal() error {
	if w.part == nil || w.part.scratch == nil || w.inTurn {
		return w.failed()
	}
	if err := w.send(); err != nil {
		return err
	}
	w.running.Wait()
	return w.failed()
}

// Commit has the object appear. With Exclusive the error is fs.ErrExist where there is one that this writer did not make.
func (w *writer) Commit() error {
	if w.ended {
		return fs.ErrClosed
	}
	err := w.commit()
	if err != nil {
		return errors.Join(err, w.Abort())
	}
	w.ended = true
	w.quit()
	return nil
}

func (w *writer) commit() error {
	if w.upload == "" {
		var body io.ReaderAt = bytes.NewReader(nil)
		var size int64
		if w.part != nil {
			body, size = w.part.reader(), w.part.size()
			defer w.part.close()
		}
		err := w.Put(w.ctx, w.key, body, size, w.how)
		w.part = nil
		return w.settle(err)
	}
	w.running.Wait()
	if err := w.failed(); err != nil {
		return err
	}
	last := Part{Number: w.number + 1, From: w.sent, Body: bytes.NewReader(nil)}
	if w.part != nil {
		last.Size, last.Body = w.part.size(), w.part.reader()
		defer w.part.close()
		w.part = nil
	}
	sortParts(w.done)
	return w.settle(w.Finish(w.ctx, w.key, w.upload, w.done, last, w.how))
}

// settle finds out what became of an object whose last request failed: the store may have carried it out, and only its answer been lost.
func (w *writer) settle(err error) error {
	if err == nil {
		return nil
	}
	ctx := context.WithoutCancel(w.ctx)
	if told, err := w.Bucket.Stat(ctx, w.key); err == nil && told.Mark == w.how.Mark {
		return nil
	}
	explained := w.explained(Write, err)
	if errors.Is(explained, storage.ErrChanged) {
		return &fs.PathError{Op: "create", Path: storage.Shown(w.uri), Err: fs.ErrExist}
	}
	return explained
}

// Abort gives the object up, with the parts that were sent.
func (w *writer) Abort() error {
	if w.ended {
		return nil
	}
	w.ended = true
	w.quit()
	w.running.Wait()
	if w.part != nil {
		w.part.close()
		w.part = nil
	}
	if w.upload == "" {
		return nil
	}
	return w.explained(Write, w.Bucket.Abort(context.WithoutCancel(w.ctx), w.key, w.upload))
}
