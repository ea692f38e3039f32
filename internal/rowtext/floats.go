package rowtext

import (
	"math"
	"strconv"
)

// powers of ten up to which a decimal of so many places is tried.
var powers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9}

// mostDigits is below which a number of hundredths, thousandths and so on stands for no more than one floating-point number, and is
// exact as one itself.
const mostDigits = 1e15

// places writes the floating-point numbers of a column: most of them have few places after the point, and as many as the one before.
type places struct{ last int }

// append writes a number with as few digits as read back to it, as strconv does.
func (p *places) append(dst []byte, v float64) ([]byte, bool) {
	abs := math.Abs(v)
	if !(abs >= 1e-6 && abs < mostDigits) {
		return appendFloat(dst, v, 64)
	}
	n, ok := decimal(abs, p.last)
	for at := 0; !ok && at < len(powers); at++ {
		if n, ok = decimal(abs, at); ok {
			p.last = at
		}
	}
	if !ok {
		return appendFloat(dst, v, 64)
	}
	if v < 0 {
		dst = append(dst, '-')
	}
	digits := p.last
	for digits > 0 && n%10 == 0 {
		n, digits = n/10, digits-1
	}
	if digits == 0 {
		return strconv.AppendUint(dst, n, 10), false
	}
	power := uint64(powers[digits])
	dst = append(strconv.AppendUint(dst, n/power, 10), '.')
	rest := n % power
	for power /= 10; power > rest && power > 1; power /= 10 {
		dst = append(dst, '0')
	}
	return strconv.AppendUint(dst, rest, 10), false
}

// decimal is a number in units of so many places; ok is false where that is not the number itself. Both the number of units and the
// power of ten are exact, so that their quotient is what the text reads back to.
func decimal(v float64, places int) (units uint64, ok bool) {
	scaled := math.Round(v * powers[places])
	if scaled >= mostDigits || scaled/powers[places] != v {
		return 0, false
	}
	return uint64(scaled), true
}
