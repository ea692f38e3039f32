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

// fieldsAVX2 is fillFields for so many words, of which there must be some, by instructions of AVX2.
//
//go:noescape
func fieldsAVX2(ends, feeds, quotes *uint64, data *byte, words int, delimiter, quote byte) (tops byte)

// fillFields sets each word of ends to the mask of delimiters and line feeds in its 64 bytes of data, of feeds to that of line
// feeds, and of quotes to that of quotes. The top bit of tops is set where one of the bytes has it.
func fillFields(ends, feeds, quotes []uint64, data []byte, delimiter, quote byte) (tops byte) {
	if cpu.X86.HasAVX2 {
		return fieldsAVX2(&ends[0], &feeds[0], &quotes[0], &data[0], len(ends), delimiter, quote)
	}
	return fillFieldsWords(ends, feeds, quotes, data, delimiter, quote)
}
