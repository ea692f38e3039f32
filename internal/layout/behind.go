package layout

import (
	"io"
	"sync"
)

// behindBytes is how much of a file is gathered before it is handed to the system.
const behindBytes = 256 << 10

// behindBuffers are buffers of behindBytes that wait for a file.
var behindBuffers = sync.Pool{New: func() any {
	b := make([]byte, 0, behindBytes)
	return &b
}}

// mostBehind bounds how many pieces of all files wait to be written.
const mostBehind = 16

var behindSlots = make(chan struct{}, mostBehind)

// Behind returns a buffered file that is written while what follows is gathered. An error of writing is returned by a later
// Write, or by Close, which waits until all is written and closes file whatever happened. It is not safe for concurrent use.
func Behind(file io.WriteCloser) io.WriteCloser {
	b := &behind{file: file}
	b.changed.L = &b.lock
	return b
}

type behind struct {
	file   io.WriteCloser
	gather *[]byte // nil while nothing is gathered

	lock    sync.Mutex
	changed sync.Cond
	pieces  []*[]byte // that wait to be written
	writing bool      // somebody writes them
	err     error     // the first
}

func (b *behind) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		if b.gather == nil {
			b.gather = behindBuffers.Get().(*[]byte)
		}
		n := min(len(p), behindBytes-len(*b.gather))
		*b.gather = append(*b.gather, p[:n]...)
		p = p[n:]
		if len(*b.gather) == behindBytes {
			if err := b.send(); err != nil {
				return total - len(p), err
			}
		}
	}
	return total, nil
}

// send has written what was gathered, and returns the error of a piece before, if there is one.
func (b *behind) send() error {
	piece := b.gather
	b.gather = nil
	if piece != nil {
		behindSlots <- struct{}{}
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
func (b *behind) drain() {
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
		behindBuffers.Put(piece)
		<-behindSlots
		b.lock.Lock()
		b.err = err
	}
	b.writing = false
	b.changed.Signal()
}

func (b *behind) Close() error {
	err := b.send()
	b.lock.Lock()
	for b.writing {
		b.changed.Wait()
	}
	if err == nil {
		err = b.err
	}
	b.lock.Unlock()
	if closing := b.file.Close(); err == nil {
		err = closing
	}
	return err
}
