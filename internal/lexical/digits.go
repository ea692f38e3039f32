package lexical

import "math/bits"

const (
	zeros  = 0x3030303030303030 // eight zeros
	points = 0x2e2e2e2e2e2e2e2e // eight decimal points
	ones   = 0x0101010101010101 // the lowest bits of eight bytes
	tops   = 0x8080808080808080 // the top bits of eight bytes
	nines  = 0x7676767676767676 // what makes bytes above 9 reach the top bit
)

// Units are the powers of ten that a number's digits are divided by for as many of them behind the point.
var Units = [8]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7}

// Together is how many texts Numbers reads at once.
const Together = 64

// Numbers reads the first n of up to 64 decimal numbers of up to eight bytes, by their ShortKeys and their sizes in bytes. Bit
// i of read is set where text i is one: its digits then are values[i], and scales[i] of them stand behind the point, so that it
// is values[i] / Units[scales[i]]. It takes no leading zeros, no minus zero, no exponents, and no point without digits on both
// of its sides. The value and scale of an empty text are 0. What stands behind the first n may be overwritten.
func Numbers(values, scales *[Together]int64, keys, sizes *[Together]uint64, n int) (read uint64) {
	if n <= 0 {
		return 0
	}
	return numbers(values, scales, keys, sizes, n) & (^uint64(0) >> ((Together - n) & 63))
}

// numbersOneByOne is Numbers for any processor.
func numbersOneByOne(values, scales *[Together]int64, keys, sizes *[Together]uint64, n int) (read uint64) {
	for i := range n {
		values[i], scales[i] = 0, 0
		if v, scale, ok := Number(keys[i], int(sizes[i])); ok {
			values[i], scales[i] = v, int64(scale)
			read |= 1 << i
		}
	}
	return read
}

// Number reads one number by all its bytes at once, as Numbers does.
func Number(key uint64, n int) (v int64, scale int, ok bool) {
	// Signs, points and numbers of digits come in no order that could be foreseen, so there are no branches for them.
	negative := int((key>>((64-8*n)&63)&0xff ^ '-' - 1) >> 63)
	point := (key ^ points - ones) &^ (key ^ points) & tops
	point &= -point                          // the top bit of the first point's byte
	mark := int((point | -point) >> 63)      // 1 where there is a point
	behind := -(point << 1) | uint64(mark-1) // the bytes behind it, all where there is none
	before := (point>>7 - 1) & uint64(-mark)
	scale = (63 - bits.TrailingZeros64(point)) >> 3 & -mark
	count := n - mark - negative
	// What stands before the digits, be it nothing or a sign, counts for zeros.
	d := (key&behind | key&before<<8 ^ zeros) >> ((64 - 8*count) & 63)
	odd := (d + nines | d) & tops
	leadingZero := int(d&0xff-1) & (scale + 1 - count)
	odd |= uint64((count-scale-1)|(scale-mark)|leadingZero) >> 63

	d <<= (64 - 8*count) & 63
	d = (d*10 + d>>8) & 0x00ff00ff00ff00ff
	d = (d*100 + d>>16) & 0x0000ffff0000ffff
	v = int64((d*10000 + d>>32) & 0x00000000ffffffff)
	ok = odd == 0 && (v != 0 || negative == 0)
	return (v ^ -int64(negative)) + int64(negative), scale, ok
}

// ShortKey returns a text of 1 to 8 bytes as a number: its first byte lowest, and all moved up as far as they go.
func ShortKey(text []byte) (key uint64) {
	for i, c := range text {
		key |= uint64(c) << (8 * (8 - len(text) + i))
	}
	return key
}
