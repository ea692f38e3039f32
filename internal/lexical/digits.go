package lexical

import "math"

// Digits reads decimal numbers of up to eight bytes at once, all with as many digits behind the point.
type Digits struct {
	// Scale is how many digits stand behind the point; -1 when that is not known yet.
	Scale     int
	unit      float64 // ten to the power of Scale
	mark      int     // 1 where there is a point
	behind    uint64  // the bytes of a key behind the point, all where there is none
	before    uint64  // the bytes of a key before the point
	at, point uint64  // where the point is, and it
}

const (
	zeros = 0x3030303030303030 // eight zeros
	tops  = 0x8080808080808080 // the top bits of eight bytes
	nines = 0x7676767676767676 // what makes bytes above 9 reach the top bit
)

// NewDigits prepares for numbers with as many digits behind the point, up to 7.
func NewDigits(scale int) Digits {
	if scale <= 0 {
		return Digits{Scale: scale, unit: 1, behind: 1<<64 - 1}
	}
	at := 56 - 8*scale
	return Digits{scale, math.Pow10(scale), 1, ^uint64(0) << (at + 8), 1<<at - 1, 0xff << at, '.' << at}
}

// Parse returns the digits of the text of n bytes, from 1 to 8, with a ShortKey as a whole number. It takes no leading zeros, and no minus zero.
func (t *Digits) Parse(key uint64, n int) (v int64, ok bool) {
	// Signs and numbers of digits come in no order that could be foreseen, so there are no branches for them.
	negative := int64((key>>((64-8*n)&63)&0xff ^ '-' - 1) >> 63)
	count := n - t.mark - int(negative)
	whole := count - t.Scale
	if key&t.at != t.point || whole < 1 {
		return 0, false
	}
	d := key&t.behind | key&t.before<<8
	d ^= zeros
	// What stands before the digits, be it nothing or a sign, counts for zeros.
	d &= ^uint64(0) << ((64 - 8*count) & 63)
	if (d+nines|d)&tops != 0 {
		return 0, false
	}
	if d>>((64-8*count)&63)&0xff == 0 && whole > 1 {
		return 0, false // a leading zero
	}
	d = (d*10 + d>>8) & 0x00ff00ff00ff00ff
	d = (d*100 + d>>16) & 0x0000ffff0000ffff
	d = (d*10000 + d>>32) & 0x00000000ffffffff
	v = (int64(d) ^ -negative) + negative
	return v, v != 0 || negative == 0
}

// Double returns what Parse does as the number that the text stands for.
func (t *Digits) Double(key uint64, n int) (v float64, ok bool) {
	digits, ok := t.Parse(key, n)
	// Both are exact, so their quotient is the double nearest to the number.
	return float64(digits) / t.unit, ok
}

// ScaleOf returns how many digits stand behind the point in a text of up to 8 bytes.
func ScaleOf(text []byte) int {
	for i, c := range text {
		if c == '.' {
			return len(text) - 1 - i
		}
	}
	return 0
}

// ScaleOfKey is ScaleOf for a text of 1 to 8 bytes with a ShortKey.
func ScaleOfKey(key uint64, n int) int {
	for i := range n {
		if byte(key>>(56-8*i)) == '.' {
			return i
		}
	}
	return 0
}

// ShortKey returns a text of 1 to 8 bytes as a number: its first byte lowest, and all moved up as far as they go.
func ShortKey(text []byte) (key uint64) {
	for i, c := range text {
		key |= uint64(c) << (8 * (8 - len(text) + i))
	}
	return key
}
