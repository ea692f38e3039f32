package expr

import (
	"cmp"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/schema"
)

// Operator is how a bound holds a column against its values.
type Operator string

// Equal is also that of lists: one of the values.
const (
	Equal          Operator = "="
	Less           Operator = "<"
	LessOrEqual    Operator = "<="
	Greater        Operator = ">"
	GreaterOrEqual Operator = ">="
	IsNull         Operator = "IS NULL"
	IsNotNull      Operator = "IS NOT NULL"
	// Among is that of values which are too many to be listed.
	Among Operator = "AMONG"
)

// Bound is a condition on one column which holds for every row that an expression holds for. Rows among which it holds for none
// can be passed over.
type Bound struct {
	// Column is the path of a column, with points between its parts.
	Column string
	Op     Operator
	// Values are one, several for Equal, and none for IsNull, IsNotNull and Among.
	Values []Value
	// Between tells for Among whether one of the values may lie between two others, both included.
	Between func(low, high Value) bool
}

// Unvalued reports whether the bound asks for values at all, and not for certain ones.
func (b Bound) Unvalued() bool { return b.Op == IsNull || b.Op == IsNotNull }

// Value is a value of a column, or one that it is held against.
type Value struct {
	Kind schema.Kind
	// Long is that of whole numbers, of dates in days, and of times and timestamps in microseconds.
	Long    int64
	Double  float64
	Decimal decimal128.Num
	Scale   int32
	Text    string
	Flag    bool
}

// Bounds lists what an expression says of single columns, as far as it can be told without a row: the operands of AND at its top.
func (e *Expression) Bounds() []Bound { return e.root.bounds }

// MayHold reports whether the bound can hold for a value between two others, both included, or for none where some are null.
func (b Bound) MayHold(low, high Value, nulls, values bool) bool {
	switch b.Op {
	case IsNull:
		return nulls
	case IsNotNull:
		return values
	}
	if !values {
		return false
	}
	if b.Op == Among {
		return b.Between(low, high)
	}
	for _, v := range b.Values {
		down, ok := v.Compare(low)
		up, ok2 := v.Compare(high)
		if !ok || !ok2 {
			return true
		}
		switch b.Op {
		case Equal:
			if down >= 0 && up <= 0 {
				return true
			}
		case Less:
			if down > 0 {
				return true
			}
		case LessOrEqual:
			if down >= 0 {
				return true
			}
		case Greater:
			if up < 0 {
				return true
			}
		case GreaterOrEqual:
			if up <= 0 {
				return true
			}
		}
	}
	return false
}

// Exact returns the bounds that a condition is the conjunction of; ok is false for one that is more than that, or speaks of parts of
// columns. One that is always true has none.
func (e *Expression) Exact() (bounds []Bound, ok bool) {
	if e.root.constant && e.root.kind == schema.Boolean {
		v, err := e.root.eval(&rows{n: 1})
		return nil, err == nil && !v.isNull(0) && v.flags[0]
	}
	for _, b := range e.root.bounds {
		if strings.Contains(b.Column, ".") {
			return nil, false
		}
	}
	return e.root.bounds, e.root.exact
}

// Holds reports whether the bound holds for every value from one to another, both included, where nulls and values say whether there
// are such. Values of another kind than its own it does not judge.
func (b Bound) Holds(low, high Value, nulls, values bool) bool {
	switch {
	case b.Op == IsNull:
		return !values
	case b.Op == IsNotNull:
		return !nulls
	case nulls || !values:
		return false
	}
	for _, v := range b.Values {
		down, ok := v.Compare(low)
		up, ok2 := v.Compare(high)
		if !ok || !ok2 || v.Kind != low.Kind || v.Kind != high.Kind {
			continue
		}
		if b.Op == Equal && down == 0 && up == 0 || b.Op == Less && up > 0 || b.Op == LessOrEqual && up >= 0 || b.Op == Greater && down < 0 ||
			b.Op == GreaterOrEqual && down <= 0 {
			return true
		}
	}
	return false
}

// Compare holds a value against another; ok is false where they cannot be.
func (v Value) Compare(o Value) (order int, ok bool) {
	switch {
	case v.Kind == o.Kind:
	case v.Kind == schema.Timestamp && o.Kind == schema.Date, v.Kind == schema.TimestampTz && o.Kind == schema.Date:
		o.Long, o.Kind = o.Long*microsPerDay, v.Kind
	case v.Kind == schema.Date && (o.Kind == schema.Timestamp || o.Kind == schema.TimestampTz):
		v.Long, v.Kind = v.Long*microsPerDay, o.Kind
	case v.Kind == schema.Double && o.Kind == schema.Long:
		o.Double, o.Kind = float64(o.Long), schema.Double
	case v.Kind == schema.Long && o.Kind == schema.Double:
		v.Double, v.Kind = float64(v.Long), schema.Double
	case v.Kind == schema.Decimal && o.Kind == schema.Long:
		o.Decimal, o.Scale, o.Kind = decimal128.FromI64(o.Long), 0, schema.Decimal
	case v.Kind == schema.Long && o.Kind == schema.Decimal:
		v.Decimal, v.Scale, v.Kind = decimal128.FromI64(v.Long), 0, schema.Decimal
	default:
		return 0, false
	}
	switch v.Kind {
	case schema.Double:
		// What is not a number is in no order.
		return cmp.Compare(v.Double, o.Double), v.Double == v.Double && o.Double == o.Double
	case schema.Decimal:
		return compareDecimals(v.Decimal, o.Decimal, int(v.Scale), int(o.Scale)), true
	case schema.String:
		return strings.Compare(v.Text, o.Text), true
	case schema.Boolean:
		return cmp.Compare(rank(v.Flag), rank(o.Flag)), true
	case schema.Long, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return cmp.Compare(v.Long, o.Long), true
	}
	return 0, false
}

const microsPerDay = 86_400_000_000

// mirrored are the operators with their sides exchanged.
var mirrored = map[Operator]Operator{Equal: Equal, Less: Greater, LessOrEqual: GreaterOrEqual, Greater: Less, GreaterOrEqual: LessOrEqual}

// boundOf is what a comparison says of a column. a and b are its sides as they are compared.
func boundOf(sign string, column, other string, a, b node) []Bound {
	op := Operator(sign)
	if column == "" {
		column, op, a, b = other, mirrored[op], b, a
	}
	if column == "" || !b.constant || mirrored[op] == "" {
		return nil
	}
	v, err := b.eval(&rows{n: 1})
	if err != nil || v.isNull(0) {
		return nil
	}
	value := Value{Kind: b.kind}
	switch b.kind {
	case schema.Double:
		value.Double = v.doubles[0]
	case schema.Decimal:
		value.Decimal, value.Scale = v.decimals[0], int32(b.digits.scale)
	case schema.String:
		value.Text = v.texts[0]
	case schema.Boolean:
		value.Flag = v.flags[0]
	default:
		value.Long = v.longs[0]
	}
	return []Bound{{Column: column, Op: op, Values: []Value{value}}}
}

// either joins what the operands of OR say: of one column, that it has one of their values.
func either(a, b []Bound) []Bound {
	if len(a) != 1 || len(b) != 1 || a[0].Column != b[0].Column || a[0].Op != Equal || b[0].Op != Equal {
		return nil
	}
	return []Bound{{Column: a[0].Column, Op: Equal, Values: slices.Concat(a[0].Values, b[0].Values)}}
}
