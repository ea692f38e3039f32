// Package lexical turns the text of one value into a typed value, and says which types a text could be.
//
// Parsers come in pairs: the strict form is what inference and inferred columns use, and refuses whatever would lose
// something of the text (leading zeros, digits beyond what the type holds); the stated form is used for a column whose type
// the user fixed, and accepts every spelling of the value. No function here allocates on its usual path.
package lexical

import (
	"bytes"
	"math"
	"strconv"
	"unsafe"
)

// Long reads -?(0|[1-9][0-9]*) within 64 bits. Leading zeros, a plus sign and minus zero are refused: they would not come
// back the same.
func Long(b []byte) (int64, bool) {
	n := len(b)
	if n == 0 {
		return 0, false
	}
	i := 0
	negative := b[0] == '-'
	if negative {
		i = 1
	}
	digits := n - i
	if digits == 0 || digits > 19 {
		return 0, false
	}
	if b[i] == '0' && (digits > 1 || negative) {
		return 0, false
	}
	return accumulate(b[i:], negative)
}

// StatedLong reads what Long reads and also a plus sign and leading zeros.
func StatedLong(b []byte) (int64, bool) {
	i := 0
	negative := false
	if len(b) > 0 && (b[0] == '-' || b[0] == '+') {
		negative = b[0] == '-'
		i = 1
	}
	if i == len(b) {
		return 0, false
	}
	for i < len(b)-1 && b[i] == '0' {
		i++
	}
	if len(b)-i > 19 {
		return 0, false
	}
	return accumulate(b[i:], negative)
}

// accumulate adds up 1 to 19 decimal digits.
func accumulate(digits []byte, negative bool) (int64, bool) {
	var v uint64
	for _, c := range digits {
		d := c - '0'
		if d > 9 {
			return 0, false
		}
		v = v*10 + uint64(d)
	}
	if negative {
		if v > 1<<63 {
			return 0, false
		}
		return -int64(v), true
	}
	if v > math.MaxInt64 {
		return 0, false
	}
	return int64(v), true
}

// ExactInDouble reports whether a whole number survives being kept as a double.
func ExactInDouble(v int64) bool { return v >= -1<<53 && v <= 1<<53 }

// mostDigits is how many significant digits any double is written with at most. A number with more was not written from a
// double and would lose digits as one.
const mostDigits = 17

// number is the outcome of scanning a decimal number.
type number struct {
	mantissa    uint64 // the first 19 significant digits
	significant int    // number of significant digits, without leading zeros
	exponent    int    // power of ten that the mantissa is multiplied by
	whole       bool   // neither a point nor an exponent was there
	negative    bool
	zeros       bool // the whole part has a leading zero before another digit
	plus        bool
}

// scanNumber reads [+-]?digits[.digits][(e|E)[+-]digits], with digits on at least one side of the point.
func scanNumber(b []byte) (number, bool) {
	var n number
	i := 0
	if i < len(b) && (b[i] == '-' || b[i] == '+') {
		n.negative = b[i] == '-'
		n.plus = b[i] == '+'
		i++
	}
	start := i
	for i < len(b) {
		d := b[i] - '0'
		if d > 9 {
			break
		}
		n.push(d)
		i++
	}
	wholeDigits := i - start
	n.zeros = wholeDigits > 1 && b[start] == '0'
	n.whole = true
	if i < len(b) && b[i] == '.' {
		n.whole = false
		i++
		fraction := i
		for i < len(b) {
			d := b[i] - '0'
			if d > 9 {
				break
			}
			n.push(d)
			n.exponent--
			i++
		}
		if i == fraction && wholeDigits == 0 {
			return n, false
		}
	} else if wholeDigits == 0 {
		return n, false
	}
	if i < len(b) && (b[i] == 'e' || b[i] == 'E') {
		n.whole = false
		e, ok := StatedLong(b[i+1:])
		if !ok || e > 9999 || e < -9999 {
			return n, false
		}
		n.exponent += int(e)
		i = len(b)
	}
	return n, i == len(b)
}

