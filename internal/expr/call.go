package expr

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"trevak/internal/schema"
)

// calls are the functions by their names. Each takes its arguments and the closing bracket.
var calls map[string]func(p *parser, name token) node

func init() {
	calls = map[string]func(*parser, token) node{
		"COALESCE": (*parser).coalesce, "NULLIF": (*parser).nullIf, "CAST": (*parser).cast, "EXTRACT": (*parser).extract,
		"SUBSTRING": (*parser).substring,
		"POSITION":  (*parser).position, "TRIM": (*parser).trim, "MOD": (*parser).modulo, "POWER": (*parser).power,
		"UPPER": textCall(strings.ToUpper), "LOWER": textCall(strings.ToLower), "CHAR_LENGTH": (*parser).charLength,
		"ABS": (*parser).abs, "SQRT": doubleCall(math.Sqrt), "LN": doubleCall(math.Log), "EXP": doubleCall(math.Exp),
		"FLOOR": doubleCall(math.Floor), "CEILING": doubleCall(math.Ceil),
	}
}

func (p *parser) call(name token) node {
	take, ok := calls[name.word]
	if !ok {
		var names []string
		for known := range calls {
			names = append(names, known)
		}
		slices.Sort(names)
		return p.fail(name.at, "there is no function %s; there are %s", name.text, strings.Join(names, ", "))
	}
	return take(p, name)
}

// arguments takes n values and the closing bracket.
func (p *parser) arguments(n int) []node {
	out := make([]node, n)
	for i := range out {
		if i > 0 {
			p.expect(",")
		}
		out[i] = p.condition()
	}
	p.expect(")")
	return out
}

// choice takes a CASE, with a value to compare or without.
func (p *parser) choice(at int) node {
	var subject *node
	if p.peek().word != "WHEN" {
		n := p.condition()
		subject = &n
	}
	var conditions, values []node
	for p.err == nil && p.is("WHEN") {
		when := p.condition()
		if subject != nil {
			when = p.compare(when.at, "=", *subject, when)
		}
		conditions = append(conditions, p.truth(when))
		p.expect("THEN")
		values = append(values, p.condition())
	}
	if len(conditions) == 0 {
		return p.fail(p.peek().at, "WHEN is expected here, not %s", p.peek().show())
	}
	otherwise := node{at: at, null: true}
	if p.is("ELSE") {
		otherwise = p.condition()
	}
	p.expect("END")
	values = p.alike(at, append(values, otherwise))
	if p.err != nil {
		return node{kind: schema.Boolean, at: at}
	}
	return chosen(at, conditions, values)
}

// alike gives values one kind.
func (p *parser) alike(at int, values []node) []node {
	// Twice, since a later value may change the kind of all.
	for range 2 {
		for i := range values[1:] {
			if values[i].null && values[i+1].null {
				continue
			}
			values[i], values[i+1], _ = p.typed(at, values[i], values[i+1])
		}
		slices.Reverse(values)
	}
	if values[0].null {
		p.fail(at, "NULL has no type here; write CAST(NULL AS double)")
	}
	if p.err == nil && values[0].kind == schema.Decimal {
		return p.sameScale(at, values)
	}
	return values
}

// chosen takes the value behind the first condition that is true, or the last one.
func chosen(at int, conditions, values []node) node {
	kind := values[0].kind
	return node{kind: kind, at: at, digits: values[0].digits, eval: func(b *rows) (*vector, error) {
		out := newVector(kind, b.n)
		done := make([]bool, b.n)
		for c, value := range values {
			var condition *vector
			if c < len(conditions) {
				var err error
				if condition, err = conditions[c].eval(b); err != nil {
					return nil, err
				}
			}
			var wanted []int32
			for i := range b.n {
				if !done[i] && (condition == nil || condition.flags[i] && !condition.isNull(i)) {
					wanted = append(wanted, int32(i))
				}
			}
			if len(wanted) == 0 {
				continue
			}
			// Only for the rows that take it: for others it may be an error.
			v, err := value.eval(b.only(wanted))
			if err != nil {
				return nil, err
			}
			for from, i := range wanted {
				done[i] = true
				out.set(int(i), b.n, v, from)
			}
		}
		return out, nil
	}}
}

