package expr

import (
	"math/big"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// digits are how many a decimal has, and how many of them after its point.
type digits struct{ precision, scale int }

// ofLong are the digits of whole numbers.
var ofLong = digits{precision: 19}

// ten are the powers of ten by which scales are changed.
var ten = func() (out [2*lexical.MaxPrecision + 1]*big.Int) {
	for i := range out {
		out[i] = new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(i)), nil)
	}
	return out
}()

// exact gives the operands of an operation one kind where one of them is a decimal: decimals where both are exact, which whole
// numbers and literals are, otherwise doubles. ok is false where none is a decimal.
func (p *parser) exact(a, b node) (x, y node, ok bool) {
	if a.kind != schema.Decimal && b.kind != schema.Decimal {
		return a, b, false
	}
	x, aExact := asDecimal(a)
	y, bExact := asDecimal(b)
	if aExact && bExact {
		return x, y, true
	}
	if number(a.kind) && number(b.kind) {
		return toDouble(a), toDouble(b), true
	}
	return a, b, false
}

// asDecimal makes a decimal of a number that is exact.
func asDecimal(n node) (node, bool) {
	switch {
	case n.kind == schema.Decimal:
		return n, true
	case n.literal != "":
		return decimalLiteral(n)
	case n.kind == schema.Long:
		out := mapped(schema.Decimal, n.at, n, func(_ *rows, out, in *vector, i int) error {
			out.decimals[i] = decimal128.FromI64(in.longs[i])
			return nil
		})
		out.digits = ofLong
		return out, true
	}
	return n, false
}

// decimalLiteral reads a literal with a point, or of very many digits, as the decimal that it is.
func decimalLiteral(n node) (node, bool) {
	whole, fraction, _ := strings.Cut(strings.TrimLeft(n.literal, "-"), ".")
	d := digits{precision: max(1, len(whole)+len(fraction)), scale: len(fraction)}
	if d.precision > lexical.MaxPrecision || strings.ContainsAny(n.literal, "eE") {
		return n, false
	}
	text := n.literal
	if whole == "" {
		text = strings.Replace(text, ".", "0.", 1)
	}
	u, ok := lexical.StatedDecimal([]byte(strings.TrimSuffix(text, ".")), d.precision, d.scale)
	out := constant(n.at, &vector{kind: schema.Decimal, decimals: []decimal128.Num{decimal128.New(u.High, u.Low)}})
	out.digits = d
	return out, ok
}

// decimals is arithmetic of decimals: of + and - the result has as many digits after the point as the operand with more of
// them, of * as many as both together. A quotient is a double.
func (p *parser) decimals(at int, sign string, a, b node) node {
	d := digits{scale: max(a.digits.scale, b.digits.scale)}
	switch sign {
	case "/":
		return p.arithmetic(at, sign, toDouble(a), toDouble(b))
	case "*":
		d = digits{a.digits.precision + b.digits.precision, a.digits.scale + b.digits.scale}
		if d.scale > lexical.MaxPrecision {
			return p.fail(at, "the product has %d digits after the point, more than %d; CAST one of them AS double", d.scale,
				lexical.MaxPrecision)
		}
	default:
		d.precision = max(a.digits.precision-a.digits.scale, b.digits.precision-b.digits.scale) + 1 + d.scale
	}
	d.precision = min(d.precision, lexical.MaxPrecision)
	out := paired(schema.Decimal, at, a, b, func(rows *rows, out, x, y *vector, i int) error {
		left, right, result := x.decimals[i].BigInt(), y.decimals[i].BigInt(), new(big.Int)
		switch sign {
		case "*":
			result.Mul(left, right)
		case "+":
			result.Add(scaled(left, d.scale-a.digits.scale), scaled(right, d.scale-b.digits.scale))
		default:
			result.Sub(scaled(left, d.scale-a.digits.scale), scaled(right, d.scale-b.digits.scale))
		}
		if result.CmpAbs(ten[d.precision]) >= 0 {
			return rows.fail(at, "%s %s %s has more than %d digits; CAST one of them AS double",
				x.decimals[i].ToString(int32(a.digits.scale)), sign,
				y.decimals[i].ToString(int32(b.digits.scale)), d.precision)
		}
		out.decimals[i] = decimal128.FromBigInt(result)
		return nil
	})
	out.digits = d
	return out
}

func scaled(v *big.Int, by int) *big.Int {
	if by == 0 {
		return v
	}
	return v.Mul(v, ten[by])
}

