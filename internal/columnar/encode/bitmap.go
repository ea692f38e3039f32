package encode

import (
	"encoding/binary"
	"math/bits"
)

// Bitmap collects bits, the first in the lowest bit of the first byte, as Arrow and the plain encoding of booleans have them.
type Bitmap struct {
	// Bytes hold the bits; what is behind the last one in its byte is 0.
	Bytes []byte
	// N is how many bits there are, Ones how many of them are set.
	N, Ones int
}

// Reset empties the bitmap but keeps its memory.
func (b *Bitmap) Reset() { b.Bytes, b.N, b.Ones = b.Bytes[:0], 0, 0 }

// Append adds n bits of another bitmap, from one on.
func (b *Bitmap) Append(from []byte, offset, n int) {
	for ; n > 0; n, offset = n-64, offset+64 {
		b.word(word(from, offset, n), min(n, 64))
	}
}

// AppendOnes adds n bits that are set.
func (b *Bitmap) AppendOnes(n int) {
	for ; n > 0; n -= 64 {
		b.word(^uint64(0), min(n, 64))
	}
}

// word adds the lowest n bits of a word.
func (b *Bitmap) word(w uint64, n int) {
	w &= ^uint64(0) >> (64 - n)
	b.Ones += bits.OnesCount64(w)
	if used := b.N & 7; used > 0 {
		b.Bytes[len(b.Bytes)-1] |= byte(w << used)
		w >>= 8 - used
	}
	b.N += n
	size := (b.N + 7) >> 3
	b.Bytes = binary.LittleEndian.AppendUint64(b.Bytes, w)[:size]
}

// word returns up to 64 bits of a bitmap from one on, of which n are left; what is behind these is anything.
func word(from []byte, offset, n int) uint64 {
	at, shift := offset>>3, offset&7
	if at+9 <= len(from) {
		return binary.LittleEndian.Uint64(from[at:])>>shift | uint64(from[at+8])<<(64-shift)
	}
	var w uint64
	for i, last := 0, (offset+min(n, 64)-1)>>3; at+i <= last; i++ {
		if i == 0 {
			w = uint64(from[at]) >> shift
		} else {
			w |= uint64(from[at+i]) << (8*i - shift)
		}
	}
	return w
}

// Take appends those of the first n values that have a bit in a bitmap, from one of its bits on.
func Take[T any](dst, values []T, valid []byte, offset, n int) []T {
	for first := 0; first < n; first += 64 {
		left := min(64, n-first)
		w := word(valid, offset+first, left) & (^uint64(0) >> (64 - left))
		known := len(dst)
		dst = append(dst, values[first:first+left]...)
		list, k := dst[known:], 0
		for i, v := range list {
			// Nulls come as they like, so there is no branch for them.
			list[k] = v
			k += int(w >> i & 1)
		}
		dst = dst[:known+k]
	}
	return dst
}

// HybridBits appends bits in the RLE/bit-packing hybrid with a width of one bit.
func HybridBits(dst []byte, b *Bitmap) []byte {
	list := b.Bytes
	for i := 0; i < len(list); {
		if run := sameBytes(list[i:]); run >= fewestSame {
			dst = Run(dst, uint32(list[i]&1), min(8*run, b.N-8*i), 1)
			i += run
			continue
		}
		end := i + 1
		for end < len(list) && sameBytes(list[end:min(len(list), end+fewestSame)]) < fewestSame {
			end++
		}
		dst = binary.AppendUvarint(dst, uint64(end-i)<<1|1)
		dst = append(dst, list[i:end]...)
		i = end
	}
	return dst
}

// fewestSame is how many bytes must be the same for a run of their bits to save anything.
const fewestSame = 4

// sameBytes counts how many bytes at the start have all bits set, or none.
func sameBytes(list []byte) int {
	if list[0] != 0 && list[0] != 0xff {
		return 0
	}
	n := 1
	for n < len(list) && list[n] == list[0] {
		n++
	}
	return n
}

// Runs appends booleans in the encoding RLE, as the values of a page: the length of what follows in four bytes, then the hybrid
// encoding with one bit for each.
func Runs(dst []byte, values *Bitmap) []byte {
	at := len(dst)
	dst = HybridBits(append(dst, 0, 0, 0, 0), values)
	binary.LittleEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
	return dst
}
