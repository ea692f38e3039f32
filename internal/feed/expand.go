package feed

import (
	"errors"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"trevak/internal/fault"
)

// Expand makes the texts of all values below a node others. Errors name the line.
func Expand(node ast.Node, expand func(string) (string, error)) error {
	if expand == nil || node == nil {
		return nil
	}
	v := &expander{expand: expand}
	ast.Walk(v, node)
	return v.err
}

type expander struct {
	expand func(string) (string, error)
	err    error
	// made says that the last text was nothing but a parameter.
	made bool
}

// number reports whether a text that was nothing but a parameter is a whole number now, as keys want it that take numbers.
func (v *expander) number(n *ast.StringNode) bool {
	was := v.made
	v.made = false
	whole, err := strconv.Atoi(n.Value)
	return was && err == nil && strconv.Itoa(whole) == n.Value
}

// Visit goes on until something is wrong.
func (v *expander) Visit(node ast.Node) ast.Visitor {
	if v.err != nil {
		return nil
	}
	if pair, ok := node.(*ast.MappingValueNode); ok {
		// Keys are not values.
		plain, _ := pair.Value.(*ast.StringNode)
		ast.Walk(v, pair.Value)
		if plain != nil && v.number(plain) {
			whole := *plain.Token
			whole.Value, whole.Origin = plain.Value, plain.Value
			pair.Value = ast.Integer(&whole)
		}
		return nil
	}
	text, ok := node.(*ast.StringNode)
	if !ok || !strings.Contains(text.Value, "$(") {
		return v
	}
	v.made = strings.HasPrefix(text.Value, "$(") && strings.Count(text.Value, "(") == 1 && strings.HasSuffix(text.Value, ")") &&
		text.Token.Type == token.StringType
	made, err := v.expand(text.Value)
	if err != nil {
		var e *fault.Error
		if errors.As(err, &e) && e.Line == 0 {
			e.Line = int64(text.GetToken().Position.Line)
		}
		v.err = err
		return nil
	}
	text.Value = made
	return v
}
