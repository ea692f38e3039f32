package schema

import (
	"slices"
	"strings"
)

// Declare adds the columns that a columnar file says it has.
func (o *Observed) Declare(object int, fields []Field) {
	o.Root.Seen |= ClassObject
	o.Root.declare(Place{Object: object, Line: 1}, fields)
}

func (n *Node) declare(at Place, fields []Field) {
	folded := n.inLowerCase()
	for i, f := range fields {
		node := n.folded(f.Name, folded)
		if node.Seen == 0 {
			node.position = i
		}
		node.declareType(at, f.Type)
	}
}

// inLowerCase returns the members by their names in lower case, of several the first.
func (n *Node) inLowerCase() map[string]*Node {
	all := make(map[string]*Node, len(n.Fields))
	for _, f := range slices.Backward(n.Fields) {
		all[strings.ToLower(f.Name)] = f
	}
	return all
}

// folded returns the member of that name in any letter case, adding it when it is new; all has the members by their names in lower case.
func (n *Node) folded(name string, all map[string]*Node) *Node {
	lower := strings.ToLower(name)
	known := all[lower]
	if _, exact := n.index[name]; exact || known == nil {
		f := n.Field(name)
		if known == nil {
			all[lower] = f
		}
		return f
	}
	return known
}

func (n *Node) declareType(at Place, t Type) {
	class := ClassText
	switch t.Kind {
	case Struct:
		class = ClassObject
		n.declare(at, t.Fields)
	case Map:
		class = ClassObject
		if n.Entries == nil {
			n.Entries = &Node{Name: ValueName}
		}
		n.Entries.declareType(at, t.Element.Type)
	case List:
		class = ClassArray
		if n.Element == nil {
			n.Element = &Node{Name: ElementName}
		}
		n.Element.declareType(at, t.Element.Type)
	}
	n.Seen |= class
	if i := class.Index(); n.news(i, at) {
		n.note(i, Instance{Place: at})
	}
}