func (p *parser) coalesce(name token) node {
	values := []node{p.condition()}
	for p.is(",") {
		values = append(values, p.condition())
	}
	p.expect(")")
	if values = p.alike(name.at, values); p.err != nil {
		return node{kind: schema.Boolean, at: name.at}
	}
	var conditions []node
	for _, v := range values[:len(values)-1] {
		conditions = append(conditions, isNull(v.at, v, true))
	}
	return chosen(name.at, conditions, values)
}

func (p *parser) nullIf(name token) node {
	args := p.arguments(2)
	same := p.compare(name.at, "=", args[0], args[1])
	if p.err != nil {
		return same
	}
	if args[0].null {
		return p.fail(args[0].at, "NULL has no type here")
	}
	return chosen(name.at, []node{same}, []node{nullLike(args[0], name.at), args[0]})
}

// numeric makes sure that a node is a number.
func (p *parser) numeric(n node, what string) node {
	if n.null {
		return nullOf(schema.Double, n.at)
	}
	if !number(n.kind) && p.err == nil {
		return p.fail(n.at, "%s takes numbers, this is %s", what, n.kind)
	}
	return n
}

func (p *parser) double(n node, what string) node {
	if n = p.numeric(n, what); number(n.kind) {
		return toDouble(n)
	}
	return n
}

func doubleCall(f func(float64) float64) func(*parser, token) node {
	return func(p *parser, name token) node {
		return mapped(schema.Double, name.at, p.double(p.arguments(1)[0], name.word), func(b *rows, out, in *vector, i int) error {
			out.doubles[i] = f(in.doubles[i])
			if math.IsNaN(out.doubles[i]) && !math.IsNaN(in.doubles[i]) {
				return b.fail(name.at, "%s has no value for %v", name.word, in.doubles[i])
			}
			return nil
		})
	}
}

func textCall(f func(string) string) func(*parser, token) node {
	return func(p *parser, name token) node {
		return mapped(schema.String, name.at, p.textual(p.arguments(1)[0], name.word), func(_ *rows, out, in *vector, i int) error {
			out.texts[i] = f(in.texts[i])
			return nil
		})
	}
}

func (p *parser) abs(name token) node {
	n := p.numeric(p.arguments(1)[0], name.word)
	if n.kind == schema.Decimal {
		return absolute(name, n)
	}
	return mapped(n.kind, name.at, n, func(b *rows, out, in *vector, i int) error {
		if n.kind == schema.Double {
			out.doubles[i] = math.Abs(in.doubles[i])
			return nil
		}
		if in.longs[i] == math.MinInt64 {
			return b.fail(name.at, "ABS(%d) is beyond the type long", in.longs[i])
		}
		out.longs[i] = int64(magnitude(in.longs[i]))
		return nil
	})
}

func (p *parser) modulo(name token) node {
	args := p.arguments(2)
	x, y := p.numeric(args[0], name.word), p.numeric(args[1], name.word)
	if p.err == nil && (x.kind != schema.Long || y.kind != schema.Long) {
		return p.fail(name.at, "MOD takes whole numbers")
	}
	return paired(schema.Long, name.at, x, y, func(b *rows, out, x, y *vector, i int) error {
		if y.longs[i] == 0 {
			return b.fail(name.at, "division by zero; NULLIF(…, 0) makes the result null")
		}
		if y.longs[i] != -1 {
			out.longs[i] = x.longs[i] % y.longs[i]
		}
		return nil
	})
}

func (p *parser) power(name token) node {
	args := p.arguments(2)
	return paired(schema.Double, name.at, p.double(args[0], name.word), p.double(args[1], name.word),
		func(_ *rows, out, x, y *vector, i int) error {
			out.doubles[i] = math.Pow(x.doubles[i], y.doubles[i])
			return nil
		})
}

