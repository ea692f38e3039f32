package bytemask

import "golang.org/x/sys/cpu"

// fillAVX2 is fill for len(dst) words, of which there must be some, by instructions of AVX2.
//
//go:noescape
func fillAVX2(dst *uint64, data *byte, words int, a, b, c byte)

// fill sets each word of dst to the mask of its 64 bytes of data.
func fill(dst []uint64, data []byte, a, b, c byte) {
	if cpu.X86.HasAVX2 {
		fillAVX2(&dst[0], &data[0], len(dst), a, b, c)
		return
	}
	fillWords(dst, data, a, b, c)
}
