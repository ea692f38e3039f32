package xml

import (
	"errors"
	"io"
	"strings"

	"trevak/internal/fault"
)

// Survey is what is in a document, by the paths of its elements.
type Survey struct {
	options  Options
	root     string
	elements map[string]*found
	values   int // texts and attributes, of all elements
}

// found is what was found of the elements at one path.
type found struct {
	path     string
	count    int
	repeats  int             // parents in which there is more than one
	parents  int             // parents in which there is one
	values   int             // texts and attributes within them
	names    map[string]bool // of their attributes and children
	children int             // elements directly in them
	texts    bool            // one has text of its own
	mixed    bool            // one has text among elements
	given    bool            // one has attributes
	line     int

	below  map[*name]*found // children by their names
	known  map[*name]bool   // attributes that are among names
	parent int              // the number of the element in which one was last, and how many were in it
	within int
}

// mostPaths is how many paths a document may have: with more, names of elements are values.
const mostPaths = 100_000

// open is an element that is read now.
type open struct {
	found   *found
	number  int // of the element
	before  int // values before it
	text    bool
	parents bool // it has children
}

// Look reads a document from beginning to end.
func Look(r io.Reader, options Options) (*Survey, error) {
	s := &Survey{options: options, elements: map[string]*found{}}
	t := newTokens(r)
	declared, top := defaults{}, &found{}
	var stack []open
	number := 0
	for {
		line := t.line
		k, err := t.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		switch k.kind {
		case directive:
			declared.read(string(k.text))
		case start:
			around := open{found: top}
			if len(stack) > 0 {
				stack[len(stack)-1].parents = true
				around = stack[len(stack)-1]
			}
			at, err := s.begin(around.found, k.name, line)
			if err != nil {
				return nil, err
			}
			if len(stack) > 0 {
				around.found.child(at, around.number)
			}
			number++
			stack = append(stack, open{found: at, number: number, before: s.values})
			s.attributes(at, k, declared)
		case text:
			if len(stack) > 0 && len(trim(k.text)) > 0 {
				top := &stack[len(stack)-1]
				if !top.text {
					s.values++
				}
				top.text, top.found.texts = true, true
			}
		case end:
			top := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			top.found.values += s.values - top.before
			top.found.mixed = top.found.mixed || top.text && top.parents
		}
	}
	if s.root == "" {
		return nil, t.fail("it has no element")
	}
	return s, nil
}

// child counts a child of the element with a number.
func (f *found) child(child *found, number int) {
	f.children++
	if child.parent != number {
		child.parent, child.within = number, 0
	}
	switch child.within++; child.within {
	case 1:
		child.parents++
	case 2:
		child.repeats++
	}
}

// begin counts an element.
func (s *Survey) begin(around *found, n *name, line int) (*found, error) {
	at := around.below[n]
	if at == nil {
		var err error
		if at, err = s.find(around, n, line); err != nil {
			return nil, err
		}
	}
	at.count++
	return at, nil
}

// find returns what is kept of the elements of a name in others, which several names may share.
func (s *Survey) find(around *found, n *name, line int) (*found, error) {
	member := s.options.name(n)
	path := member
	if around.path != "" {
		path = around.path + "/" + member
		around.names[member] = true
	}
	at := s.elements[path]
	if at == nil {
		if len(s.elements) == mostPaths {
			return nil, fault.New(fault.Input, "has elements with more than %d different paths",
				mostPaths).Try("elements whose names are values cannot be read as columns")
		}
		at = &found{path: path, names: map[string]bool{}, below: map[*name]*found{}, known: map[*name]bool{}, line: line}
		s.elements[path] = at
		if s.root == "" {
			s.root = path
		}
	}
	if around.below != nil {
		around.below[n] = at
	}
	return at, nil
}

// attributes counts those of an element, and those that it has by default.
func (s *Survey) attributes(at *found, k *token, declared defaults) {
	for _, a := range declared.of(k) {
		if !at.known[a.name] {
			at.known[a.name] = true
			at.names[s.options.name(a.name)] = true
		}
		at.given = true
		s.values++
	}
}

// Shape returns the shape of the document's records at the given paths.
func (s *Survey) Shape(records []string) Shape {
	out := Shape{Options: s.options, Records: records, Lists: map[string]bool{}, Objects: map[string]bool{}, Mixed: map[string]bool{},
		Own: map[string]string{}}
	for path, f := range s.elements {
		key := out.within(path)
		if key == "" {
			continue
		}
		if f.repeats > 0 && strings.Contains(key, "/") {
			out.Lists[key] = true
		}
		out.Mixed[key] = f.mixed
		if f.given || len(f.names) > 0 && !(f.mixed && s.options.MixedText) {
			out.Objects[key] = true
		}
		if own := f.own(); own != textMember {
			out.Own[key] = own
		}
	}
	return out
}

// textMember holds an element's own text, or ownMember where an attribute or a child is called so.
const (
	textMember = "text"
	ownMember  = "own_text"
)

// own is the name of the member for the elements' own text.
func (f *found) own() string {
	if !f.names[textMember] || !f.texts {
		return textMember
	}
	name := ownMember
	for f.names[name] {
		name += "_"
	}
	return name
}