func (p *parser) charLength(name token) node {
	return mapped(schema.Long, name.at, p.textual(p.arguments(1)[0], name.word), func(_ *rows, out, in *vector, i int) error {
		out.longs[i] = int64(utf8.RuneCountInString(in.texts[i]))
		return nil
	})
}

// substring takes SUBSTRING(text FROM start FOR length), counted in characters from 1.
func (p *parser) substring(name token) node {
	text := p.textual(p.condition(), name.word)
	p.expect("FROM")
	from := p.wholeNumber(p.sum(), name.word)
	length := constant(name.at, longOf(math.MaxInt64))
	if p.is("FOR") {
		length = p.wholeNumber(p.sum(), name.word)
	}
	p.expect(")")
	span := paired(schema.Long, name.at, from, length, func(b *rows, out, x, y *vector, i int) error {
		if y.longs[i] < 0 {
			return b.fail(name.at, "SUBSTRING takes no negative length")
		}
		// The end, as long as it is one.
		if out.longs[i] = x.longs[i] + y.longs[i]; out.longs[i] < x.longs[i] {
			out.longs[i] = math.MaxInt64
		}
		return nil
	})
	upTo := paired(schema.String, name.at, text, span, func(_ *rows, out, x, y *vector, i int) error {
		out.texts[i] = cut(x.texts[i], 1, y.longs[i])
		return nil
	})
	return paired(schema.String, name.at, upTo, from, func(_ *rows, out, x, y *vector, i int) error {
		out.texts[i] = cut(x.texts[i], y.longs[i], math.MaxInt64)
		return nil
	})
}

func (p *parser) wholeNumber(n node, what string) node {
	if n = p.numeric(n, what); n.kind != schema.Long && p.err == nil {
		return p.fail(n.at, "%s takes a whole number here", what)
	}
	return n
}

// cut returns the characters of a text from one, counted from 1, to before another.
func cut(text string, from, to int64) string {
	at, start := int64(1), len(text)
	for i := range text {
		if at == max(from, 1) {
			start = i
		}
		if at >= to {
			return text[min(start, i):i]
		}
		at++
	}
	return text[start:]
}

// position takes POSITION(part IN text): the character at which the part begins, 0 where it does not occur.
func (p *parser) position(name token) node {
	part := p.textual(p.sum(), name.word)
	p.expect("IN")
	text := p.textual(p.sum(), name.word)
	p.expect(")")
	return paired(schema.Long, name.at, part, text, func(_ *rows, out, x, y *vector, i int) error {
		if at := strings.Index(y.texts[i], x.texts[i]); at >= 0 {
			out.longs[i] = int64(utf8.RuneCountInString(y.texts[i][:at])) + 1
		}
		return nil
	})
}

// trim takes TRIM([LEADING|TRAILING|BOTH] [character] FROM text) and TRIM(text).
func (p *parser) trim(name token) node {
	side := p.peek().word
	stated := p.is("LEADING", "TRAILING", "BOTH")
	character := " "
	if t := p.peek(); t.kind == textToken && p.tokens[p.next+1].word == "FROM" {
		p.take()
		if character = t.text; utf8.RuneCountInString(character) != 1 {
			return p.fail(t.at, "TRIM takes one character")
		}
		p.take()
	} else if stated {
		p.expect("FROM")
	}
	text := p.textual(p.condition(), name.word)
	p.expect(")")
	return mapped(schema.String, name.at, text, func(_ *rows, out, in *vector, i int) error {
		out.texts[i] = in.texts[i]
		if !stated || side != "TRAILING" {
			out.texts[i] = strings.TrimLeft(out.texts[i], character)
		}
		if !stated || side != "LEADING" {
			out.texts[i] = strings.TrimRight(out.texts[i], character)
		}
		return nil
	})
}

