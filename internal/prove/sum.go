package prove

import (
	"math"
	"math/big"
	"math/bits"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/decimal128"
)

// whole is an exact sum of whole numbers, of 192 bits.
type whole struct {
	low, middle uint64
	high        int64
}

func (w *whole) add(v int64) {
	var carry uint64
	sign := uint64(v >> 63)
	w.low, carry = bits.Add64(w.low, uint64(v), 0)
	w.middle, carry = bits.Add64(w.middle, sign, carry)
	w.high += int64(sign) + int64(carry)
}

func (w *whole) addDecimal(v decimal128.Num) {
	var carry uint64
	w.low, carry = bits.Add64(w.low, v.LowBits(), 0)
	w.middle, carry = bits.Add64(w.middle, uint64(v.HighBits()), carry)
	w.high += v.HighBits()>>63 + int64(carry)
}

func (w *whole) merge(o whole) {
	var carry uint64
	w.low, carry = bits.Add64(w.low, o.low, 0)
	w.middle, carry = bits.Add64(w.middle, o.middle, carry)
	w.high += o.high + int64(carry)
}

func (w whole) value() *big.Int {
	out := big.NewInt(w.high)
	out.Lsh(out, 64).Or(out, new(big.Int).SetUint64(w.middle))
	return out.Lsh(out, 64).Or(out, new(big.Int).SetUint64(w.low))
}

// text writes the sum with so many digits behind the point.
func (w whole) text(scale int) string {
	text := w.value().String()
	if scale <= 0 {
		return text
	}
	sign := ""
	if text[0] == '-' {
		sign, text = "-", text[1:]
	}
	if n := scale + 1 - len(text); n > 0 {
		text = strings.Repeat("0", n) + text
	}
	return sign + text[:len(text)-scale] + "." + text[len(text)-scale:]
}

// exponents is how many exponents a double has.
const exponents = 1 << 11

// doubles is an exact sum of doubles: one of their whole fractions for each exponent, so that the order in which they are added makes no
// difference. What is not finite is counted.
type doubles struct {
	parts        *[exponents]whole
	nans         int64
	above, below int64 // infinities
}

func (d *doubles) add(v float64) {
	b := math.Float64bits(v)
	exponent := int(b >> 52 & (exponents - 1))
	fraction := int64(b & (1<<52 - 1))
	if exponent == exponents-1 {
		switch {
		case fraction != 0:
			d.nans++
		case v > 0:
			d.above++
		default:
			d.below++
		}
		return
	}
	if d.parts == nil {
		d.parts = new([exponents]whole)
	}
	if exponent == 0 {
		exponent = 1
	} else {
		fraction |= 1 << 52
	}
	if b>>63 == 1 {
		fraction = -fraction
	}
	d.parts[exponent].add(fraction)
}

func (d *doubles) merge(o *doubles) {
	d.nans, d.above, d.below = d.nans+o.nans, d.above+o.above, d.below+o.below
	if o.parts == nil {
		return
	}
	if d.parts == nil {
		d.parts = new([exponents]whole)
	}
	for i := range d.parts {
		d.parts[i].merge(o.parts[i])
	}
}

// text writes the sum, rounded to the nearest double.
func (d *doubles) text() string {
	switch {
	case d.nans > 0 || d.above > 0 && d.below > 0:
		return "NaN"
	case d.above > 0:
		return "Infinity"
	case d.below > 0:
		return "-Infinity"
	case d.parts == nil:
		return "0"
	}
	all := new(big.Int)
	for exponent := exponents - 2; exponent >= 1; exponent-- {
		if d.parts[exponent] != (whole{}) {
			part := d.parts[exponent].value()
			all.Add(all, part.Lsh(part, uint(exponent-1)))
		}
	}
	// The smallest fraction counts 2^-1074.
	sum, _ := new(big.Float).SetMantExp(new(big.Float).SetInt(all), -1074).Float64()
	if math.Abs(sum) < 1e15 {
		return strconv.FormatFloat(sum, 'f', -1, 64)
	}
	return strconv.FormatFloat(sum, 'g', -1, 64)
}
