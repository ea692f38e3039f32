package layout

import (
	"errors"
	"sync"

	"trevak/internal/storage"
)

// pieceBytes is how much of a file is gathered before it is handed to the system.
const pieceBytes = 256 << 10

// pieceBuffers are buffers of pieceBytes that wait for a file.
var pieceBuffers = sync.Pool{New: func() any {
	b := make([]byte, 0, pieceBytes)
	return &b
}}

// mostPieces bounds how many pieces of all files wait to be written.
const mostPieces = 16

var pieceSlots = make(chan struct{}, mostPieces)

// Buffered returns a file that is written while what follows is gathered. An error of writing is returned by a later
// Write, or by Commit, which waits until all is written and commits file only then. It is not safe for concurrent use.
func Buffered(file storage.Writer) storage.Writer {
	b := &buffered{file: file}
	b.changed.L = &b.lock
	return b
}

type buffered struct {
	file   storage.Writer
	gather *[]byte // nil while nothing is gathered

	lock    sync.Mutex
	changed sync.Cond
	pieces  []*[]byte // that wait to be written
	writing bool      // somebody writes them
	err     error     // the first
}

func (b *buffered) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		if b.gather == nil {
			b.gather = pieceBuffers.Get().(*[]byte)
		}
		n := min(len(p), pieceBytes-len(*b.gather))
		*b.gather = append(*b.gather, p[:n]...)
		p = p[n:]
		if len(*b.gather) == pieceBytes {
			if err := b.send(); err != nil {
				return total - len(p), err
			}
		}
	}
	return total, nil
}

// send has written what was gathered, and returns the error of a piece before, if there is one.
func (b *buffered) send() error {
	piece := b.gather
	b.gather = nil
	if piece != nil {
		pieceSlots <- struct{}{}
	}
	b.lock.Lock()
	defer b.lock.Unlock()
	if piece != nil {
		b.pieces = append(b.pieces, piece)
	}
	if len(b.pieces) > 0 && !b.writing {
		b.writing = true
		go b.drain()
	}
	return b.err
}

// drain writes pieces until none is left. After an error they are dropped.
func (b *buffered) drain() {
	b.lock.Lock()
	defer b.lock.Unlock()
	for len(b.pieces) > 0 {
		piece, err := b.pieces[0], b.err
		b.pieces = b.pieces[1:]
		b.lock.Unlock()
		if err == nil {
			_, err = b.file.Write(*piece)
		}
		*piece = (*piece)[:0]
		pieceBuffers.Put(piece)
		<-pieceSlots
		b.lock.Lock()
		b.err = err
	}
	b.writing = false
	b.changed.Signal()
}

// Commit writes what was gathered, and commits the file if all of it was written.
func (b *buffered) Commit() error {
	if err := b.writeLast(); err != nil {
		return errors.Join(err, b.file.Abort())
	}
	if err := b.finish(); err != nil {
		return errors.Join(err, b.file.Abort())
	}
	return b.file.Commit()
}

// writeLast writes what was gathered at once where nothing waits to be written before it, as in a small file.
func (b *buffered) writeLast() error {
	b.lock.Lock()
	idle := len(b.pieces) == 0 && !b.writing && b.err == nil
	b.lock.Unlock()
	if !idle || b.gather == nil {
		return nil
	}
	_, err := b.file.Write(*b.gather)
	*b.gather = (*b.gather)[:0]
	pieceBuffers.Put(b.gather)
	b.gather = nil
	return err
}

// Abort gives the file up.
func (b *buffered) Abort() error {
	b.lock.Lock()
	if b.err == nil {
		// Nothing more is to be written.
		b.err = errAborted
	}
	b.lock.Unlock()
	b.finish()
	return b.file.Abort()
}

// errAborted has pieces dropped that wait to be written.
var errAborted = errors.New("the file was given up")

// finish waits until all that was gathered is written.
func (b *buffered) finish() error {
	err := b.send()
	b.lock.Lock()
	defer b.lock.Unlock()
	for b.writing {
		b.changed.Wait()
	}
	if err == nil {
		err = b.err
	}
	return err
}
