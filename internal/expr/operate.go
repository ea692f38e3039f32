package expr

import (
	"cmp"
	"fmt"
	"math"
	"math/bits"
	"regexp"
	"strings"
	"sync"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// typed gives two operands one kind: that of the other for NULL, double where one is, and that of the column for a literal of
// text beside a date or timestamp.
func (p *parser) typed(at int, a, b node) (node, node, bool) {
	switch {
	case p.err != nil:
		return a, b, false
	case a.null && b.null:
		p.fail(at, "NULL has no type here; write CAST(NULL AS double)")
		return a, b, false
	case a.null:
		return nullLike(b, a.at), b, true
	case b.null:
		return a, nullLike(a, b.at), true
	case a.kind == b.kind:
		return a, b, true
	case a.kind == schema.Long && b.kind == schema.Double:
		return toDouble(a), b, true
	case a.kind == schema.Double && b.kind == schema.Long:
		return a, toDouble(b), true
	case a.kind == schema.Date && (b.kind == schema.Timestamp || b.kind == schema.TimestampTz):
		return toMicros(a, b.kind), b, true
	case b.kind == schema.Date && (a.kind == schema.Timestamp || a.kind == schema.TimestampTz):
		return a, toMicros(b, a.kind), true
	}
	if a, b, ok := p.exact(a, b); ok {
		return a, b, true
	}
	p.fail(at, "%s and %s do not go together; CAST one of them", a.kind, b.kind)
	return a, b, false
}

// nullOf is NULL as a value of a kind.
func nullOf(kind schema.Kind, at int) node {
	return node{kind: kind, at: at, eval: func(b *rows) (*vector, error) {
		v := newVector(kind, b.n)
		for i := range b.n {
			v.setNull(i, b.n)
		}
		return v, nil
	}}
}

// nullLike is NULL as a value of the kind of another.
func nullLike(n node, at int) node {
	out := nullOf(n.kind, at)
	out.digits = n.digits
	return out
}

// mapped returns a node of a kind whose values are made one by one of those of another; nulls stay null.
func mapped(kind schema.Kind, at int, of node, set func(b *rows, out, in *vector, i int) error) node {
	return node{kind: kind, at: at, eval: func(b *rows) (*vector, error) {
		in, err := of.eval(b)
		if err != nil {
			return nil, err
		}
		out := newVector(kind, b.n)
		out.null = in.null
		for i := range b.n {
			if !in.isNull(i) {
				if err := set(b, out, in, i); err != nil {
					return nil, b.of(i, err)
				}
			}
		}
		return out, nil
	}}
}

// paired is mapped for two operands; a null on either side gives null.
func paired(kind schema.Kind, at int, x, y node, set func(b *rows, out, x, y *vector, i int) error) node {
	return node{kind: kind, at: at, eval: func(b *rows) (*vector, error) {
		left, err := x.eval(b)
		if err != nil {
			return nil, err
		}
		right, err := y.eval(b)
		if err != nil {
			return nil, err
		}
		out := newVector(kind, b.n)
		for i := range b.n {
			if left.isNull(i) || right.isNull(i) {
				out.setNull(i, b.n)
			} else if err := set(b, out, left, right, i); err != nil {
				return nil, b.of(i, err)
			}
		}
		return out, nil
	}}
}

func toMicros(n node, kind schema.Kind) node {
	return mapped(kind, n.at, n, func(_ *rows, out, in *vector, i int) error {
		out.longs[i] = in.longs[i] * lexical.MicrosPerDay
		return nil
	})
}

func number(k schema.Kind) bool { return k == schema.Long || k == schema.Double || k == schema.Decimal }

// arithmetic takes + - * / of numbers. Dates and timestamps are not added to: there is no literal of an interval.
func (p *parser) arithmetic(at int, sign string, a, b node) node {
	a, b, ok := p.typed(at, a, b)
	if !ok {
		return node{kind: schema.Double, at: at}
	}
	if !number(a.kind) {
		return p.fail(at, "%s takes numbers, not %s", sign, a.kind)
	}
	if a.kind == schema.Decimal {
		return p.decimals(at, sign, a, b)
	}
	if a.kind == schema.Double {
		return paired(schema.Double, at, a, b, func(b *rows, out, x, y *vector, i int) error {
			switch sign {
			case "+":
				out.doubles[i] = x.doubles[i] + y.doubles[i]
			case "-":
				out.doubles[i] = x.doubles[i] - y.doubles[i]
			case "*":
				out.doubles[i] = x.doubles[i] * y.doubles[i]
			default:
				if y.doubles[i] == 0 {
					return b.fail(at, "division by zero; NULLIF(…, 0) makes the result null")
				}
				out.doubles[i] = x.doubles[i] / y.doubles[i]
			}
			return nil
		})
	}
	return paired(schema.Long, at, a, b, func(b *rows, out, x, y *vector, i int) error {
		v, ok := whole(sign, x.longs[i], y.longs[i])
		if !ok && sign == "/" && y.longs[i] == 0 {
			return b.fail(at, "division by zero; NULLIF(…, 0) makes the result null")
		}
		if !ok {
			return b.fail(at, "%d %s %d is beyond the type long; CAST one of them AS double", x.longs[i], sign, y.longs[i])
		}
		out.longs[i] = v
		return nil
	})
}

// whole does arithmetic of whole numbers; ok is false where the result is none that fits.
func whole(sign string, x, y int64) (v int64, ok bool) {
	switch sign {
	case "+":
		v = x + y
		return v, (v > x) == (y > 0) || y == 0
	case "-":
		v = x - y
		return v, (v < x) == (y > 0) || y == 0
	case "*":
		high, low := bits.Mul64(magnitude(x), magnitude(y))
		if (x < 0) != (y < 0) {
			return -int64(low), high == 0 && low <= 1<<63
		}
		return int64(low), high == 0 && low < 1<<63
	}
	if y == 0 || x == math.MinInt64 && y == -1 {
		return 0, false
	}
	return x / y, true
}

func magnitude(x int64) uint64 {
	if x < 0 {
		return -uint64(x)
	}
	return uint64(x)
}

func (p *parser) compare(at int, sign string, a, b node) node {
	left, right := a.column, b.column
	constant := [2]bool{a.constant, b.constant}
	a, b, ok := p.typed(at, a, b)
	if !ok {
		return node{kind: schema.Boolean, at: at}
	}
	// A literal stays one in the type that both sides are compared in.
	a.constant, b.constant = constant[0], constant[1]
	kind := a.kind
	out := paired(schema.Boolean, at, a, b, func(_ *rows, out, x, y *vector, i int) error {
		var c int
		switch kind {
		case schema.Double:
			if x.doubles[i] != x.doubles[i] || y.doubles[i] != y.doubles[i] {
				out.flags[i] = sign == "<>"
				return nil
			}
			c = cmp.Compare(x.doubles[i], y.doubles[i])
		case schema.Decimal:
			c = compareDecimals(x.decimals[i], y.decimals[i], a.digits.scale, b.digits.scale)
		case schema.String:
			c = cmp.Compare(x.texts[i], y.texts[i])
		case schema.Boolean:
			c = cmp.Compare(rank(x.flags[i]), rank(y.flags[i]))
		default:
			c = cmp.Compare(x.longs[i], y.longs[i])
		}
		switch sign {
		case "=":
			out.flags[i] = c == 0
		case "<>":
			out.flags[i] = c != 0
		case "<":
			out.flags[i] = c < 0
		case "<=":
			out.flags[i] = c <= 0
		case ">":
			out.flags[i] = c > 0
		default:
			out.flags[i] = c >= 0
		}
		return nil
	})
	if left == "" || right == "" {
		out.bounds = boundOf(sign, left, right, a, b)
		// Bounds do not tell of what is no number.
		out.exact = len(out.bounds) == 1 && kind != schema.Double
	}
	return out
}

func rank(b bool) int {
	if b {
		return 1
	}
	return 0
}

// truth makes sure that a node is a condition.
func (p *parser) truth(n node) node {
	switch {
	case n.null:
		return nullOf(schema.Boolean, n.at)
	case n.kind != schema.Boolean && p.err == nil:
		return p.fail(n.at, "a condition is expected here, this is %s", n.kind)
	}
	return n
}

// logic joins conditions by OR or AND. Unknown OR true is true, unknown AND false is false. The second is asked only for rows
// that the first does not decide.
func (p *parser) logic(at int, x, y node, or bool) node {
	x, y = p.truth(x), p.truth(y)
	bounds, exact := append(x.bounds[:len(x.bounds):len(x.bounds)], y.bounds...), x.exact && y.exact
	if or {
		bounds = either(x.bounds, y.bounds)
		exact = exact && bounds != nil
	}
	return node{kind: schema.Boolean, at: at, bounds: bounds, exact: exact, eval: func(b *rows) (*vector, error) {
		left, err := x.eval(b)
		if err != nil {
			return nil, err
		}
		out := newVector(schema.Boolean, b.n)
		open := make([]int32, 0, b.n)
		for i := range b.n {
			if out.flags[i] = or; left.isNull(i) || left.flags[i] != or {
				open = append(open, int32(i))
			}
		}
		right, err := y.eval(b.only(open))
		if err != nil {
			return nil, err
		}
		for from, i := range open {
			switch {
			case !right.isNull(from) && right.flags[from] == or:
			case left.isNull(int(i)) || right.isNull(from):
				out.setNull(int(i), b.n)
			default:
				out.flags[i] = !or
			}
		}
		return out, nil
	}}
}

func (p *parser) not(at int, n node) node {
	return mapped(schema.Boolean, at, p.truth(n), func(_ *rows, out, in *vector, i int) error {
		out.flags[i] = !in.flags[i]
		return nil
	})
}

func isNull(at int, n node, negated bool) node {
	if n.null {
		n = nullOf(schema.String, n.at)
	}
	var bounds []Bound
	if n.column != "" {
		op := IsNull
		if negated {
			op = IsNotNull
		}
		bounds = []Bound{{Column: n.column, Op: op}}
	}
	return node{kind: schema.Boolean, at: at, bounds: bounds, exact: bounds != nil, eval: func(b *rows) (*vector, error) {
		in, err := n.eval(b)
		if err != nil {
			return nil, err
		}
		out := newVector(schema.Boolean, b.n)
		for i := range b.n {
			out.flags[i] = in.isNull(i) != negated
		}
		return out, nil
	}}
}

// isTruth is IS TRUE and IS FALSE, which are never unknown.
func (p *parser) isTruth(at int, n node, value, negated bool) node {
	n = p.truth(n)
	return node{kind: schema.Boolean, at: at, eval: func(b *rows) (*vector, error) {
		in, err := n.eval(b)
		if err != nil {
			return nil, err
		}
		out := newVector(schema.Boolean, b.n)
		for i := range b.n {
			out.flags[i] = (!in.isNull(i) && in.flags[i] == value) != negated
		}
		return out, nil
	}}
}

// texts makes sure that a node is text.
func (p *parser) textual(n node, what string) node {
	switch {
	case n.null:
		return nullOf(schema.String, n.at)
	case n.kind != schema.String && p.err == nil:
		return p.fail(n.at, "%s takes text, this is %s; CAST it AS string", what, n.kind)
	}
	return n
}

func (p *parser) concat(at int, a, b node) node {
	return paired(schema.String, at, p.textual(a, "||"), p.textual(b, "||"), func(_ *rows, out, x, y *vector, i int) error {
		out.texts[i] = x.texts[i] + y.texts[i]
		return nil
	})
}

// like matches a pattern, in which % stands for any text and _ for any one character.
func (p *parser) like(at int, a, pattern node) node {
	return paired(schema.Boolean, at, p.textual(a, "LIKE"), p.textual(pattern, "LIKE"), func(_ *rows, out, x, y *vector, i int) error {
		out.flags[i] = matches([]rune(x.texts[i]), []rune(y.texts[i]))
		return nil
	})
}

// likeRegex asks whether some part of a text is matched by a regular expression.
func (p *parser) likeRegex(at int, a, pattern node) node {
	var compiled sync.Map // by text; an expression is asked by several at once
	return paired(schema.Boolean, at, p.textual(a, "LIKE_REGEX"), p.textual(pattern, "LIKE_REGEX"),
		func(_ *rows, out, x, y *vector, i int) error {
			known, ok := compiled.Load(y.texts[i])
			if !ok {
				re, err := regexp.Compile(y.texts[i])
				if err != nil {
					return fmt.Errorf("%q is no regular expression: %w", y.texts[i], err)
				}
				known, _ = compiled.LoadOrStore(y.texts[i], re)
			}
			out.flags[i] = known.(*regexp.Regexp).MatchString(x.texts[i])
			return nil
		})
}

// matches goes along both, back to the last % where the rest does not match.
func matches(text, pattern []rune) bool {
	t, q, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case q < len(pattern) && pattern[q] == '%':
			star, mark = q, t
			q++
		case q < len(pattern) && (pattern[q] == '_' || pattern[q] == text[t]):
			t++
			q++
		case star >= 0:
			mark++
			t, q = mark, star+1
		default:
			return false
		}
	}
	return strings.Trim(string(pattern[q:]), "%") == ""
}
