//go:build !amd64

package bytemask

// fill sets each word of dst to the mask of its 64 bytes of data.
func fill(dst []uint64, data []byte, a, b, c byte) { fillWords(dst, data, a, b, c) }
