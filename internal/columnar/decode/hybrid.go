// Package decode undoes the encodings of Parquet's pages (Parquet specification, "Encodings").
//
// What comes in are the bytes of levels or values; what goes out are numbers and texts, appended to what the caller has.
// Nothing is trusted: what does not add up is an error that is ErrDamaged.
package decode

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrDamaged says that bytes are not what their encoding allows.
var ErrDamaged = errors.New("the page is damaged")

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// Number is what runs of bit-packed numbers are read as: levels, or places in dictionaries.
type Number interface{ ~uint16 | ~uint32 }

// Hybrid reads n numbers of so many bits, in runs of one number and of bit-packed ones, behind dst (Parquet specification, "Run
// Length Encoding / Bit-Packing Hybrid").
func Hybrid[T Number](dst []T, data []byte, width, n int) ([]T, error) {
	if width < 0 || width > 32 {
		return dst, damaged("numbers of %d bits", width)
	}
	end := len(dst) + n
	if cap(dst) < end {
		dst = append(make([]T, 0, end), dst...)
	}
	if width == 0 {
		return append(dst, make([]T, n)...), nil
	}
	for len(dst) < end {
		head, size := binary.Uvarint(data)
		if size <= 0 {
			return dst, damaged("a run is missing")
		}
		data = data[size:]
		if head&1 == 0 {
			bytes := (width + 7) / 8
			if len(data) < bytes {
				return dst, damaged("a run has no number")
			}
			var v uint32
			for i := range bytes {
				v |= uint32(data[i]) << (8 * i)
			}
			data = data[bytes:]
			count := int(min(head>>1, uint64(end-len(dst))))
			if count == 0 {
				return dst, damaged("a run of none")
			}
			run := dst[len(dst) : len(dst)+count]
			for i := range run {
				run[i] = T(v)
			}
			dst = dst[:len(dst)+count]
			continue
		}
		groups := head >> 1
		if groups == 0 || groups > uint64(len(data)) {
			return dst, damaged("a run of %d groups in %d bytes", groups, len(data))
		}
		bytes := int(groups) * width
		count := min(int(groups)*8, end-len(dst))
		// The last run may be cut short after its last number.
		if needed := (count*width + 7) / 8; len(data) < needed {
			return dst, damaged("a run of %d bytes ends after %d", needed, len(data))
		}
		packed := data[:min(bytes, len(data))]
		unpack(dst[len(dst):len(dst)+count], packed, width)
		dst = dst[:len(dst)+count]
		data = data[len(packed):]
	}
	return dst, nil
}

// unpack reads numbers of so many bits, the lowest first, of which there are enough.
func unpack[T Number](dst []T, packed []byte, width int) {
	mask := uint64(1)<<width - 1
	i, bit := 0, 0
	if width == 1 {
		// Whether values are there, most of the time.
		for ; i+8 <= len(dst); i += 8 {
			b, eight := packed[i>>3], dst[i:i+8:i+8]
			eight[0], eight[1], eight[2], eight[3] = T(b&1), T(b>>1&1), T(b>>2&1), T(b>>3&1)
			eight[4], eight[5], eight[6], eight[7] = T(b>>4&1), T(b>>5&1), T(b>>6&1), T(b>>7)
		}
		bit = i
	}
	// A word holds a number wherever in its first byte that begins.
	for ; i < len(dst) && bit>>3+8 <= len(packed); i++ {
		dst[i] = T(binary.LittleEndian.Uint64(packed[bit>>3:]) >> (bit & 7) & mask)
		bit += width
	}
	if i == len(dst) {
		return
	}
	var tail [16]byte
	from := bit >> 3
	copy(tail[:], packed[from:])
	for bit -= from * 8; i < len(dst); i++ {
		dst[i] = T(binary.LittleEndian.Uint64(tail[bit>>3:]) >> (bit & 7) & mask)
		bit += width
	}
}

// Indices reads n places in a dictionary, behind the byte that tells their width.
func Indices(dst []uint32, data []byte, n int) ([]uint32, error) {
	if n == 0 {
		return dst, nil
	}
	if len(data) == 0 {
		return dst, damaged("there are no places in the dictionary")
	}
	return Hybrid(dst, data[1:], int(data[0]), n)
}

// Same reports whether n numbers are one run of a value.
func Same(data []byte, width, n int, value uint32) bool {
	head, size := binary.Uvarint(data)
	bytes := (width + 7) / 8
	if size <= 0 || head&1 != 0 || head>>1 < uint64(n) || len(data) < size+bytes {
		return false
	}
	var v uint32
	for i := range bytes {
		v |= uint32(data[size+i]) << (8 * i)
	}
	return v == value
}

// Count returns how often a level occurs among some.
func Count(levels []uint16, level uint16) int {
	n := uint32(0)
	for _, l := range levels {
		// No branch: levels come in no order.
		n += (uint32(l^level) - 1) >> 31
	}
	return int(n)
}
