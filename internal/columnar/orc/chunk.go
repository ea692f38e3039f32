package orc

import (
	"bytes"
	"fmt"
	"io"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
)

// compression is the number of a codec in the postscript ("File Tail").
type compression uint64

const (
	uncompressed compression = iota
	zlib
	snappy
	lzo
	lz4Blocks
	zstandard
)

// The names of the codecs, as users write them, by their numbers.
var codecNames = []string{"none", "gzip", "snappy", "lzo", "lz4", "zstd"}

func (c compression) String() string {
	if int(c) < len(codecNames) {
		return codecNames[c]
	}
	return fmt.Sprintf("codec of number %d", uint64(c))
}

// Streams are compressed in chunks, each with a header of three bytes: its length, and in the lowest bit whether it is left as it was
// ("Compression"). Decompressed a chunk has no more than chunkBytes.
const (
	chunkBytes  = 256 << 10
	chunkHeader = 3
	// largestChunk is the most that a file may state for its chunks.
	largestChunk = 64 << 20
)

// packer compresses streams. It belongs to one writer.
type packer struct {
	codec compression
	level int
	zstd  *zstd.Encoder
	flate *flate.Writer
	lz4   lz4.Compressor
	plain []byte
}

// newPacker returns a packer for a codec by its name; level is 0 for the codec's default.
func newPacker(name string, level int) (*packer, error) {
	p := &packer{level: level}
	var err error
	switch name {
	case "none":
		p.codec = uncompressed
	case "gzip":
		if level == 0 {
			level = flate.DefaultCompression
		}
		p.codec = zlib
		p.flate, err = flate.NewWriter(io.Discard, level)
	case "snappy":
		p.codec = snappy
	case "lz4":
		p.codec = lz4Blocks
	case "zstd":
		speed := zstd.SpeedDefault
		if level != 0 {
			speed = zstd.EncoderLevelFromZstd(level)
		}
		p.codec = zstandard
		p.zstd, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(speed), zstd.WithEncoderCRC(true))
	default:
		err = fmt.Errorf("ORC files are not written with %s; they take zstd, snappy, gzip, lz4 or none", name)
	}
	return p, err
}

// pack compresses one stream. starts are the offsets at which its chunks begin in what is returned; there are none without compression.
func (p *packer) pack(raw []byte) (packed []byte, starts []int, err error) {
	if p.codec == uncompressed {
		return raw, nil, nil
	}
	for at := 0; at < len(raw); at += chunkBytes {
		part := raw[at:min(len(raw), at+chunkBytes)]
		starts = append(starts, len(packed))
		small, err := p.chunk(part)
		if err != nil {
			return nil, nil, err
		}
		header := len(small) << 1
		if len(small) == 0 || len(small) >= len(part) {
			small, header = part, len(part)<<1|1
		}
		packed = append(packed, byte(header), byte(header>>8), byte(header>>16))
		packed = append(packed, small...)
	}
	return packed, append(starts, len(packed)), nil
}

// chunk compresses one chunk; nothing comes back where that cannot make it smaller.
func (p *packer) chunk(raw []byte) ([]byte, error) {
	switch p.codec {
	case zlib:
		var out bytes.Buffer
		p.flate.Reset(&out)
		if _, err := p.flate.Write(raw); err != nil {
			return nil, err
		}
		err := p.flate.Close()
		return out.Bytes(), err
	case snappy:
		return s2.EncodeSnappy(nil, raw), nil
	case lz4Blocks:
		out := make([]byte, lz4.CompressBlockBound(len(raw)))
		n, err := p.lz4.CompressBlock(raw, out)
		return out[:n], err
	}
	return p.zstd.EncodeAll(raw, nil), nil
}

// unpacker decompresses chunks. It belongs to one file.
type unpacker struct {
	codec compression
	most  int // bytes of a chunk, decompressed
	zstd  *zstd.Decoder
	flate io.ReadCloser
}

func newUnpacker(codec compression, most uint64) (*unpacker, error) {
	u := &unpacker{codec: codec, most: int(most)}
	if codec == uncompressed {
		return u, nil
	}
	if most == 0 || most > largestChunk {
		return nil, fmt.Errorf("its postscript states chunks of %d bytes", most)
	}
	var err error
	switch codec {
	case zlib:
		u.flate = flate.NewReader(nil)
	case snappy, lz4Blocks:
	case zstandard:
		u.zstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(max(most, 1<<20)))
	default:
		err = fmt.Errorf("its codec is %s, which is not read", codec)
	}
	return u, err
}

// chunk decompresses a chunk into dst, whose memory it reuses.
func (u *unpacker) chunk(dst, packed []byte) (raw []byte, err error) {
	switch u.codec {
	case zlib:
		if err := u.flate.(flate.Resetter).Reset(bytes.NewReader(packed), nil); err != nil {
			return nil, err
		}
		out := bytes.NewBuffer(dst[:0])
		if _, err = io.Copy(out, io.LimitReader(u.flate, int64(u.most)+1)); err != nil {
			return nil, err
		}
		raw = out.Bytes()
	case snappy:
		n, err := s2.DecodedLen(packed)
		if err != nil {
			return nil, err
		}
		if n > u.most {
			return nil, fmt.Errorf("a chunk has %d bytes where %d are the most", n, u.most)
		}
		return s2.Decode(dst[:cap(dst)], packed)
	case lz4Blocks:
		if cap(dst) < u.most {
			dst = make([]byte, u.most)
		}
		n, err := lz4.UncompressBlock(packed, dst[:u.most])
		if err != nil {
			return nil, err
		}
		return dst[:n], nil
	default:
		if raw, err = u.zstd.DecodeAll(packed, dst[:0]); err != nil {
			return nil, err
		}
	}
	if len(raw) > u.most {
		return nil, fmt.Errorf("a chunk has more than the %d bytes that are the most", u.most)
	}
	return raw, nil
}

// whole decompresses all of a message.
func (u *unpacker) whole(packed []byte) ([]byte, error) {
	if u.codec == uncompressed {
		return packed, nil
	}
	var out []byte
	for len(packed) > 0 {
		n, original, err := chunkLength(packed)
		if err != nil {
			return nil, err
		}
		part := packed[chunkHeader : chunkHeader+n]
		packed = packed[chunkHeader+n:]
		if !original {
			if part, err = u.chunk(nil, part); err != nil {
				return nil, err
			}
		}
		if out = append(out, part...); len(out) > largestTail {
			return nil, fmt.Errorf("its metadata has more than %d bytes", largestTail)
		}
	}
	return out, nil
}

// chunkLength reads the header of a chunk.
func chunkLength(packed []byte) (n int, original bool, err error) {
	if len(packed) < chunkHeader {
		return 0, false, io.ErrUnexpectedEOF
	}
	header := int(packed[0]) | int(packed[1])<<8 | int(packed[2])<<16
	if n = header >> 1; n > len(packed)-chunkHeader {
		return 0, false, io.ErrUnexpectedEOF
	}
	return n, header&1 == 1, nil
}
