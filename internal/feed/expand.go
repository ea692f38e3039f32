package feed

import (
	"errors"
	"strings"

	"github.com/goccy/go-yaml/ast"

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
}

// Visit goes on until something is wrong.
func (v *expander) Visit(node ast.Node) ast.Visitor {
	if v.err != nil {
		return nil
	}
	if pair, ok := node.(*ast.MappingValueNode); ok {
		// Keys are not values.
		ast.Walk(v, pair.Value)
		return nil
	}
	text, ok := node.(*ast.StringNode)
	if !ok || !strings.Contains(text.Value, "$(") {
		return v
	}
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