// compareDecimals compares decimals of any scales.
func compareDecimals(x, y decimal128.Num, xScale, yScale int) int {
	if xScale == yScale {
		return x.Cmp(y)
	}
	scale := max(xScale, yScale)
	return scaled(x.BigInt(), scale-xScale).Cmp(scaled(y.BigInt(), scale-yScale))
}

// sameScale gives decimals one scale, and digits for all of them.
func (p *parser) sameScale(at int, values []node) []node {
	var all digits
	for _, v := range values {
		all.scale = max(all.scale, v.digits.scale)
	}
	for _, v := range values {
		all.precision = max(all.precision, v.digits.precision-v.digits.scale+all.scale)
	}
	if all.precision > lexical.MaxPrecision {
		p.fail(at, "the values have more than %d digits together; CAST them AS double", lexical.MaxPrecision)
		return values
	}
	for i, v := range values {
		by := all.scale - v.digits.scale
		if by > 0 {
			values[i] = mapped(schema.Decimal, v.at, v, func(_ *rows, out, in *vector, i int) error {
				out.decimals[i] = decimal128.FromBigInt(scaled(in.decimals[i].BigInt(), by))
				return nil
			})
		}
		values[i].digits = all
	}
	return values
}

// toDecimal makes a decimal of a value of another kind; ok is false where it has more digits. What a number has beyond the
// scale is rounded, half away from zero, as is usual; a text is taken as a column of the type takes it.
func toDecimal(of node, in *vector, i int, d digits) (_ decimal128.Num, ok bool) {
	var v *big.Rat
	switch in.kind {
	case schema.String:
		u, ok := lexical.StatedDecimal([]byte(in.texts[i]), d.precision, d.scale)
		return decimal128.New(u.High, u.Low), ok
	case schema.Long:
		v = new(big.Rat).SetInt64(in.longs[i])
	case schema.Double:
		if v = new(big.Rat).SetFloat64(in.doubles[i]); v == nil {
			return decimal128.Num{}, false
		}
	case schema.Decimal:
		v = new(big.Rat).SetFrac(in.decimals[i].BigInt(), ten[of.digits.scale])
	default:
		return decimal128.Num{}, false
	}
	v.Mul(v, new(big.Rat).SetInt(ten[d.scale]))
	half := big.NewRat(1, 2)
	if v.Sign() < 0 {
		half.Neg(half)
	}
	v.Add(v, half)
	whole := new(big.Int).Quo(v.Num(), v.Denom())
	if whole.CmpAbs(ten[d.precision]) >= 0 {
		return decimal128.Num{}, false
	}
	return decimal128.FromBigInt(whole), true
}

// fromDecimal makes a value of another kind of a decimal, alone in a vector.
func fromDecimal(out *vector, v decimal128.Num, scale int) (ok bool) {
	switch out.kind {
	case schema.String:
		out.texts[0] = v.ToString(int32(scale))
	case schema.Double:
		out.doubles[0] = v.ToFloat64(int32(scale))
	case schema.Long:
		// Towards zero, as of doubles.
		whole := new(big.Int).Quo(v.BigInt(), ten[scale])
		out.longs[0] = whole.Int64()
		return whole.IsInt64()
	default:
		return false
	}
	return true
}

// decimalType takes the precision and scale of a decimal in brackets; without any it has as many digits as there are, and none
// after the point.
func (p *parser) decimalType() digits {
	if !p.is("(") {
		return digits{precision: lexical.MaxPrecision}
	}
	d := digits{precision: p.count(1, lexical.MaxPrecision)}
	if p.is(",") {
		d.scale = p.count(0, d.precision)
	}
	p.expect(")")
	return d
}

// count takes a whole number within bounds.
func (p *parser) count(least, most int) int {
	t := p.take()
	v, err := strconv.Atoi(t.text)
	if t.kind != numberToken || err != nil || v < least || v > most {
		p.fail(t.at, "a number from %d to %d is expected here, not %s", least, most, t.show())
		return least
	}
	return v
}

// absolute is ABS of a decimal, which has as many digits.
func absolute(name token, n node) node {
	out := mapped(schema.Decimal, name.at, n, func(_ *rows, out, in *vector, i int) error {
		out.decimals[i] = in.decimals[i].Abs()
		return nil
	})
	out.digits = n.digits
	return out
}

// toDouble makes doubles of numbers.
func toDouble(n node) node {
	if n.kind == schema.Double {
		return n
	}
	return mapped(schema.Double, n.at, n, func(_ *rows, out, in *vector, i int) error {
		if in.kind == schema.Decimal {
			out.doubles[i] = in.decimals[i].ToFloat64(int32(n.digits.scale))
		} else {
			out.doubles[i] = float64(in.longs[i])
		}
		return nil
	})
}
