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

// Behind returns a buffered file that is written while the next piece of it is gathered, at most one piece at a time. An error
// of writing is returned by a later Write, or by Close, which writes what is left and closes file whatever happened. It is not
// safe for concurrent use.
func Behind(file io.WriteCloser) io.WriteCloser { return &behind{file: file} }

type behind struct {
	file    io.WriteCloser
	gather  *[]byte    // nil while nothing waits
	written chan error // receives the outcome of the piece that is being written; nil where none is
	err     error
}

func (b *behind) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 && b.err == nil {
		if b.gather == nil {
			b.gather = behindBuffers.Get().(*[]byte)
		}
		n := min(len(p), behindBytes-len(*b.gather))
		*b.gather = append(*b.gather, p[:n]...)
		p = p[n:]
		if len(*b.gather) == behindBytes {
			b.send()
		}
	}
	return total - len(p), b.err
}

// send begins to write what was gathered, once the piece before is written.
func (b *behind) send() {
	b.wait()
	piece := b.gather
	b.gather = nil
	if b.err != nil || piece == nil {
		return
	}
	written := make(chan error, 1)
	b.written = written
	go func() {
		_, err := b.file.Write(*piece)
		*piece = (*piece)[:0]
		behindBuffers.Put(piece)
		written <- err
	}()
}

// wait lets the piece that is being written come to its end.
func (b *behind) wait() {
	if b.written == nil {
		return
	}
	if err := <-b.written; b.err == nil {
		b.err = err
	}
	b.written = nil
}

func (b *behind) Close() error {
	b.send()
	b.wait()
	if err := b.file.Close(); b.err == nil {
		b.err = err
	}
	return b.err
}
