package columnar

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"trevak/internal/wording"

	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// Codec names how pages are compressed, with a level where the codec has any: zstd, zstd:9.
type Codec string

// codecs are the names users write, in the order they are offered, with the levels they have; lz4 is the block format without a frame
// (LZ4_RAW in the Parquet specification).
var codecs = []struct {
	name            string
	codec           compress.Compression
	lowest, highest int
}{
	{"zstd", compress.Codecs.Zstd, 1, 22},
	{"snappy", compress.Codecs.Snappy, 0, 0},
	{"gzip", compress.Codecs.Gzip, 1, 9},
	{"lz4", compress.Codecs.Lz4Raw, 0, 0},
	{"brotli", compress.Codecs.Brotli, 0, 11},
	{"none", compress.Codecs.Uncompressed, 0, 0},
}

// otherNames are names that format specifications have for these codecs.
var otherNames = map[string]string{"lz4_raw": "lz4", "zlib": "gzip", "deflate": "gzip", "uncompressed": "none"}

// DefaultCodec is used when none is stated.
const DefaultCodec Codec = "zstd"

// Auto stands for codecs that are chosen by trial before the first row is written.
const Auto Codec = "auto"

// CodecNames returns the names that ParseCodec takes.
func CodecNames() []string {
	var names []string
	for _, c := range codecs {
		names = append(names, c.name)
	}
	return names
}

// ParseCodec reads the name of a codec, with or without a level. The letter case does not matter, and the names of format
// specifications are taken as well.
func ParseCodec(text string) (Codec, error) {
	given, level, leveled := strings.Cut(text, ":")
	name := strings.ToLower(given)
	if other, ok := otherNames[name]; ok {
		name = other
	}
	for _, c := range codecs {
		if c.name != name {
			continue
		}
		if !leveled {
			return Codec(name), nil
		}
		if n, err := strconv.Atoi(level); err != nil || n < c.lowest || n > c.highest {
			if c.highest == 0 {
				return "", fmt.Errorf("%s has no levels, so %q cannot be used", name, text)
			}
			return "", fmt.Errorf("%q is no level of %s; it has %d to %d", level, name, c.lowest, c.highest)
		}
		return Codec(name + ":" + level), nil
	}
	return "", fmt.Errorf("%q is not a codec; %s", given, wording.Choose(name, CodecNames()))
}

// ParseCodecs reads a codec for all columns and others for some: zstd:3,note=zstd:9,flag=none. Columns go by their legal paths.
func ParseCodecs(text string) (all Codec, columns map[string]Codec, err error) {
	all, columns = DefaultCodec, map[string]Codec{}
	for i, part := range strings.Split(text, ",") {
		column, name, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok && i > 0 {
			return "", nil, fmt.Errorf("%q names no column; write the codec of all columns first, then column=codec", part)
		}
		if !ok {
			if all, err = ParseCodec(column); err != nil {
				return "", nil, err
			}
			continue
		}
		if columns[column], err = ParseCodec(name); err != nil {
			return "", nil, err
		}
	}
	return all, columns, nil
}

// Compression writes the codecs as ParseCodecs reads them.
func (o Options) Compression() string {
	text := string(o.Codec)
	for _, column := range slices.Sorted(maps.Keys(o.Codecs)) {
		text += "," + column + "=" + string(o.Codecs[column])
	}
	return text
}

func (c Codec) name() string {
	name, _, _ := strings.Cut(string(c), ":")
	return name
}

func (c Codec) parquet() compress.Compression {
	for _, known := range codecs {
		if known.name == c.name() {
			return known.codec
		}
	}
	return compress.Codecs.Zstd
}

// level is the compression level, the codec's default where none is stated.
func (c Codec) level() int {
	if _, text, ok := strings.Cut(string(c), ":"); ok {
		if n, err := strconv.Atoi(text); err == nil {
			return n
		}
	}
	return compress.DefaultCompressionLevel
}

// zstdPools keeps encoders from page to page, by their level: making one costs far more than a small page takes to compress.
var zstdPools sync.Map

func zstdPool(level zstd.EncoderLevel) *sync.Pool {
	pool, _ := zstdPools.LoadOrStore(level, &sync.Pool{New: func() any {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(level), zstd.WithEncoderCRC(true))
		if err != nil {
			panic(err) // only for options that contradict each other
		}
		return e
	}})
	return pool.(*sync.Pool)
}

// smallPage is below how many bytes a page is packed with the tables of the fastest level unless a level is stated: it comes out
// about as small, and those of the default level are so large that they are looked up in memory far from the processor.
const smallPage = 4 << 10

// compress packs a page, in the memory of dst where that suffices, whatever is in it.
func (c Codec) compress(dst, raw []byte) ([]byte, error) {
	switch c.name() {
	case "none":
		return append(dst[:0], raw...), nil
	case "snappy":
		return s2.EncodeSnappy(dst[:cap(dst)], raw), nil
	case "zstd":
		level := zstd.SpeedDefault
		if len(raw) < smallPage {
			level = zstd.SpeedFastest
		}
		if n := c.level(); n != compress.DefaultCompressionLevel {
			level = zstd.EncoderLevelFromZstd(n)
		}
		pool := zstdPool(level)
		e := pool.Get().(*zstd.Encoder)
		defer pool.Put(e)
		return e.EncodeAll(raw, dst[:0]), nil
	}
	codec, err := compress.GetCodec(c.parquet())
	if err != nil {
		return nil, err
	}
	dst = slices.Grow(dst[:0], int(codec.CompressBound(int64(len(raw)))))
	return codec.EncodeLevel(dst[:cap(dst)], raw, c.level()), nil
}

// size returns how many bytes a page takes compressed, for comparing encodings.
func (c Codec) size(raw []byte) int {
	s := scratches.Get().(*scratch)
	defer scratches.Put(s)
	packed, err := c.compress(s.packed, raw)
	if err != nil {
		return len(raw)
	}
	s.packed = packed
	return len(packed)
}

// codecName names a codec found in a file.
func codecName(c compress.Compression) string {
	for _, known := range codecs {
		if known.codec == c {
			return known.name
		}
	}
	return strings.ToLower(c.String())
}

// encodingName writes an encoding as the Parquet specification spells it, in lower case with dashes.
func encodingName(name string) string { return strings.ToLower(strings.ReplaceAll(name, "_", "-")) }
