package columnar

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// Codec names how pages are compressed.
type Codec string

// codecs are the names users write, in the order they are offered.
var codecs = []struct {
	name  Codec
	codec compress.Compression
}{
	{"zstd", compress.Codecs.Zstd},
	{"snappy", compress.Codecs.Snappy},
	{"gzip", compress.Codecs.Gzip},
	{"lz4", compress.Codecs.Lz4Raw},
	{"none", compress.Codecs.Uncompressed},
}

// DefaultCodec is used when none is stated.
const DefaultCodec Codec = "zstd"

// CodecNames returns the names that ParseCodec takes.
func CodecNames() []string {
	var names []string
	for _, c := range codecs {
		names = append(names, string(c.name))
	}
	return names
}

// ParseCodec reads the name of a codec.
func ParseCodec(name string) (Codec, error) {
	if slices.Contains(CodecNames(), name) {
		return Codec(name), nil
	}
	return "", fmt.Errorf("%q is not a codec; it takes one of %s", name, strings.Join(CodecNames(), ", "))
}

func (c Codec) parquet() compress.Compression {
	for _, known := range codecs {
		if known.name == c {
			return known.codec
		}
	}
	return compress.Codecs.Zstd
}

// level is the compression level handed to the library for dictionaries; its default for every codec.
func (c Codec) level() int { return compress.DefaultCompressionLevel }

// zstdEncoders are kept from page to page: making one costs far more than a small page takes to compress.
var zstdEncoders = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // only for options that contradict each other
	}
	return e
}}

// compress packs a page.
func (c Codec) compress(raw []byte) ([]byte, error) {
	switch c {
	case "none":
		return slices.Clone(raw), nil
	case "snappy":
		return s2.EncodeSnappy(nil, raw), nil
	case "zstd":
		e := zstdEncoders.Get().(*zstd.Encoder)
		defer zstdEncoders.Put(e)
		return e.EncodeAll(raw, nil), nil
	}
	codec, err := compress.GetCodec(c.parquet())
	if err != nil {
		return nil, err
	}
	return codec.EncodeLevel(make([]byte, codec.CompressBound(int64(len(raw)))), raw, c.level()), nil
}

// codecName names a codec found in a file.
func codecName(c compress.Compression) string {
	for _, known := range codecs {
		if known.codec == c {
			return string(known.name)
		}
	}
	return strings.ToLower(c.String())
}

// encodingName writes an encoding as the Parquet specification spells it, in lower case with dashes.
func encodingName(name string) string { return strings.ToLower(strings.ReplaceAll(name, "_", "-")) }
