package schema

import (
	"slices"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
)

// Observed is what inference saw of a source: a tree with a node for each column and, below nested ones, for each part. Each
// worker fills its own; Merge brings them together in any order.
type Observed struct {
	// Root's fields are the columns. Its count of objects is the number of records.
	Root Node
	// Problems counts the records that could not be read; Problem is the first of them.
	Problems int64
	Problem  *Refused
	// Surplus counts the records of delimited text that have more fields than there are columns, and keep their first ones.
	Surplus int64
}

// Refused is a record that could not be read, with its place.
type Refused struct {
	Place   Place
	Problem parse.Problem
}

// Node is the evidence of one column or part.
type Node struct {
	// Name is the name in the source.
	Name string
	Evidence
	// Fields are the members of objects, in the order they first appeared.
	Fields []*Node
	// Element is what stands in arrays.
	Element *Node

	index    map[string]int
	position int   // among the members of the object in which it first appeared
	stamp    int64 // the object in which it was last seen
	objects  int64 // how many objects were walked, to give each a stamp
}

// Field returns the member of that name, adding it when it is new.
func (n *Node) Field(name string) *Node {
	if i, ok := n.index[name]; ok {
		return n.Fields[i]
	}
	if n.index == nil {
		n.index = map[string]int{}
	}
	field := &Node{Name: name}
	n.index[name] = len(n.Fields)
	n.Fields = append(n.Fields, field)
	return field
}

// Merge adds what another worker saw of the same column.
func (n *Node) Merge(o *Node) {
	n.Evidence.Merge(&o.Evidence)
	for _, theirs := range o.Fields {
		_, known := n.index[theirs.Name]
		mine := n.Field(theirs.Name)
		if !known || theirs.earliest().Before(mine.earliest()) {
			mine.position = theirs.position
		}
		mine.Merge(theirs)
	}
	if o.Element != nil {
		if n.Element == nil {
			n.Element = &Node{Name: ElementName}
		}
		n.Element.Merge(o.Element)
	}
}

// earliest returns the first place at which anything was seen.
func (n *Node) earliest() Place {
	var first Place
	found := false
	for i := range Classes {
		if n.Seen&(1<<i) != 0 && (!found || n.First[i].Before(first)) {
			first, found = n.First[i], true
		}
	}
	return first
}

// Order sorts members by where they first appeared, so that the order does not depend on who saw what.
func (n *Node) Order() {
	slices.SortStableFunc(n.Fields, func(a, b *Node) int {
		switch pa, pb := a.earliest(), b.earliest(); {
		case pa.Before(pb):
			return -1
		case pb.Before(pa):
			return 1
		}
		return a.position - b.position
	})
	for i, field := range n.Fields {
		n.index[field.Name] = i
		field.Order()
	}
	if n.Element != nil {
		n.Element.Order()
	}
}

// Merge adds what another worker saw.
func (o *Observed) Merge(other *Observed) {
	o.Root.Merge(&other.Root)
	o.Problems += other.Problems
	o.Surplus += other.Surplus
	if other.Problem != nil {
		o.refuse(*other.Problem)
	}
}

func (o *Observed) refuse(r Refused) {
	if o.Problem == nil || r.Place.Before(o.Problem.Place) {
		o.Problem = &r
	}
}

func (o *Observed) refuseAt(block *parse.Block, p parse.Problem) {
	o.Problems++
	o.refuse(Refused{Place: Place{block.Object, block.LineAt(p.Start), block.Offset + int64(p.Start)}, Problem: p})
}

// Delimited adds the records of a block. names are the columns of the object, one for each field.
func (o *Observed) Delimited(r *delimited.Records, names []string) {
	block := r.Block
	for _, p := range r.Problems {
		o.refuseAt(block, p)
	}
	o.Surplus += int64(len(r.Surplus))
	lines := newLines(block)
	o.Root.Seen |= ClassObject
	o.Root.Counts[ClassObject.Index()] += int64(r.Rows)
	var scratch []byte
	for c, name := range names {
		node := o.Root.Field(name)
		if node.Seen == 0 {
			node.position = c
		}
		for row := range r.Rows {
			text, quoted := r.Value(row, c, &scratch)
			class := ClassText
			switch {
			case len(text) > 0:
				class = Classify(text)
			case !quoted:
				class = ClassNull
			}
			node.add(text, class, &lines, r.Start(row))
		}
	}
}