// push takes one more digit of the mantissa.
func (n *number) push(d byte) {
	if n.significant == 0 && d == 0 {
		return
	}
	if n.significant < 19 {
		n.mantissa = n.mantissa*10 + uint64(d)
	} else {
		n.exponent++
	}
	n.significant++
}

var powersOfTen = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
	1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// value computes the nearest double. When mantissa and power are both exact doubles one rounding gives the nearest, by
// Clinger's argument ("How to Read Floating Point Numbers Accurately", 1990, section 4); the rest goes to the standard library.
func (n *number) value(b []byte) (float64, bool) {
	if n.significant <= 19 && n.mantissa <= 1<<53 && n.exponent >= -22 && n.exponent <= 22 {
		f := float64(n.mantissa)
		if n.exponent < 0 {
			f /= powersOfTen[-n.exponent]
		} else {
			f *= powersOfTen[n.exponent]
		}
		if n.negative {
			f = -f
		}
		return f, true
	}
	f, err := strconv.ParseFloat(unsafe.String(unsafe.SliceData(b), len(b)), 64)
	return f, err == nil
}

// plain reads -?digits[.digits] of at most 15 digits without leading zeros, which most numbers are: mantissa and fraction then make its
// value exactly, and no digit needs a closer look.
func plain(b []byte) (mantissa uint64, whole, fraction int, negative, ok bool) {
	i := 0
	if len(b) > 0 && b[0] == '-' {
		negative = true
		i = 1
	}
	if len(b)-i > 16 {
		return 0, 0, 0, false, false
	}
	start := i
	for i < len(b) {
		d := b[i] - '0'
		if d > 9 {
			break
		}
		mantissa = mantissa*10 + uint64(d)
		i++
	}
	whole = i - start
	if whole == 0 || whole > 1 && b[start] == '0' {
		return 0, 0, 0, false, false
	}
	if i == len(b) {
		return mantissa, whole, 0, negative, whole <= 15
	}
	if b[i] != '.' || i+1 == len(b) {
		return 0, 0, 0, false, false
	}
	for i++; i < len(b); i++ {
		d := b[i] - '0'
		if d > 9 {
			return 0, 0, 0, false, false
		}
		mantissa = mantissa*10 + uint64(d)
		fraction++
	}
	return mantissa, whole, fraction, negative, true
}

// exact makes a double of what plain read.
func exact(mantissa uint64, fraction int, negative bool) float64 {
	f := float64(mantissa) / powersOfTen[fraction]
	if negative {
		f = -f
	}
	return f
}

// Measured is what a plain number tells of itself: its value, and the digits before and after its point.
type Measured struct {
	Value            float64
	Digits, Fraction int
}

// Measure reads a number of up to 15 digits as it is mostly written: without exponent, plus sign, leading zeros, and not minus
// zero. ok is false for all others, whatever they are.
func Measure(b []byte) (m Measured, ok bool) {
	mantissa, whole, fraction, negative, ok := plain(b)
	if !ok || negative && mantissa == 0 {
		return m, false
	}
	return Measured{Value: exact(mantissa, fraction, negative), Digits: whole, Fraction: fraction}, true
}

// Double reads a decimal number of at most 17 significant digits, without a plus sign or leading zeros, within the range of a
// double. Whole numbers are read too where a double holds them exactly.
func Double(b []byte) (float64, bool) {
	if mantissa, _, fraction, negative, ok := plain(b); ok {
		return exact(mantissa, fraction, negative), true
	}
	n, ok := scanNumber(b)
	if !ok || n.zeros || n.plus {
		return 0, false
	}
	if n.significant > mostDigits {
		return longDouble(b, n)
	}
	if n.whole && (n.mantissa > 1<<53 || n.exponent > 0) {
		return 0, false
	}
	f, ok := n.value(b)
	if !ok || (f == 0 && n.mantissa != 0) {
		return 0, false
	}
	return f, true
}

