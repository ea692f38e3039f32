package expr

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// parser descends from the loosest operator to the tightest. After an error its methods return nodes that mean nothing.
type parser struct {
	text   string
	tokens []token
	next   int
	fields []schema.Field
	depth  int
	err    error
	used   []string // top-level columns
}

// mostDepth bounds how deep brackets may lie within each other.
const mostDepth = 200

func (p *parser) peek() token { return p.tokens[p.next] }

func (p *parser) take() token {
	t := p.tokens[p.next]
	if t.kind != endToken {
		p.next++
	}
	return t
}

// is reports whether the next token is one of the words or signs, and takes it if so.
func (p *parser) is(words ...string) bool {
	t := p.peek()
	if (t.kind == nameToken || t.kind == signToken) && slices.Contains(words, t.word) {
		p.next++
		return true
	}
	return false
}

func (p *parser) expect(word string) {
	if t := p.peek(); !p.is(word) {
		p.fail(t.at, "%s is expected here, not %s", word, t.show())
	}
}

func (t token) show() string {
	switch t.kind {
	case endToken:
		return "the end"
	case textToken:
		return "'" + t.text + "'"
	}
	return strconv.Quote(t.text)
}

// fail keeps the first error.
func (p *parser) fail(at int, format string, args ...any) node {
	if p.err == nil {
		p.err = &Error{Text: p.text, Offset: at, Reason: fmt.Sprintf(format, args...), Row: -1}
		p.next = len(p.tokens) - 1
	}
	return node{kind: schema.Boolean, at: at}
}

// condition takes operands of OR.
func (p *parser) condition() node {
	if p.depth++; p.depth > mostDepth {
		return p.fail(p.peek().at, "brackets lie more than %d deep", mostDepth)
	}
	defer func() { p.depth-- }()
	left := p.conjunction()
	for at := p.peek().at; p.is("OR"); at = p.peek().at {
		left = p.logic(at, left, p.conjunction(), true)
	}
	return left
}

// conjunction takes operands of AND.
func (p *parser) conjunction() node {
	left := p.negation()
	for at := p.peek().at; p.is("AND"); at = p.peek().at {
		left = p.logic(at, left, p.negation(), false)
	}
	return left
}

func (p *parser) negation() node {
	at := p.peek().at
	if !p.is("NOT") {
		return p.predicate()
	}
	if p.depth++; p.depth > mostDepth {
		return p.fail(at, "NOT is repeated more than %d times", mostDepth)
	}
	defer func() { p.depth-- }()
	return p.not(at, p.negation())
}

// predicate takes a value and what may be asked of it.
func (p *parser) predicate() node {
	left := p.sum()
	t := p.peek()
	switch {
	case p.is("=", "<>", "<", "<=", ">", ">="):
		return p.compare(t.at, t.word, left, p.sum())
	case p.is("IS"):
		negated := p.is("NOT")
		word := p.peek()
		switch {
		case p.is("NULL"):
			return isNull(t.at, left, negated)
		case p.is("TRUE", "FALSE"):
			return p.isTruth(t.at, left, word.word == "TRUE", negated)
		}
		return p.fail(word.at, "NULL, TRUE or FALSE is expected here, not %s", word.show())
	}
	negated := p.is("NOT")
	at := p.peek().at
	var out node
	switch {
	case p.is("BETWEEN"):
		low := p.sum()
		p.expect("AND")
		high := p.sum()
		out = p.logic(at, p.compare(at, ">=", left, low), p.compare(at, "<=", left, high), false)
	case p.is("IN"):
		p.expect("(")
		out = p.compare(at, "=", left, p.sum())
		for p.is(",") {
			out = p.logic(at, out, p.compare(at, "=", left, p.sum()), true)
		}
		p.expect(")")
	case p.is("LIKE"):
		out = p.like(at, left, p.sum())
	case p.is("LIKE_REGEX"):
		out = p.likeRegex(at, left, p.sum())
	case negated:
		return p.fail(at, "BETWEEN, IN, LIKE or LIKE_REGEX is expected here, not %s", p.peek().show())
	default:
		return left
	}
	if negated {
		out = p.not(at, out)
	}
	return out
}

func (p *parser) sum() node {
	left := p.product()
	for t := p.peek(); p.is("+", "-", "||"); t = p.peek() {
		if right := p.product(); t.word == "||" {
			left = p.concat(t.at, left, right)
		} else {
			left = p.arithmetic(t.at, t.word, left, right)
		}
	}
	return left
}

func (p *parser) product() node {
	left := p.signed()
	for t := p.peek(); p.is("*", "/"); t = p.peek() {
		left = p.arithmetic(t.at, t.word, left, p.signed())
	}
	return left
}

