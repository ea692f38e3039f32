package lexical

import "math/bits"

// MaxPrecision is how many digits a decimal has at most (Iceberg specification, "Primitive Types").
const MaxPrecision = 38

// Unscaled is the whole number that a decimal is kept as: its value times ten to the power of its scale, in two's complement.
type Unscaled struct {
	High int64
	Low  uint64
}

// push multiplies by ten and adds a digit. Up to MaxPrecision digits it cannot overflow.
func (u *Unscaled) push(d byte) {
	high, low := bits.Mul64(u.Low, 10)
	low, carry := bits.Add64(low, uint64(d), 0)
	u.High, u.Low = u.High*10+int64(high+carry), low
}

func (u *Unscaled) negate() {
	low, borrow := bits.Sub64(0, u.Low, 0)
	u.High, u.Low = -u.High-int64(borrow), low
}

// Decimal reads -?digits[.digits] as a decimal of a precision and scale, without leading zeros. Nothing is rounded: a text with more
// digits than there is room for is refused.
func Decimal(b []byte, precision, scale int) (Unscaled, bool) {
	if len(b) > 0 && b[0] == '+' {
		return Unscaled{}, false
	}
	digits := b
	if len(b) > 0 && b[0] == '-' {
		digits = b[1:]
	}
	if len(digits) > 1 && digits[0] == '0' && digits[1] != '.' {
		return Unscaled{}, false
	}
	return decimal(b, precision, scale)
}

// StatedDecimal reads what Decimal reads and also a plus sign, leading zeros, zeros beyond the scale and exponents.
func StatedDecimal(b []byte, precision, scale int) (Unscaled, bool) {
	if u, ok := decimal(b, precision, scale); ok {
		return u, true
	}
	return scientific(b, precision, scale)
}

// decimal reads a sign, digits and a fraction.
func decimal(b []byte, precision, scale int) (Unscaled, bool) {
	var u Unscaled
	i := 0
	negative := len(b) > 0 && b[0] == '-'
	if negative || len(b) > 0 && b[0] == '+' {
		i++
	}
	significant, fraction, digits := 0, -1, 0
	for ; i < len(b); i++ {
		d := b[i] - '0'
		if b[i] == '.' && fraction < 0 && i < len(b)-1 {
			fraction = 0
			continue
		}
		if d > 9 {
			return u, false
		}
		digits++
		if fraction >= 0 {
			if fraction++; fraction > scale {
				if d != 0 {
					return u, false
				}
				fraction--
				continue
			}
		}
		if significant > 0 || d > 0 {
			significant++
		}
		if significant > precision {
			return u, false
		}
		u.push(d)
	}
	for n := max(fraction, 0); n < scale; n++ {
		if significant > 0 {
			significant++
		}
		if significant > precision {
			return u, false
		}
		u.push(0)
	}
	if negative {
		u.negate()
	}
	return u, digits > 0
}

// scientific reads a number with an exponent by moving its point.
func scientific(b []byte, precision, scale int) (Unscaled, bool) {
	at := -1
	for i, c := range b {
		if c|0x20 == 'e' {
			at = i
			break
		}
	}
	if _, ok := scanNumber(b); at < 1 || !ok {
		return Unscaled{}, false
	}
	exponent, ok := StatedLong(b[at+1:])
	if !ok || exponent > MaxPrecision || exponent < -2*MaxPrecision {
		return Unscaled{}, false
	}
	return decimal(movePoint(b[:at], int(exponent)), precision, scale)
}

// movePoint writes a number times ten to the power of n without an exponent.
func movePoint(b []byte, n int) []byte {
	var out, digits []byte
	point := -1
	for _, c := range b {
		switch {
		case c == '-' || c == '+':
			out = append(out, c)
		case c == '.':
			point = len(digits)
		default:
			digits = append(digits, c)
		}
	}
	if point < 0 {
		point = len(digits)
	}
	point += n
	for ; point <= 0; point++ {
		digits = append([]byte{'0'}, digits...)
	}
	for len(digits) < point {
		digits = append(digits, '0')
	}
	out = append(out, digits[:point]...)
	if point < len(digits) {
		out = append(append(out, '.'), digits[point:]...)
	}
	return out
}

// Shape is how a number is written.
type Shape struct {
	// Whole and Fraction count the digits before the point, leading zeros not included, and those after it.
	Whole, Fraction int
	// Exponent says that one is there; Whole and Fraction then do not matter.
	Exponent bool
	// Lossless says that no plus sign and no leading zeros are there, and Significant counts the digits from the first that is not 0.
	Lossless    bool
	Significant int
}

// NumberShape tells how a text writes a decimal number; ok is false where it is none.
func NumberShape(b []byte) (s Shape, ok bool) {
	n, ok := scanNumber(b)
	if !ok {
		return s, false
	}
	s.Lossless, s.Significant = !n.zeros && !n.plus, n.significant
	i := 0
	if b[0] == '-' || b[0] == '+' {
		i++
	}
	leading := true
	for ; i < len(b) && b[i] != '.'; i++ {
		if b[i]|0x20 == 'e' {
			s.Exponent = true
			return s, true
		}
		if leading = leading && b[i] == '0'; !leading {
			s.Whole++
		}
	}
	for i++; i < len(b); i++ {
		if b[i]|0x20 == 'e' {
			s.Exponent = true
			return s, true
		}
		s.Fraction++
	}
	return s, true
}
