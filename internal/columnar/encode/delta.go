package encode

import (
	"encoding/binary"
	"math/bits"
)

// The blocks of DELTA_BINARY_PACKED hold 128 values in 4 miniblocks of 32.
const (
	deltaBlock = 128
	miniblocks = 4
	miniblock  = deltaBlock / miniblocks
)

// integer are the types that can be written as deltas.
type integer interface{ ~int32 | ~int64 }

// Delta appends values in the encoding DELTA_BINARY_PACKED: the first value, and then in blocks the differences from one to
// the next, less the smallest of the block, packed with as many bits as each miniblock needs. Differences wrap around, which
// decoding undoes.
func Delta[T integer](dst []byte, values []T) []byte {
	dst = binary.AppendUvarint(dst, deltaBlock)
	dst = binary.AppendUvarint(dst, miniblocks)
	dst = binary.AppendUvarint(dst, uint64(len(values)))
	if len(values) == 0 {
		return binary.AppendVarint(dst, 0)
	}
	dst = binary.AppendVarint(dst, int64(values[0]))
	var deltas [deltaBlock]T
	for previous, rest := values[0], values[1:]; len(rest) > 0; {
		n := min(deltaBlock, len(rest))
		for i, v := range rest[:n] {
			deltas[i] = v - previous
			previous = v
		}
		dst = deltaOne(dst, deltas[:n])
		rest = rest[n:]
	}
	return dst
}

// deltaOne appends one block.
func deltaOne[T integer](dst []byte, deltas []T) []byte {
	smallest := deltas[0]
	for _, d := range deltas {
		smallest = min(smallest, d)
	}
	dst = binary.AppendVarint(dst, int64(smallest))
	var packed [miniblock]uint64
	widths := len(dst)
	dst = append(dst, make([]byte, miniblocks)...)
	for m := 0; m*miniblock < len(deltas); m++ {
		part := deltas[m*miniblock : min((m+1)*miniblock, len(deltas))]
		clear(packed[:])
		var all uint64
		for i, d := range part {
			packed[i] = uint64(int64(d-smallest)) & mask[T]()
			all |= packed[i]
		}
		width := bits.Len64(all)
		dst[widths+m] = byte(width)
		dst = packWide(dst, &packed, width)
	}
	return dst
}

// mask keeps the bits of a type.
func mask[T integer]() uint64 {
	var v T
	if _, narrow := any(v).(int32); narrow {
		return 1<<32 - 1
	}
	return 1<<64 - 1
}

// packWide appends a miniblock of values of up to 64 bits.
func packWide(dst []byte, values *[miniblock]uint64, width int) []byte {
	if width == 0 {
		return dst
	}
	var word uint64
	used := 0
	for _, v := range values {
		word |= v << used
		if used+width < 64 {
			used += width
			continue
		}
		dst = binary.LittleEndian.AppendUint64(dst, word)
		word = v >> (64 - used)
		used += width - 64
	}
	for used > 0 {
		dst = append(dst, byte(word))
		word >>= 8
		used -= 8
	}
	return dst
}
