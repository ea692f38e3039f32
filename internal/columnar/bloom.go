package columnar

import (
	"encoding/binary"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/metadata"
	"github.com/cespare/xxhash/v2"

	"trevak/internal/columnar/encode"
)

// bloom gathers the values of one column chunk for a Bloom filter (Parquet specification, "Bloom Filter"): hashes of them until
// the row group ends, when it is known how many there are.
type bloom struct {
	hashes map[uint64]struct{}
	buffer []byte
}

// A filter is made for so many false positives, and takes no more than so many bytes.
const (
	bloomFalse = 0.01
	bloomBytes = 1 << 20
)

func newBloom() *bloom { return &bloom{hashes: map[uint64]struct{}{}} }

// bloomable reports whether values of a type are hashed for filters.
func bloomable(dt arrow.DataType) bool {
	switch dt.ID() {
	case arrow.INT64, arrow.TIMESTAMP, arrow.TIME64, arrow.INT32, arrow.DATE32, arrow.STRING, arrow.BINARY, arrow.FIXED_SIZE_BINARY:
		return true
	}
	return false
}

// add takes the values of a batch that are there.
func (b *bloom) add(l leaf) {
	value := func(i int) []byte { return nil }
	switch a := l.values.(type) {
	case *array.FixedSizeBinary:
		value = a.Value
	case variable:
		data, offsets := a.ValueBytes(), a.ValueOffsets()
		if len(offsets) == 0 {
			return
		}
		base := offsets[0]
		value = func(i int) []byte { return data[offsets[i]-base : offsets[i+1]-base] }
	default:
		if l.values.DataType().(arrow.FixedWidthDataType).Bytes() == 4 {
			list := stored[int32](l.values)
			value = func(i int) []byte { b.buffer = encode.Plain(b.buffer[:0], list[i:i+1]); return b.buffer }
		} else {
			list := stored[int64](l.values)
			value = func(i int) []byte { b.buffer = encode.Plain(b.buffer[:0], list[i:i+1]); return b.buffer }
		}
	}
	for i := range l.all {
		b.hashes[xxhash.Sum64(value(i))] = struct{}{}
	}
}

// bloomHeader writes what stands before a filter's bits, which the library leaves out: a BloomFilterHeader in Thrift's compact
// protocol, with the number of bytes, and the only algorithm, hash and compression that there are, which are unions of empty
// structs.
func bloomHeader(size int64) []byte {
	const integer, structure, stop = 0x15, 0x1c, 0x00 // the next field is an i32, the next field is a struct, no field follows
	header := binary.AppendVarint([]byte{integer}, size)
	for range 3 {
		header = append(header, structure, structure, stop, stop)
	}
	return append(header, stop)
}

// write puts the filter behind the column chunk and returns where it is.
func (b *bloom) write(sink *countingWriter) (offset int64, size int32, err error) {
	filter := metadata.NewBloomFilterFromNDVAndFPP(uint32(max(1, len(b.hashes))), bloomFalse, bloomBytes, memory.DefaultAllocator)
	for h := range b.hashes {
		filter.InsertHash(h)
	}
	clear(b.hashes)
	offset = sink.n
	if _, err := sink.Write(bloomHeader(filter.Size())); err != nil {
		return 0, 0, err
	}
	if _, err := filter.WriteTo(sink, nil); err != nil {
		return 0, 0, err
	}
	return offset, int32(sink.n - offset), nil
}
