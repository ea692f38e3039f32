package xml

// element is what is known of the elements, or attributes, at one path of a shape.
type element struct {
	name   string
	quoted []byte // the name as that of a member of JSON, with the colon
	own    []byte // the member for its text, likewise
	path   string // from the record on
	list   bool
	is     bool // an object, whether it has members or not
	mixed  bool

	children, attributes map[*name]*element
}

// element makes what is known of a path.
func (s *Shape) element(name, path string) *element {
	own := textMember
	if other := s.Own[path]; other != "" {
		own = other
	}
	return &element{name: name, quoted: append(appendQuoted(nil, []byte(name)), ':'), own: append(appendQuoted(nil, []byte(own)), ':'),
		path: path, list: s.Lists[path], is: s.Objects[path], mixed: s.Mixed[path]}
}

// child returns what is known of the children of a name.
func (e *element) child(s *Shape, n *name) *element {
	out := e.children[n]
	if out == nil {
		member := s.Options.name(n)
		out = s.element(member, e.path+"/"+member)
		// Names with different prefixes may be one.
		for _, other := range e.children {
			if other.name == member {
				out = other
			}
		}
		if e.children == nil {
			e.children = map[*name]*element{}
		}
		e.children[n] = out
	}
	return out
}

// attribute returns what is known of an attribute: no more than its name.
func (e *element) attribute(n *name, o Options) *element {
	out := e.attributes[n]
	if out == nil {
		member := o.name(n)
		out = &element{name: member, quoted: append(appendQuoted(nil, []byte(member)), ':')}
		if e.attributes == nil {
			e.attributes = map[*name]*element{}
		}
		e.attributes[n] = out
	}
	return out
}

// tree is a record that is read.
type tree struct {
	nodes []node
	texts []byte
	index map[memberKey]int // the first of each name in elements with very many
}

// node is an element or an attribute. The members of an element of one name stand in a list of their own.
type node struct {
	kind       *element
	start, end int // of its text
	plain      bool
	first      int // member of the first name, 0 for none, and that of the last
	last       int
	names      int // how many different names its members have
	next       int // the first member of the next name
	same       int // the next member of the same name
	tail       int // of the first member of a name: the last of that name
}

// memberKey is a name of the members of a node.
type memberKey struct {
	of   int
	name string
}

func (t *tree) reset() {
	t.nodes, t.texts = t.nodes[:0], t.texts[:0]
	clear(t.index)
}

// manyNames is from how many names of members on they are looked up.
const manyNames = 16

// add makes a node a member of another, -1 for none, and returns its number.
func (t *tree) add(of int, kind *element) int {
	at := len(t.nodes)
	t.nodes = append(t.nodes, node{kind: kind, start: len(t.texts), end: len(t.texts), tail: at})
	if of < 0 {
		return at
	}
	parent := &t.nodes[of]
	if known := t.member(of, kind.name); known > 0 {
		t.nodes[t.nodes[known].tail].same = at
		t.nodes[known].tail = at
		return at
	}
	if parent.first == 0 {
		parent.first = at
	} else {
		t.nodes[parent.last].next = at
	}
	parent.last = at
	if parent.names++; parent.names >= manyNames {
		t.look(of)
		t.index[memberKey{of, kind.name}] = at
	}
	return at
}

// look has the names of a node's members looked up from now on.
func (t *tree) look(of int) {
	if t.index == nil {
		t.index = map[memberKey]int{}
	}
	if t.nodes[of].names == manyNames {
		for at := t.nodes[of].first; at > 0; at = t.nodes[at].next {
			t.index[memberKey{of, t.nodes[at].kind.name}] = at
		}
	}
}

// member returns the first member of a name, 0 where there is none.
func (t *tree) member(of int, name string) int {
	if t.nodes[of].names >= manyNames {
		return t.index[memberKey{of, name}]
	}
	for at := t.nodes[of].first; at > 0; at = t.nodes[at].next {
		if t.nodes[at].kind.name == name {
			return at
		}
	}
	return 0
}

// own makes what stands from a place on the text of a node, without the white space around it.
func (t *tree) own(at, begins int) {
	text := t.texts[begins:]
	left := len(text) - len(trimLeft(text))
	text = trim(text)
	t.nodes[at].start = begins + left
	t.nodes[at].end = begins + left + len(text)
}

func (t *tree) text(at int) []byte { return t.texts[t.nodes[at].start:t.nodes[at].end] }

// object writes an element as a JSON object, even when it is nothing but text.
func (t *tree) object(dst []byte, at int) []byte {
	n := &t.nodes[at]
	dst = append(dst, '{')
	for member := n.first; member > 0; member = t.nodes[member].next {
		if member != n.first {
			dst = append(dst, ',')
		}
		m := &t.nodes[member]
		dst = append(dst, m.kind.quoted...)
		if !t.isList(member) {
			dst = t.value(dst, member)
			continue
		}
		dst = append(dst, '[')
		for one := member; one > 0; one = t.nodes[one].same {
			if one != member {
				dst = append(dst, ',')
			}
			dst = t.value(dst, one)
		}
		dst = append(dst, ']')
	}
	if text := t.text(at); len(text) > 0 {
		if n.first > 0 {
			dst = append(dst, ',')
		}
		dst = t.scalar(append(dst, n.kind.own...), at)
	}
	return append(dst, '}')
}

// isList reports whether the members of a name, of which the first is given, are an array.
func (t *tree) isList(member int) bool {
	if t.nodes[member].same > 0 {
		return true
	}
	return t.nodes[member].kind.list
}

func (t *tree) value(dst []byte, at int) []byte {
	n := &t.nodes[at]
	empty := n.start == n.end
	switch {
	case n.first > 0 || n.kind.is && !empty:
		return t.object(dst, at)
	case empty:
		return append(dst, "null"...)
	}
	return t.scalar(dst, at)
}

func (t *tree) scalar(dst []byte, at int) []byte {
	if t.nodes[at].plain {
		return appendQuoted(dst, t.text(at))
	}
	return appendScalar(dst, t.text(at))
}
