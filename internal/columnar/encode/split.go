package encode

import (
	"encoding/binary"
)

// Split appends values in the encoding BYTE_STREAM_SPLIT: first the lowest byte of every value, then the next, and so on
// (Parquet specification, "Encodings"). It saves nothing by itself; what it brings together compresses well in floating-point numbers.
func Split[T integer](dst []byte, values []T) []byte {
	width := 8
	if _, narrow := any(*new(T)).(int32); narrow {
		width = 4
	}
	start, n := len(dst), len(values)
	dst = append(dst, make([]byte, width*n)...)
	out := dst[start:]
	for i, v := range values {
		for b := range width {
			out[b*n+i] = byte(v >> (8 * b))
		}
	}
	return dst
}

// Lengths appends byte strings, given in plain encoding, in the encoding DELTA_LENGTH_BYTE_ARRAY: all lengths as deltas, then all bytes.
func Lengths(dst, plain []byte) []byte {
	var lengths []int32
	size := 0
	for rest := plain; len(rest) > 0; {
		n := int(binary.LittleEndian.Uint32(rest))
		lengths = append(lengths, int32(n))
		size += n
		rest = rest[4+n:]
	}
	dst = Delta(dst, lengths)
	for rest := plain; len(rest) > 0; {
		n := int(binary.LittleEndian.Uint32(rest))
		dst = append(dst, rest[4:4+n]...)
		rest = rest[4+n:]
	}
	return dst
}

// Prefixes appends byte strings, given in plain encoding, in the encoding DELTA_BYTE_ARRAY: how many bytes each shares with the
// one before, as deltas, and then what is left of each as Lengths does.
func Prefixes(dst, plain []byte) []byte {
	var shared []int32
	var rests, previous []byte
	for rest := plain; len(rest) > 0; {
		n := int(binary.LittleEndian.Uint32(rest))
		value := rest[4 : 4+n]
		same := 0
		for same < len(value) && same < len(previous) && value[same] == previous[same] {
			same++
		}
		shared = append(shared, int32(same))
		rests = PlainText(rests, value[same:])
		previous, rest = value, rest[4+n:]
	}
	return Lengths(Delta(dst, shared), rests)
}
