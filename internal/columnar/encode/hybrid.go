// Package encode writes values in the encodings of the Parquet specification ("Encodings"): dictionary ids and levels in the
// RLE/bit-packing hybrid, integers as deltas, the rest plain.
//
// What comes in are slices of values that are all present; what goes out are bytes to be put into pages. Nothing here knows
// of files, pages or compression.
package encode

import (
	"encoding/binary"
	"math/bits"
	"slices"
)

// unsigned are the types that levels and dictionary ids come in.
type unsigned interface{ ~uint16 | ~uint32 }

// group is how many values the hybrid encoding packs together.
const group = 8

// Hybrid appends values in the RLE/bit-packing hybrid, each of the given width in bits: runs of equal values as a count and
// the value, everything between them packed, least significant bit first.
func Hybrid[T unsigned](dst []byte, values []T, width int) []byte {
	for i := 0; i < len(values); {
		if run := runLength(values[i:]); run >= group {
			dst = Run(dst, uint32(values[i]), run, width)
			i += run
			continue
		}
		end := i + group
		for end < len(values) && runLength(values[end:min(len(values), end+group)]) < group {
			end += group
		}
		end = min(end, len(values))
		groups := (end - i + group - 1) / group
		dst = binary.AppendUvarint(dst, uint64(groups)<<1|1)
		dst = pack(dst, values[i:end], width)
		i = end
	}
	return dst
}

// runLength counts how many values at the start are the same.
func runLength[T unsigned](values []T) int {
	if len(values) >= group && values[0] != values[group-1] {
		return 1
	}
	n := 1
	for n < len(values) && values[n] == values[0] {
		n++
	}
	return n
}

// Run appends one value that occurs n times over.
func Run(dst []byte, value uint32, n, width int) []byte {
	dst = binary.AppendUvarint(dst, uint64(n)<<1)
	for at := 0; at < width; at += 8 {
		dst = append(dst, byte(value>>at))
	}
	return dst
}

// pack appends values bit by bit; the last group is filled up with zeros.
func pack[T unsigned](dst []byte, values []T, width int) []byte {
	if width <= 16 {
		whole := len(values) / group * group
		dst = packGroups(dst, values[:whole], width)
		values = values[whole:]
	}
	var word uint64
	used := 0
	for _, v := range values {
		word |= uint64(v) << used
		used += width
		if used >= 32 {
			dst = binary.LittleEndian.AppendUint32(dst, uint32(word))
			word >>= 32
			used -= 32
		}
	}
	if rest := len(values) % group; rest > 0 {
		used += (group - rest) * width
	}
	for used > 0 {
		dst = append(dst, byte(word))
		word >>= 8
		used -= 8
	}
	return dst
}

// packGroups is pack for whole groups of values of up to 16 bits. Each half of a group makes a word, and both go to memory at once.
func packGroups[T unsigned](dst []byte, values []T, width int) []byte {
	at := len(dst)
	const spare = 16
	dst = slices.Grow(dst, len(values)/group*width+spare)[:at+len(values)/group*width+spare]
	for ; len(values) >= group; values = values[group:] {
		v := values[:group:group]
		w := width & 63
		low := uint64(v[0]) | uint64(v[1])<<w | uint64(v[2])<<(2*w&63) | uint64(v[3])<<(3*w&63)
		high := uint64(v[4]) | uint64(v[5])<<w | uint64(v[6])<<(2*w&63) | uint64(v[7])<<(3*w&63)
		out := dst[at : at+spare : at+spare]
		binary.LittleEndian.PutUint64(out, low|high<<(4*w))
		binary.LittleEndian.PutUint64(out[8:], high>>(64-4*w))
		at += width
	}
	return dst[:at]
}

// Width returns how many bits numbers from 0 to most take.
func Width(most int) int { return bits.Len(uint(most)) }