// extract takes EXTRACT(part FROM instant).
func (p *parser) extract(name token) node {
	part := p.take()
	if !slices.Contains([]string{"YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND"}, part.word) {
		return p.fail(part.at, "YEAR, MONTH, DAY, HOUR, MINUTE or SECOND is expected here, not %s", part.show())
	}
	p.expect("FROM")
	of := p.condition()
	p.expect(")")
	switch {
	case p.err != nil:
	case of.kind == schema.Date && !slices.Contains([]string{"YEAR", "MONTH", "DAY"}, part.word):
		return p.fail(part.at, "a date has no %s", strings.ToLower(part.word))
	case of.kind == schema.Date:
		of = toMicros(of, schema.Timestamp)
	case of.kind == schema.Time && slices.Contains([]string{"YEAR", "MONTH", "DAY"}, part.word):
		return p.fail(part.at, "a time has no %s", strings.ToLower(part.word))
	case of.kind == schema.Time:
	case of.kind != schema.Timestamp && of.kind != schema.TimestampTz:
		return p.fail(of.at, "EXTRACT takes dates, times and timestamps, this is %s", of.kind)
	}
	return mapped(schema.Long, name.at, of, func(_ *rows, out, in *vector, i int) error {
		out.longs[i] = partOf(part.word, in.longs[i])
		return nil
	})
}

// cast takes CAST(value AS type). What the type cannot hold is an error.
func (p *parser) cast(name token) node {
	of := p.condition()
	p.expect("AS")
	t := p.take()
	var d digits
	if t.word == "DECIMAL" || t.word == "NUMERIC" {
		d = p.decimalType()
	}
	p.expect(")")
	kind := map[string]schema.Kind{"LONG": schema.Long, "BIGINT": schema.Long, "DOUBLE": schema.Double, "STRING": schema.String,
		"VARCHAR": schema.String,
		"BOOLEAN": schema.Boolean, "DECIMAL": schema.Decimal, "NUMERIC": schema.Decimal, "DATE": schema.Date, "TIME": schema.Time,
		"TIMESTAMP": schema.Timestamp, "TIMESTAMPTZ": schema.TimestampTz}[t.word]
	switch {
	case p.err != nil:
		return of
	case kind == schema.Unknown:
		return p.fail(t.at, "%s is no type; there are long, double, decimal(p,s), string, boolean, date, time, timestamp, timestamptz",
			t.show())
	case of.null:
		return nullLike(node{kind: kind, digits: d}, of.at)
	case kind == schema.Decimal:
		return p.castToDecimal(name, of, d)
	case of.kind == kind:
		return of
	}
	if _, ok := castOne(kind, newVector(of.kind, 1), 0, of.digits.scale); !ok && of.kind != schema.String {
		return p.fail(name.at, "%s is never %s", of.kind, kind)
	}
	return mapped(kind, name.at, of, func(b *rows, out, in *vector, i int) error {
		v, ok := castOne(kind, in, i, of.digits.scale)
		if !ok {
			return b.fail(name.at, "%q is no %s", textOf(in, i, of.digits.scale), kind)
		}
		out.set(i, b.n, v, 0)
		return nil
	})
}

func (p *parser) castToDecimal(name token, of node, d digits) node {
	if of.kind != schema.String && !number(of.kind) {
		return p.fail(name.at, "%s is never decimal", of.kind)
	}
	if exact, ok := asDecimal(of); ok {
		of = exact
	}
	out := mapped(schema.Decimal, name.at, of, func(b *rows, out, in *vector, i int) error {
		v, ok := toDecimal(of, in, i, d)
		if !ok {
			return b.fail(name.at, "%q is no decimal(%d,%d)", textOf(in, i, of.digits.scale), d.precision, d.scale)
		}
		out.decimals[i] = v
		return nil
	})
	out.digits = d
	return out
}

// textOf writes a value as text; scale is that of decimals.
func textOf(in *vector, i, scale int) string {
	switch in.kind {
	case schema.Decimal:
		return in.decimals[i].ToString(int32(scale))
	case schema.Double:
		return strconv.FormatFloat(in.doubles[i], 'g', -1, 64)
	case schema.String:
		return in.texts[i]
	case schema.Boolean:
		return strconv.FormatBool(in.flags[i])
	case schema.Long:
		return strconv.FormatInt(in.longs[i], 10)
	}
	return instantText(in.kind, in.longs[i])
}