// longDouble reads a number of more digits than any double needs, where nothing of them is lost: the digits beyond are zeros,
// or it is what a double is when it is written with so many digits.
func longDouble(b []byte, n number) (float64, bool) {
	if n.whole {
		return 0, false
	}
	var buffer [64]byte
	digits := buffer[:0]
	for _, c := range b {
		if c|0x20 == 'e' {
			break
		}
		if c-'0' <= 9 && (c != '0' || len(digits) > 0) {
			digits = append(digits, c)
		}
	}
	for len(digits) > 1 && digits[len(digits)-1] == '0' {
		digits = digits[:len(digits)-1]
	}
	f, err := strconv.ParseFloat(string(b), 64)
	if err != nil || f == 0 {
		return 0, false
	}
	if len(digits) <= mostDigits {
		return f, true
	}
	var written [128]byte
	back := strconv.AppendFloat(written[:0], math.Abs(f), 'e', len(digits)-1, 64)
	at := 0
	for _, c := range back {
		if c == 'e' {
			break
		}
		if c == '.' {
			continue
		}
		if digits[at] != c {
			return 0, false
		}
		at++
	}
	return f, true
}

// WholeLong reads a number that is whole however it is written: 12.0 and 1.2e1 are 12.
func WholeLong(b []byte) (int64, bool) {
	if v, ok := Long(b); ok {
		return v, true
	}
	if at := bytes.IndexByte(b, '.'); at >= 0 && len(bytes.TrimRight(b[at+1:], "0")) == 0 {
		return Long(b[:at])
	}
	n, ok := scanNumber(b)
	if !ok || n.whole || n.zeros || n.plus || n.significant > 19 {
		return 0, false
	}
	for ; n.exponent < 0; n.exponent++ {
		if n.mantissa%10 != 0 {
			return 0, false
		}
		n.mantissa /= 10
	}
	for ; n.exponent > 0 && n.mantissa > 0; n.exponent-- {
		if n.mantissa > math.MaxInt64/10 {
			return 0, false
		}
		n.mantissa *= 10
	}
	if n.mantissa > math.MaxInt64 {
		return 0, false
	}
	if n.negative {
		return -int64(n.mantissa), true
	}
	return int64(n.mantissa), true
}

// StatedDouble reads any decimal number, rounded to the nearest double, and NaN and the infinities in their usual spellings.
func StatedDouble(b []byte) (float64, bool) {
	n, ok := scanNumber(b)
	if ok {
		return n.value(b)
	}
	return special(b)
}

// special reads nan, inf and infinity in any letter case, the infinities with a sign.
func special(b []byte) (float64, bool) {
	sign := 1
	rest := b
	if len(rest) > 0 && (rest[0] == '-' || rest[0] == '+') {
		if rest[0] == '-' {
			sign = -1
		}
		rest = rest[1:]
	}
	switch {
	case equalFold(rest, "nan") && len(rest) == len(b):
		return math.NaN(), true
	case equalFold(rest, "inf"), equalFold(rest, "infinity"):
		return math.Inf(sign), true
	}
	return 0, false
}

// Boolean reads true and false in any letter case.
func Boolean(b []byte) (value, ok bool) {
	switch {
	case equalFold(b, "true"):
		return true, true
	case equalFold(b, "false"):
		return false, true
	}
	return false, false
}

// StatedBoolean reads true, t, yes, y, 1 and false, f, no, n, 0 in any letter case.
func StatedBoolean(b []byte) (value, ok bool) {
	for _, word := range [...]string{"true", "t", "yes", "y", "1"} {
		if equalFold(b, word) {
			return true, true
		}
	}
	for _, word := range [...]string{"false", "f", "no", "n", "0"} {
		if equalFold(b, word) {
			return false, true
		}
	}
	return false, false
}

// equalFold compares with a lower-case ASCII word.
func equalFold(b []byte, word string) bool {
	if len(b) != len(word) {
		return false
	}
	for i := range b {
		c := b[i]
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if c != word[i] {
			return false
		}
	}
	return true
}
