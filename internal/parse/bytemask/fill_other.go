//go:build !amd64

package bytemask

// fill sets each word of dst to the mask of its 64 bytes of data.
func fill(dst []uint64, data []byte, a, b, c byte) { fillWords(dst, data, a, b, c) }

// fillFields sets each word of ends to the mask of delimiters and line feeds in its 64 bytes of data, of feeds to that of line
// feeds, and of quotes to that of quotes. The top bit of tops is set where one of the bytes has it.
func fillFields(ends, feeds, quotes []uint64, data []byte, delimiter, quote byte) (tops byte) {
	return fillFieldsWords(ends, feeds, quotes, data, delimiter, quote)
}
