// Package expr evaluates scalar expressions over the columns of a batch: arithmetic, comparison, logic, text, parts of dates,
// nulls, conditions and casts, spelled as in ISO/IEC 9075-2 (SQL), "Scalar expressions".
//
// What comes in is the text of an expression and the fields that it may name; what goes out is an Expression, which makes of a
// batch of these fields a column or the rows that a condition holds for. Logic has three values: what is unknown because of a
// null is null. An arithmetic operation whose result its type cannot hold is an error, not a null.
package expr

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/schema"
)

// Expression is a text that was understood. It can be evaluated by several goroutines at a time.
type Expression struct {
	text string
	root node
	used []string
}

// node is a part of an expression with the kind of its values.
type node struct {
	kind schema.Kind
	at   int
	// eval returns as many values as there are rows.
	eval func(b *rows) (*vector, error)
	// null is set for the literal NULL, which takes any kind.
	null bool
	// digits are those of decimals.
	digits digits
	// literal is the text of a literal number, which is a decimal beside one.
	literal string
	// column is the path of a column that stands alone, constant says that the value is that of a literal, and bounds are what
	// a condition says of columns.
	column   string
	constant bool
	bounds   []Bound
	// exact says that the condition is what its bounds say and nothing else.
	exact bool
}

// rows is a batch under evaluation.
type rows struct {
	columns []arrow.Array
	n       int
	text    string
	// picked are the rows of the columns that are looked at; nil for all.
	picked []int32
}

// only returns some of the rows, which are numbered from 0 among them.
func (b *rows) only(wanted []int32) *rows {
	if b.picked != nil {
		all := make([]int32, len(wanted))
		for i, at := range wanted {
			all[i] = b.picked[at]
		}
		wanted = all
	}
	return &rows{b.columns, len(wanted), b.text, wanted}
}

// fail returns an error of evaluation at a place of the expression.
func (b *rows) fail(at int, format string, args ...any) error {
	return &Error{Text: b.text, Offset: at, Reason: fmt.Sprintf(format, args...), Row: -1}
}

// of says which row an error is of.
func (b *rows) of(i int, err error) error {
	var e *Error
	if errors.As(err, &e) && e.Row < 0 {
		if e.Row = i; b.picked != nil {
			e.Row = int(b.picked[i])
		}
	}
	return err
}

// Parse understands an expression over fields. Errors are of type *Error.
func Parse(text string, fields []schema.Field) (*Expression, error) {
	tokens, err := scan(text)
	if err != nil {
		return nil, err
	}
	p := &parser{text: text, tokens: tokens, fields: fields}
	root := p.condition()
	if p.err == nil && p.peek().kind != endToken {
		p.fail(p.peek().at, "%s is not expected here", p.peek().show())
	}
	if p.err != nil {
		return nil, p.err
	}
	if root.null {
		return nil, &Error{Text: text, Offset: root.at, Reason: "NULL alone has no type; write CAST(NULL AS double)", Row: -1}
	}
	slices.Sort(p.used)
	return &Expression{text, root, slices.Compact(p.used)}, nil
}

// Columns are the top-level columns that the expression names.
func (e *Expression) Columns() []string { return e.used }

// Column evaluates the expression for each row of columns, which are in the order of the fields.
func (e *Expression) Column(columns []arrow.Array, n int) (arrow.Array, error) {
	v, err := e.root.eval(&rows{columns, n, e.text, nil})
	if err != nil {
		return nil, err
	}
	return v.toColumn(n, e.Type())
}

// Rows returns the rows for which the expression is true. It must be a condition, which Type tells.
func (e *Expression) Rows(columns []arrow.Array, n int) ([]int32, error) {
	v, err := e.root.eval(&rows{columns, n, e.text, nil})
	if err != nil {
		return nil, err
	}
	out := make([]int32, 0, n)
	for i, is := range v.flags {
		if is && !v.isNull(i) {
			out = append(out, int32(i))
		}
	}
	return out, nil
}

// column returns a node for a field or a member of one.
func (p *parser) column(path []string, at int) node {
	fields := p.fields
	var positions []int
	var names []string // as the fields have them
	var field *schema.Field
	for depth, name := range path {
		position := schema.NewIndex(fields, schema.SafeNames).Find(name)
		if position < 0 {
			known := make([]string, len(fields))
			for i := range fields {
				known[i] = fields[i].Name
			}
			return p.fail(at, "there is no column %q; %s", strings.Join(path[:depth+1], "."), schema.Choices(name, known))
		}
		field = &fields[position]
		if depth == 0 {
			p.used = append(p.used, field.Name)
		}
		names = append(names, field.Name)
		positions = append(positions, position)
		if depth+1 < len(path) && field.Type.Kind != schema.Struct {
			return p.fail(at, "%q is %s, which has no members", strings.Join(path[:depth+1], "."), field.Type)
		}
		fields = field.Type.Fields
	}
	kind, ok := kindOf(field.Type)
	if !ok {
		return p.fail(at, "%q is %s, which expressions do not take", strings.Join(path, "."), field.Type.Kind)
	}
	return node{kind: kind, at: at, column: strings.Join(names, "."), digits: digits{field.Type.Precision, field.Type.Scale},
		eval: func(b *rows) (*vector, error) {
			a := b.columns[positions[0]]
			var above []bool
			for _, next := range positions[1:] {
				if a.NullN() > 0 && above == nil {
					above = make([]bool, a.Len())
				}
				for i := range above {
					above[i] = above[i] || a.IsNull(i)
				}
				a = a.(*array.Struct).Field(next)
			}
			all := fromColumn(kind, a, above)
			if b.picked == nil {
				return all, nil
			}
			some := newVector(kind, b.n)
			for i, at := range b.picked {
				some.set(i, b.n, all, int(at))
			}
			return some, nil
		}}
}
