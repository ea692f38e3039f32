package locate

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"sync/atomic"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
	"github.com/zeebo/xxh3"

	"trevak/internal/fault"
	"trevak/internal/locate/inflate"
)

// Compression is how an object is packed, told by its first bytes.
type Compression string

// The compressions that are undone.
const (
	Plain  Compression = "none"
	Gzip   Compression = "gzip"
	Zstd   Compression = "zstd"
	Bzip2  Compression = "bzip2"
	XZ     Compression = "xz"
	LZ4    Compression = "lz4"
	Snappy Compression = "snappy"
	Zip    Compression = "zip"
)

// packings are the compressions of streams, by the bytes they begin with. Several members after one another are read as one.
var packings = []struct {
	name  Compression
	magic string
	open  func(io.Reader) (io.ReadCloser, error)
}{
	{Gzip, "\x1f\x8b", func(r io.Reader) (io.ReadCloser, error) { return inflate.NewReader(r) }},
	{Zstd, "\x28\xb5\x2f\xfd", openZstd},
	{Bzip2, "BZh", func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(bzip2.NewReader(r)), nil }},
	{XZ, "\xfd7zXZ\x00", func(r io.Reader) (io.ReadCloser, error) { return noClose(xz.NewReader(r)) }},
	{LZ4, "\x04\x22\x4d\x18", func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(lz4.NewReader(r)), nil }},
	{Snappy, "\xff\x06\x00\x00sNaPpY", func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(s2.NewReader(r)), nil }},
}

// zstdWindow bounds what a zstd stream may ask to be kept in memory, in bytes.
const zstdWindow = 128 << 20

func openZstd(r io.Reader) (io.ReadCloser, error) {
	d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(zstdWindow))
	if err != nil {
		return nil, err
	}
	return d.IOReadCloser(), nil
}

func noClose(r io.Reader, err error) (io.ReadCloser, error) {
	if err != nil {
		return nil, err
	}
	return io.NopCloser(r), nil
}

// An object that unpacks to more than expandBytes and more than expandTimes its stored size is taken for one that is made to
// fill a disk.
const (
	expandBytes = 1 << 30
	expandTimes = 1000
)

// Stream reads an object's unpacked bytes. The caller closes it.
type Stream struct {
	Compression Compression
	object      Object
	file        reader
	unpacked    io.Reader
	unpacker    io.Closer
	stored      atomic.Int64
	hash        *xxh3.Hasher
	offset      int64
	ctx         context.Context
}

// streamBuffer is how much is read from the file at a time, in bytes.
const streamBuffer = 256 << 10

// Open starts reading an object. Errors while reading name the object and the offset.
func (o Object) Open(ctx context.Context) (*Stream, error) {
	if o.source == nil {
		return nil, fault.New(fault.Storage, "was not listed").In(o.Location)
	}
	file, err := o.source.open(ctx)
	if err != nil {
		return nil, err
	}
	s := &Stream{Compression: Plain, object: o, file: file, ctx: ctx}
	if _, ok := o.source.(archived); ok {
		s.Compression = Zip
	}
	if o.Hashed {
		s.hash = xxh3.New()
	}
	counted := &counter{r: file, s: s}
	head := make([]byte, 16)
	n, err := io.ReadFull(file, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		file.Close()
		if fault.KindOf(err) != 0 {
			return nil, err
		}
		return nil, &fault.Error{Kind: fault.Storage, Object: o.Location, Reason: "cannot be read", Cause: err}
	}
	s.add(head[:n])
	s.unpacked = io.MultiReader(bytes.NewReader(head[:n]), counted)
	for _, packing := range packings {
		if !bytes.HasPrefix(head[:n], []byte(packing.magic)) {
			continue
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
	stored := s.stored.Load()
	if s.Compression == Zip {
		stored = s.object.Size
	}
	if s.offset > expandBytes && s.offset > expandTimes*stored && s.Compression != Plain && !s.object.MayExpand {
		return n, fault.New(fault.Input, "has unpacked to more than %d times its size already, after %d bytes", expandTimes, s.offset).
			In(s.object.Location).Try("look at it first; if it is meant to be so, say --allow-expansion")
	}
	if err != nil && !errors.Is(err, io.EOF) {
		if fault.KindOf(err) != 0 || errors.Is(err, context.Canceled) {
			return n, err
		}
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
	}
	// Where it is tells more than what a library has to say of it.
	return fault.New(fault.Input, "%s data %s after %d unpacked bytes (about byte %d of the file)", packing, reason, s.offset,
		s.stored.Load()).
		In(s.object.Location).Try("ask the sender for a whole copy; nothing of it was kept")
}

// Hash reads the object once for the hash of its bytes as stored.
func (o Object) Hash(ctx context.Context) (string, error) {
	o.Hashed = true
	stream, err := o.Open(ctx)
	if err != nil {
		return "", err
	}
	defer stream.Close()
	if _, err := io.Copy(io.Discard, stream); err != nil {
		return "", err
	}
	return stream.Hash()
}

// Unchanged returns an error where the object is not what it was when it was listed.
func (s *Stream) Unchanged() error { return s.file.Unchanged() }

// Stored returns how many bytes of the object as it is stored were read so far. It may be called while another goroutine
// reads.
func (s *Stream) Stored() int64 { return s.stored.Load() }

// Hash reads what is left and returns the 128-bit xxHash of the stored bytes (of the unpacked ones, for members of archives) in
// hexadecimal digits. With size and time of change it marks the version of the object, which must have been opened with Hashed set.
func (s *Stream) Hash() (string, error) {
	rest := make([]byte, streamBuffer)
	for {
		_, err := s.Read(rest)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "", err
		}
	}
	sum := s.hash.Sum128().Bytes()
	return hex.EncodeToString(sum[:]), nil
}

// Close releases the file.
func (s *Stream) Close() error {
	if s.unpacker != nil {
		s.unpacker.Close()
	}
	return s.file.Close()
}

// counter counts and hashes what passes through a reader.
type counter struct {
	r io.Reader
	s *Stream
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.s.add(p[:n])
	return n, err
}

// add counts and hashes stored bytes.
func (s *Stream) add(p []byte) {
	s.stored.Add(int64(len(p)))
	if s.hash != nil {
		s.hash.Write(p)
	}
}