func (p *parser) signed() node {
	t := p.peek()
	if !p.is("-", "+") {
		return p.primary()
	}
	if p.depth++; p.depth > mostDepth {
		return p.fail(t.at, "signs are repeated more than %d times", mostDepth)
	}
	defer func() { p.depth-- }()
	operand := p.signed()
	switch {
	case operand.literal != "" && t.word == "+":
		return operand
	case operand.literal != "":
		return p.number(token{kind: numberToken, text: negated(operand.literal), at: t.at})
	}
	if t.word == "+" {
		return p.arithmetic(t.at, "+", p.number(token{kind: numberToken, text: "0", at: t.at}), operand)
	}
	return p.arithmetic(t.at, "-", p.number(token{kind: numberToken, text: "0", at: t.at}), operand)
}

// primary takes a literal, a column, a function or what is in brackets.
func (p *parser) primary() node {
	t := p.take()
	switch {
	case t.kind == numberToken:
		return p.number(t)
	case t.kind == textToken:
		return constant(t.at, &vector{kind: schema.String, texts: []string{t.text}})
	case t.kind == quotedToken:
		return p.named(t)
	case t.word == "(":
		inner := p.condition()
		p.expect(")")
		return inner
	case t.kind != nameToken:
		return p.fail(t.at, "a value is expected here, not %s", t.show())
	}
	switch t.word {
	case "TRUE", "FALSE":
		return constant(t.at, &vector{kind: schema.Boolean, flags: []bool{t.word == "TRUE"}})
	case "NULL":
		return node{kind: schema.String, at: t.at, null: true}
	case "DATE", "TIME", "TIMESTAMP":
		if literal := p.peek(); literal.kind == textToken {
			p.take()
			return p.instant(t, literal)
		}
	case "CASE":
		return p.choice(t.at)
	}
	if p.peek().word == "(" && p.peek().kind == signToken {
		p.take()
		return p.call(t)
	}
	return p.named(t)
}

// named takes a column, members of which follow points.
func (p *parser) named(t token) node {
	path := []string{t.text}
	for p.is(".") {
		part := p.take()
		if part.kind != nameToken && part.kind != quotedToken {
			return p.fail(part.at, "the name of a member is expected here, not %s", part.show())
		}
		path = append(path, part.text)
	}
	return p.column(path, t.at)
}

func (p *parser) number(t token) node {
	if v, err := strconv.ParseInt(t.text, 10, 64); err == nil {
		out := constant(t.at, longOf(v))
		out.literal = t.text
		return out
	}
	v, err := strconv.ParseFloat(t.text, 64)
	if err != nil {
		return p.fail(t.at, "%s is no number that a double holds", t.text)
	}
	out := constant(t.at, &vector{kind: schema.Double, doubles: []float64{v}})
	out.literal = t.text
	return out
}

// negated is the text of a number with the other sign.
func negated(number string) string {
	if without, ok := strings.CutPrefix(number, "-"); ok {
		return without
	}
	return "-" + number
}

func longOf(v int64) *vector { return &vector{kind: schema.Long, longs: []int64{v}} }

// instant reads a literal of a date or a timestamp.
func (p *parser) instant(t, literal token) node {
	if t.word == "DATE" {
		days, ok := lexical.Date([]byte(literal.text))
		if !ok {
			return p.fail(literal.at, "'%s' is no date; write it as DATE '2031-05-01'", literal.text)
		}
		return constant(t.at, &vector{kind: schema.Date, longs: []int64{int64(days)}})
	}
	if t.word == "TIME" {
		micros, ok := lexical.Time([]byte(literal.text))
		if !ok {
			return p.fail(literal.at, "'%s' is no time; write it as TIME '12:00:00'", literal.text)
		}
		return constant(t.at, &vector{kind: schema.Time, longs: []int64{micros}})
	}
	micros, zoned, ok := lexical.Timestamp([]byte(literal.text))
	if !ok {
		return p.fail(literal.at, "'%s' is no timestamp; write it as TIMESTAMP '2031-05-01 12:00:00'", literal.text)
	}
	kind := schema.Timestamp
	if zoned {
		kind = schema.TimestampTz
	}
	return constant(t.at, &vector{kind: kind, longs: []int64{micros}})
}

// constant returns a node whose value is the first of a vector for every row.
func constant(at int, v *vector) node {
	return node{kind: v.kind, at: at, constant: true, eval: func(b *rows) (*vector, error) {
		out := newVector(v.kind, b.n)
		for i := range b.n {
			out.set(i, b.n, v, 0)
		}
		return out, nil
	}}
}
