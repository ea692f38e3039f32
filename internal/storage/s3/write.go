package s3

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"sync"

	"github.com/minio/minio-go/v7"

	"trevak/internal/storage"
)

// writeMark is the metadata of an object that tells by which writer it was made: where an answer is lost, it is found out by it
// whether the object is this writer's or somebody else's.
const writeMark = "Trevak-Write"

// Create begins an object. It is sent in parts while it is written, and is there once Commit has returned.
func (s *Store) Create(ctx context.Context, uri string, c storage.Creation) (storage.Writer, error) {
	p, err := s.at(uri)
	if err != nil {
		return nil, err
	}
	if c.Mode == storage.Exclusive {
		if _, err := p.StatObject(ctx, p.bucket, p.key, minio.StatObjectOptions{}); err == nil {
			return nil, &fs.PathError{Op: "create", Path: storage.Shown(uri), Err: fs.ErrExist}
		}
	}
	var mark [16]byte
	rand.Read(mark[:])
	// Whoever wants the object committed later may have ended what it was begun in.
	sent, quit := context.WithCancel(context.WithoutCancel(ctx))
	return &writer{place: p, begun: ctx, ctx: sent, quit: quit, exclusive: c.Mode == storage.Exclusive,
		mark: hex.EncodeToString(mark[:]), room: s.parts, sending: make(chan struct{}, partsSent)}, nil
}

// partsSent is how many parts of an object are on their way at a time.
const partsSent = 3

// writer sends an object.
type writer struct {
	place
	begun     context.Context // that the object is written in
	ctx       context.Context // of requests
	quit      context.CancelFunc
	exclusive bool
	mark      string
	room      *partRoom
	part      *part  // that is being filled, nil for none
	upload    string // the upload's id, empty while there is but one part
	number    int    // of the part that was sent last
	sending   chan struct{}
	running   sync.WaitGroup
	ended     bool

	mutex sync.Mutex
	done  []minio.CompletePart
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

func (w *writer) options() minio.PutObjectOptions {
	o := minio.PutObjectOptions{UserMetadata: map[string]string{writeMark: w.mark}, DisableContentSha256: !w.secure()}
	return o
}

// secure reports whether the connection itself keeps what is sent whole, or the body is signed.
func (p place) secure() bool { return p.EndpointURL().Scheme == "https" }

// send sends the part that was filled.
func (w *writer) send() error {
	if w.upload == "" {
		id, err := w.NewMultipartUpload(w.ctx, w.bucket, w.key, w.options())
		if err != nil {
			return w.explained("s3:PutObject", err)
		}
		w.upload = id
	}
	w.number++
	number, filled := w.number, w.part
	w.part = nil
	select {
	case w.sending <- struct{}{}:
	case <-w.begun.Done():
		filled.close()
		return w.begun.Err()
	}
	w.running.Go(func() {
		defer func() { <-w.sending }()
		defer filled.close()
		sent, err := w.PutObjectPart(w.ctx, w.bucket, w.key, w.upload, number, filled.reader(), filled.size(),
			minio.PutObjectPartOptions{DisableContentSha256: !w.secure()})
		if err != nil {
			w.fail(w.explained("s3:PutObject", err))
			return
		}
		w.mutex.Lock()
		w.done = append(w.done, minio.CompletePart{PartNumber: number, ETag: sent.ETag})
		w.mutex.Unlock()
	})
	return nil
}

// Seal says that the object is whole and is committed later. What waits in a file is sent at once, so that very many can wait.
func (w *writer) Seal() error {
	if w.part == nil || w.part.scratch == nil {
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
	options := w.options()
	if w.exclusive {
		options.SetMatchETagExcept("*")
	}
	if w.upload == "" {
		var body io.Reader = bytes.NewReader(nil)
		var size int64
		if w.part != nil {
			body, size = w.part.reader(), w.part.size()
			defer w.part.close()
		}
		_, err := w.PutObject(w.ctx, w.bucket, w.key, body, size, "", "", options)
		w.part = nil
		return w.settle(err)
	}
	if w.part != nil {
		if err := w.send(); err != nil {
			return err
		}
	}
	w.running.Wait()
	if err := w.failed(); err != nil {
		return err
	}
	sortParts(w.done)
	_, err := w.CompleteMultipartUpload(w.ctx, w.bucket, w.key, w.upload, w.done, options)
	return w.settle(err)
}

// settle finds out what became of an object whose last request failed: the store may have carried it out, and only its answer been lost.
func (w *writer) settle(err error) error {
	if err == nil {
		return nil
	}
	ctx := context.WithoutCancel(w.ctx)
	info, statErr := w.StatObject(ctx, w.bucket, w.key, minio.StatObjectOptions{})
	if statErr == nil && info.UserMetadata[writeMark] == w.mark {
		return nil
	}
	explained := w.explained("s3:PutObject", err)
	if errors.Is(explained, storage.ErrChanged) || minio.ToErrorResponse(err).Code == "ConditionalRequestConflict" {
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
	err := w.AbortMultipartUpload(context.WithoutCancel(w.ctx), w.bucket, w.key, w.upload)
	if minio.ToErrorResponse(err).Code == "NoSuchUpload" {
		return nil
	}
	return w.explained("s3:AbortMultipartUpload", err)
}
