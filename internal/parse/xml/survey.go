package xml

import (
	"encoding/xml"
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
}

// mostPaths is how many paths a document may have: with more, names of elements are values.
const mostPaths = 100_000

// Look reads a document from beginning to end.
func Look(r io.Reader, options Options) (*Survey, error) {
	s := &Survey{options: options, elements: map[string]*found{}}
	t := newTokens(r)
	declared := defaults{}
	var stack []open
	for {
		token, err := t.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		switch e := token.(type) {
		case xml.Directive:
			declared.read(string(e))
		case xml.StartElement:
			around := ""
			if len(stack) > 0 {
				around = stack[len(stack)-1].path + "/"
			}
			line, _ := t.InputPos()
			at, err := s.begin(around+options.name(e.Name), line)
			if err != nil {
				return nil, err
			}
			if len(stack) > 0 {
				stack[len(stack)-1].child(options.name(e.Name), at)
			}
			stack = append(stack, open{path: around + options.name(e.Name), found: at, before: s.values})
			s.attributes(at, e, declared)
		case xml.CharData:
			if len(stack) > 0 && len(trim(e)) > 0 {
				top := &stack[len(stack)-1]
				if !top.text {
					s.values++
				}
				top.text, top.found.texts = true, true
			}
		case xml.EndElement:
			top := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			top.found.values += s.values - top.before
			top.found.mixed = top.found.mixed || top.text && top.children != nil
		}
	}
	if s.root == "" {
		return nil, t.fail("it has no element")
	}
	return s, nil
}

// open is an element that is read now.
type open struct {
	path     string
	found    *found
	before   int // values before it
	text     bool
	children map[string]int
}

// child counts a child by its name.
func (o *open) child(name string, f *found) {
	if o.children == nil {
		o.children = map[string]int{}
	}
	o.children[name]++
	o.found.children++
	o.found.names[name] = true
	switch o.children[name] {
	case 1:
		f.parents++
	case 2:
		f.repeats++
	}
}

// begin counts an element.
func (s *Survey) begin(path string, line int) (*found, error) {
	at := s.elements[path]
	if at == nil {
		if len(s.elements) == mostPaths {
			return nil, fault.New(fault.Input, "has elements with more than %d different paths",
				mostPaths).Try("elements whose names are values cannot be read as columns")
		}
		at = &found{names: map[string]bool{}, line: line}
		s.elements[path] = at
		if s.root == "" {
			s.root = path
		}
	}
	at.count++
	return at, nil
}

// attributes counts those of an element, and those that it has by default.
func (s *Survey) attributes(at *found, e xml.StartElement, declared defaults) {
	for _, a := range declared.of(e) {
		at.names[s.options.name(a.Name)] = true
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