// add takes a value whose record starts at an offset of the block, looking up its place only when that is news.
func (n *Node) add(text []byte, class Class, lines *lines, start int) {
	var place Place
	if i := class.Index(); n.Seen&class == 0 || lines.before(start, n.First[i]) {
		place = lines.place(start)
	} else {
		place = n.First[i]
	}
	if class == ClassNull {
		n.Null(place)
		return
	}
	n.Add(text, class, place)
}

// lines finds the places of offsets within a block.
type lines struct{ block *parse.Block }

func newLines(block *parse.Block) lines { return lines{block} }

func (l *lines) place(at int) Place {
	return Place{l.block.Object, l.block.LineAt(at), l.block.Offset + int64(at)}
}

func (l *lines) before(at int, p Place) bool {
	if l.block.Object != p.Object {
		return l.block.Object < p.Object
	}
	return l.block.Offset+int64(at) < p.Offset
}

// JSON adds the records of a block.
func (o *Observed) JSON(r *json.Records) {
	for _, p := range r.Problems {
		o.refuseAt(r.Block, p)
	}
	w := walker{lines: newLines(r.Block)}
	w.Limit(r.MaxDepth)
	for row := range r.Rows() {
		start, end := r.Span(row)
		w.start = start
		w.Reset(r.Text(row))
		// What a broken record says must not become evidence, so it is walked through first.
		w.Skip()
		w.End()
		if w.Err() == nil {
			w.Reset(r.Text(row))
			w.record(&o.Root)
		}
		if err := w.Err(); err != nil {
			o.refuseAt(r.Block, parse.Problem{Start: start, End: end, Code: parse.BadJSON, Reason: "cannot be read: " + err.Error(), WayOut: "mend the record"})
		}
	}
}

func article(kind json.Kind) string {
	if kind == json.Array {
		return "an"
	}
	return "a"
}

// walker adds JSON values to nodes.
type walker struct {
	json.Scanner
	lines
	start   int
	scratch []byte
}

// record walks one record.
func (w *walker) record(root *Node) {
	if kind := w.Peek(); kind != json.Object {
		w.Fail("a record is an object, this is %s %s", article(kind), kind)
		return
	}
	w.object(root)
}

// object walks the members of an object. A key is expected where it stood in the object before; only another order costs
// a look-up.
func (w *walker) object(n *Node) {
	n.count(ClassObject, w.spot(n, ClassObject), nil)
	n.objects++
	stamp := n.objects
	w.Open()
	for member := 0; ; member++ {
		key, escaped, ok := w.NextKey(member)
		if !ok {
			return
		}
		if escaped {
			key = w.Unescape(nil, key)
		}
		var field *Node
		if member < len(n.Fields) && n.Fields[member].Name == string(key) {
			field = n.Fields[member]
		} else {
			field = n.Field(string(key))
		}
		if field.Seen == 0 {
			field.position = member
		}
		if field.stamp == stamp {
			w.Fail("the key %q occurs twice", key)
			return
		}
		field.stamp = stamp
		w.value(field)
	}
}

// spot returns the place to note for a class: the record's if that is news, otherwise the one that is known.
func (w *walker) spot(n *Node, class Class) Place {
	if i := class.Index(); n.Seen&class != 0 && !w.before(w.start, n.First[i]) {
		return n.First[i]
	}
	return w.place(w.start)
}

// value walks one value.
func (w *walker) value(n *Node) {
	switch w.Peek() {
	case json.Null:
		w.Literal()
		n.add(nil, ClassNull, &w.lines, w.start)
	case json.Boolean:
		n.add(w.Literal(), ClassBoolean, &w.lines, w.start)
	case json.Number:
		if text := w.Number(); text != nil {
			n.add(text, ClassifyNumber(text), &w.lines, w.start)
		}
	case json.String:
		text, escaped := w.String()
		if escaped {
			w.scratch = w.Unescape(w.scratch[:0], text)
			text = w.scratch
		}
		n.add(text, ClassifyTemporal(text), &w.lines, w.start)
	case json.Object:
		w.object(n)
	case json.Array:
		n.count(ClassArray, w.spot(n, ClassArray), nil)
		if n.Element == nil {
			n.Element = &Node{Name: ElementName}
		}
		w.Open()
		for i := 0; w.NextElement(i); i++ {
			w.value(n.Element)
		}
	}
}
