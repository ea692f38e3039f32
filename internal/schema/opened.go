package schema

import (
	"strings"

	"trevak/internal/parse/json"
)

// openedFormat is the format of a type that is stated as json: the texts of the column are JSON, and what is in them is its value.
const openedFormat = "json"

// Opens reports whether the type is inferred from what is inside the texts of a column.
func (s Stated) Opens() bool { return s.Type.Kind == Unknown && s.Notation.Format == openedFormat }

// Openings tells which columns hold texts that are JSON, by the names that lead to them.
type Openings struct {
	self bool
	in   map[string]*Openings
}

// OpeningsOf returns those that are stated, nil where none are.
func (c *Corrections) OpeningsOf() *Openings {
	var all *Openings
	add := func(path string) {
		if all == nil {
			all = &Openings{}
		}
		at := all
		for _, name := range strings.Split(path, ".") {
			if name == ElementName {
				continue
			}
			if at.in == nil {
				at.in = map[string]*Openings{}
			}
			if at.in[name] == nil {
				at.in[name] = &Openings{}
			}
			at = at.in[name]
		}
		at.self = true
	}
	for path, stated := range c.Types {
		if stated.Opens() {
			add(path)
		}
	}
	for _, f := range c.Columns {
		if (Stated{f.Type, f.Notation}).Opens() {
			add(f.Source())
		}
	}
	return all
}

// of returns the openings of a member, by its name in the source or what that becomes when it is made legal.
func (o *Openings) of(name string) *Openings {
	if o == nil || o.in == nil {
		return nil
	}
	if in := o.in[name]; in != nil {
		return in
	}
	return o.in[safeName(name)]
}

// opens reports whether the node's texts are to be opened.
func (n *Node) opens() bool { return n.openings != nil && n.openings.self }

// open adds what is in a text. One that is no JSON is no evidence: it is a misfit when rows are made.
func (n *Node) open(text []byte, w *where) {
	inner := walker{where: *w, depth: 1}
	inner.Reset(text)
	inner.Skip()
	if inner.End(); inner.Err() != nil {
		n.null(w)
		return
	}
	inner.Reset(text)
	inner.value(n)
	if inner.Err() != nil {
		n.null(w)
	}
}

// isJSONText reports whether a text is an object or an array of JSON.
func isJSONText(text []byte) bool {
	if len(text) < 2 || text[0] != '{' && text[0] != '[' {
		return false
	}
	var s json.Scanner
	s.Reset(text)
	s.Skip()
	s.End()
	return s.Err() == nil
}
