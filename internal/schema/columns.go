package schema

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
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
		n.Entries = &Node{Name: ValueName}
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

// Measure adds what the rows of a columnar file show of its top-level columns: how many are null, and of texts the different ones, their extremes and
// lengths.
func (o *Observed) Measure(object int, b arrow.RecordBatch) {
	o.Root.Counts[ClassObject.Index()] += b.NumRows()
	folded := o.Root.inLowerCase()
	for c, f := range b.Schema().Fields() {
		n, a := o.Root.folded(f.Name, folded), b.Column(c)
		nulls := int64(a.NullN())
		n.Counts[ClassNull.Index()] += nulls
		texts, isText := a.(*array.String)
		if _, nested := a.DataType().(arrow.NestedType); nested {
			class := ClassObject
			if list, ok := a.(array.ListLike); ok {
				class = ClassArray
				if _, isMap := a.(*array.Map); !isMap {
					for row := range a.Len() {
						if start, end := list.ValueOffsets(row); !a.IsNull(row) {
							n.lengths().add(int(end - start))
						}
					}
				}
			}
			n.Counts[class.Index()] += int64(a.Len()) - nulls
			continue
		}
		n.Counts[ClassText.Index()] += int64(a.Len()) - nulls
		for row := range a.Len() {
			if a.IsNull(row) {
				continue
			}
			var text []byte
			if isText {
				text = []byte(texts.Value(row))
			} else {
				text = []byte(a.ValueStr(row))
			}
			n.Distinct.Add(text)
			n.stretch(text)
			if len(text) > n.Longest {
				n.Longest = max(n.Longest, utf8.RuneCount(text))
			}
		}
	}
}

// SetLongest puts the lengths of texts that were measured into a schema.
func (o *Observed) SetLongest(s *Schema) {
	for i := range s.Fields {
		if n := o.Root.Member(s.Fields[i].Source()); n != nil && s.Fields[i].Type.Kind == String {
			s.Fields[i].Longest = n.Longest
		}
	}
}
