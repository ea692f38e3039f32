package columnar

import (
	"bytes"
	stdflate "compress/flate"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/golang/snappy"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

// Codecs of blocks (Avro specification, "Required Codecs" and "Optional Codecs").
const (
	avroNull    = "null"
	avroDeflate = "deflate"
	avroSnappy  = "snappy"
	avroZstd    = "zstandard"
)

// avroCodecs are those of blocks by the names of codecs.
var avroCodecs = map[string]string{"none": avroNull, "snappy": avroSnappy, "zstd": avroZstd, "gzip": avroDeflate}

// mostAvroBlock bounds how large a block may be when unpacked.
const mostAvroBlock = 256 << 20

// avroPacker returns what packs blocks; the memory of its result is used again.
func avroPacker(codec Codec) (func(block []byte) ([]byte, error), error) {
	level := codec.level()
	switch avroCodecs[codec.name()] {
	case avroNull:
		return func(block []byte) ([]byte, error) { return block, nil }, nil
	case avroSnappy:
		var out []byte
		return func(block []byte) ([]byte, error) {
			out = snappy.Encode(out[:cap(out)], block)
			out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(block))
			return out, nil
		}, nil
	case avroDeflate:
		if level == compress.DefaultCompressionLevel {
			level = stdflate.DefaultCompression
		}
		var out bytes.Buffer
		// The other one, which reads faster, packs blocks of this size less.
		w, err := stdflate.NewWriter(&out, level)
		return func(block []byte) ([]byte, error) {
			out.Reset()
			w.Reset(&out)
			if _, err := w.Write(block); err != nil {
				return nil, err
			}
			err := w.Close()
			return out.Bytes(), err
		}, err
	case avroZstd:
		var options []zstd.EOption
		if level != compress.DefaultCompressionLevel {
			options = append(options, zstd.WithEncoderLevel(zstd.EncoderLevelFromZstd(level)))
		}
		w, err := zstd.NewWriter(nil, append(options, zstd.WithEncoderConcurrency(1))...)
		var out []byte
		return func(block []byte) ([]byte, error) {
			out = w.EncodeAll(block, out[:0])
			return out, nil
		}, err
	}
	return nil, fmt.Errorf("Avro files are not written with %s; they take zstd, snappy, gzip or none", codec.name())
}

// unpackAvro unpacks a block.
func unpackAvro(codec string, data []byte) ([]byte, error) {
	switch codec {
	case avroNull:
		return data, nil
	case avroDeflate:
		if len(data) == 0 {
			return nil, nil
		}
		r := flate.NewReader(bytes.NewReader(data))
		defer r.Close()
		out, err := io.ReadAll(io.LimitReader(r, mostAvroBlock+1))
		if err == nil && len(out) > mostAvroBlock {
			err = fmt.Errorf("a block unpacks to more than %d bytes", mostAvroBlock)
		}
		return out, err
	case avroSnappy:
		if len(data) == 0 {
			return nil, nil
		}
		return unpackAvroSnappy(data)
	case avroZstd:
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostAvroBlock))
		if err != nil {
			return nil, err
		}
		defer d.Close()
		return d.DecodeAll(data, nil)
	}
	return nil, fmt.Errorf("its blocks are packed with %q, which is not read", codec)
}

// unpackAvroSnappy unpacks a block that ends with the checksum of what is in it.
func unpackAvroSnappy(data []byte) ([]byte, error) {
	const sum = 4
	if len(data) < sum {
		return nil, fmt.Errorf("a block of %d bytes has no checksum", len(data))
	}
	packed, check := data[:len(data)-sum], binary.BigEndian.Uint32(data[len(data)-sum:])
	if n, err := snappy.DecodedLen(packed); err != nil || n > mostAvroBlock {
		return nil, fmt.Errorf("a block is said to unpack to %d bytes", n)
	}
	out, err := snappy.Decode(nil, packed)
	if err == nil && crc32.ChecksumIEEE(out) != check {
		err = fmt.Errorf("a block is damaged: its checksum is another")
	}
	return out, err
}
