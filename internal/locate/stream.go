package locate

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"sync/atomic"

	"github.com/klauspost/compress/gzip"

	"trevak/internal/fault"
)

// Compression is how an object is packed, told by its first bytes.
type Compression string

const (
	Plain Compression = "none"
	Gzip  Compression = "gzip"
)

// packings are the compressions that can be recognised by the bytes they begin with. Those without an open function are
// recognised so that they can be refused by name.
var packings = []struct {
	name  Compression
	magic string
	open  func(io.Reader) (io.ReadCloser, error)
}{
	{Gzip, "\x1f\x8b", func(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) }},
	{"zstd", "\x28\xb5\x2f\xfd", nil},
	{"bzip2", "BZh", nil},
	{"xz", "\xfd7zXZ\x00", nil},
	{"lz4", "\x04\x22\x4d\x18", nil},
	{"zip", "PK\x03\x04", nil},
	{"snappy", "\xff\x06\x00\x00sNaPpY", nil},
}

// Stream reads an object's unpacked bytes. The caller closes it.
type Stream struct {
	Compression Compression
	object      Object
	file        *os.File
	unpacked    io.Reader
	unpacker    io.Closer
	stored      atomic.Int64
	offset      int64
	ctx         context.Context
}

// streamBuffer is how much is read from the file at a time, in bytes.
const streamBuffer = 256 << 10

// Open starts reading an object. Errors while reading name the object and the offset.
func (o Object) Open(ctx context.Context) (*Stream, error) {
	file, err := os.Open(o.Location)
	if err != nil {
		return nil, missing(o.Location, err)
	}
	s := &Stream{Compression: Plain, object: o, file: file, ctx: ctx}
	counted := &counter{r: file, n: &s.stored}
	head := make([]byte, 16)
	n, err := io.ReadFull(file, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		file.Close()
		return nil, missing(o.Location, err)
	}
	s.stored.Add(int64(n))
	s.unpacked = io.MultiReader(bytes.NewReader(head[:n]), counted)
	for _, packing := range packings {
		if !bytes.HasPrefix(head[:n], []byte(packing.magic)) {
			continue
		}
		if packing.open == nil {
			file.Close()
			return nil, fault.New(fault.Input, "is packed with %s, which is not read yet", packing.name).In(o.Location).
				Try("unpack it first, or pack it with gzip")
		}
		unpacker, err := packing.open(bufio.NewReaderSize(s.unpacked, streamBuffer))
		if err != nil {
			file.Close()
			return nil, s.broken(packing.name, err)
		}
		s.Compression, s.unpacked, s.unpacker = packing.name, unpacker, unpacker
		break
	}
	return s, nil
}

// Read reads unpacked bytes and stops when the context ends.
func (s *Stream) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := s.unpacked.Read(p)
	s.offset += int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		if s.Compression == Plain {
			return n, &fault.Error{Kind: fault.Storage, Object: s.object.Location, Reason: "cannot be read on", Cause: err}
		}
		return n, s.broken(s.Compression, err)
	}
	return n, err
}

// broken says where a packed object stopped making sense.
func (s *Stream) broken(packing Compression, cause error) error {
	reason := "is damaged"
	if errors.Is(cause, io.ErrUnexpectedEOF) || errors.Is(cause, io.EOF) {
		reason = "is cut short"
		cause = nil
	}
	e := fault.New(fault.Input, "%s data %s after %d unpacked bytes (about byte %d of the file)", packing, reason, s.offset, s.stored.Load()).
		In(s.object.Location).Try("ask the sender for a whole copy; nothing of it was kept")
	e.Cause = cause
	return e
}

// Stored returns how many bytes of the object as it is stored were read so far. It may be called while another goroutine
// reads.
func (s *Stream) Stored() int64 { return s.stored.Load() }

// Close releases the file.
func (s *Stream) Close() error {
	if s.unpacker != nil {
		s.unpacker.Close()
	}
	return s.file.Close()
}

// counter counts what passes through a reader.
type counter struct {
	r io.Reader
	n *atomic.Int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n.Add(int64(n))
	return n, err
}
