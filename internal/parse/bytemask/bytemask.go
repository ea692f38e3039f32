// Package bytemask finds the bytes that stand between things: it makes of text a bit for each byte, set where the byte is one
// of three.
//
// What comes in are bytes, what goes out are words of 64 bits, the lowest for the first byte. On processors that compare 32
// bytes at once it does; the other way, eight at a time, gives the same.
package bytemask

import "encoding/binary"

// Word is how many bytes one word of a mask is for.
const Word = 64

// Of sets dst[i] to the mask of bytes 64*i to 64*i+63 of data: a bit is set where the byte is a, b or c. Bytes beyond the end
// of data are none of these. It returns dst cut to the words that data has, all of it when it is too short for data.
func Of(dst []uint64, data []byte, a, b, c byte) []uint64 {
	whole := min(len(data)/Word, len(dst))
	if whole > 0 {
		fill(dst[:whole], data[:whole*Word], a, b, c)
	}
	if whole == len(dst) || whole*Word == len(data) {
		return dst[:whole]
	}
	var last [Word]byte
	n := copy(last[:], data[whole*Word:])
	fillWords(dst[whole:whole+1], last[:], a, b, c)
	dst[whole] &= 1<<n - 1
	return dst[:whole+1]
}

// Fields does at once what Of does for delimiters and line feeds, for line feeds, and for quotes: each of the three has room
// for the same number of words. It returns how many it set, and whether all bytes of these are ASCII.
func Fields(ends, feeds, quotes []uint64, data []byte, delimiter, quote byte) (words int, ascii bool) {
	words = min(len(data)/Word, len(ends))
	tops := byte(0)
	if words > 0 {
		tops = fillFields(ends[:words], feeds[:words], quotes[:words], data[:words*Word], delimiter, quote)
	}
	if words == len(ends) || words*Word == len(data) {
		return words, tops < 0x80
	}
	var last [Word]byte
	n := copy(last[:], data[words*Word:])
	tops |= fillFieldsWords(ends[words:words+1], feeds[words:words+1], quotes[words:words+1], last[:], delimiter, quote)
	for _, dst := range [][]uint64{ends, feeds, quotes} {
		dst[words] &= 1<<n - 1
	}
	return words + 1, tops < 0x80
}

const (
	low  = 0x7f7f7f7f7f7f7f7f
	ones = 0x0101010101010101
)

// matches sets the top bit of each byte of x that is zero, exactly: unlike the shorter well-known form no borrow runs into
// the next byte.
func matches(x uint64) uint64 { return ^((x&low + low) | x | low) }

// gather brings the top bits of eight bytes together in the uppermost one.
const gather = 0x0002040810204081

// fillWords is fill for any processor.
func fillWords(dst []uint64, data []byte, a, b, c byte) {
	as, bs, cs := uint64(a)*ones, uint64(b)*ones, uint64(c)*ones
	for i := range dst {
		var mask uint64
		for part := range 8 {
			w := binary.LittleEndian.Uint64(data[i*Word+part*8:])
			found := matches(w^as) | matches(w^bs) | matches(w^cs)
			mask |= found >> 7 * gather >> 49 & 0xff << (8 * part)
		}
		dst[i] = mask
	}
}

// fillFieldsWords is fillFields for any processor.
func fillFieldsWords(ends, feeds, quotes []uint64, data []byte, delimiter, quote byte) (tops byte) {
	fillWords(ends, data, delimiter, '\n', '\n')
	fillWords(feeds, data, '\n', '\n', '\n')
	fillWords(quotes, data, quote, quote, quote)
	for _, b := range data {
		tops |= b
	}
	return tops
}
