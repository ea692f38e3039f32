// Package xml turns the records of an XML document into JSON values, which are then read like any others.
//
// What comes in is the document's text and the elements that are records; what goes out is a stream of JSON objects on the lines
// on which the records began. Attributes and children become members, by their names without prefixes; children that occur
// more than once in any record become arrays; an element that has attributes or children in any record is an object in all, with
// its own text as the member "text". Defaults that the document's own type declaration gives attributes apply (XML 1.0, section 3.3.2).
// Entities other than XML's own five are errors, so nothing can be made to expand.
package xml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"

	"trevak/internal/fault"
)

// MaxDepth is how many elements may lie within each other.
const MaxDepth = 200

// Options are what is stated about a document.
type Options struct {
	// Records are the paths or the names of the elements that are records, with commas between them; empty means to find them.
	Records string
	// Prefixes keeps the prefixes of names: media:title becomes the member media_title.
	Prefixes bool
	// MixedText keeps elements in which text stands among elements as text with its markup.
	MixedText bool
}

// Shape is what must be known of a document before its records can be read. What is known of several documents can be put together.
type Shape struct {
	Options
	// Records are the paths of the elements that are records, from the root.
	Records []string
	// Lists and Objects are the elements below records that occur more than once, and that have members; Mixed are the elements,
	// records too, in which text stands among elements. Own are the names of the members that hold elements' own text, where that
	// is not "text". The keys are paths from the record on: entry/note.
	Lists, Objects, Mixed map[string]bool
	Own                   map[string]string
}

// KindColumn tells which element a record is, where there are several.
const KindColumn = "_kind"

// String writes the paths of the records.
func (s Shape) String() string { return "/" + strings.Join(s.Records, ", /") }

// MixedElements lists the elements in which text stands among elements, in order.
func (s Shape) MixedElements() (paths []string) {
	for path, mixed := range s.Mixed {
		if mixed {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	return paths
}

// Merge adds what is known of another document.
func (s *Shape) Merge(o Shape) {
	maps.Copy(s.Lists, o.Lists)
	maps.Copy(s.Objects, o.Objects)
	for path, mixed := range o.Mixed {
		s.Mixed[path] = s.Mixed[path] || mixed
	}
	for path, name := range o.Own {
		if len(name) > len(s.Own[path]) {
			s.Own[path] = name
		}
	}
}

// record returns the path from a record on, as the keys of a Shape are, of a path from the root; it is empty for what is in no record.
func (s *Shape) within(path string) string {
	for _, r := range s.Records {
		if path == r || strings.HasPrefix(path, r) && path[len(r)] == '/' {
			return path[strings.LastIndexByte(r, '/')+1:]
		}
	}
	return ""
}

// tokens reads a document's tokens with their prefixes, and holds elements against the ends that close them.
type tokens struct {
	*xml.Decoder
	open  []xml.Name
	begun bool // the root
}

// newTokens reads text that is UTF-8 already, whatever the document declares.
func newTokens(r io.Reader) *tokens {
	d := xml.NewDecoder(r)
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	return &tokens{Decoder: d}
}

// next returns the next token, io.EOF at the end of a whole document.
func (t *tokens) next() (xml.Token, error) {
	token, err := t.RawToken()
	if err != nil {
		if errors.Is(err, io.EOF) && len(t.open) > 0 {
			return nil, t.fail("element <%s> is not closed", written(t.open[len(t.open)-1]))
		}
		if errors.Is(err, io.EOF) {
			return nil, io.EOF
		}
		return nil, t.broken(err)
	}
	switch e := token.(type) {
	case xml.StartElement:
		if len(t.open) == MaxDepth {
			return nil, fault.New(fault.Input, "has elements more than %d deep", MaxDepth)
		}
		if len(t.open) == 0 && t.begun {
			return nil, t.fail("a second document begins with <%s>", written(e.Name))
		}
		t.begun = true
		t.open = append(t.open, e.Name)
	case xml.EndElement:
		if len(t.open) == 0 {
			return nil, t.fail("there is no element for </%s> to close", written(e.Name))
		}
		if begun := t.open[len(t.open)-1]; begun != e.Name {
			return nil, t.fail("element <%s> is closed by </%s>", written(begun), written(e.Name))
		}
		t.open = t.open[:len(t.open)-1]
	}
	return token, nil
}

// written is a name as it stands in the document: the prefix is in Space.
func written(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

// name is what a name becomes as that of a member.
func (o Options) name(n xml.Name) string {
	if !o.Prefixes || n.Space == "" {
		return n.Local
	}
	return n.Space + "_" + n.Local
}

// isNamespace reports whether an attribute declares a namespace.
func isNamespace(n xml.Name) bool {
	return n.Space == "xmlns" || n.Space == "" && n.Local == "xmlns"
}

// fail is an error about the document's form, at the current line.
func (t *tokens) fail(format string, args ...any) error {
	line, _ := t.InputPos()
	e := fault.New(fault.Input, "is not well-formed XML: "+format, args...).Try("ask the sender for a whole copy, or mend it")
	e.Line = int64(line)
	return e
}

// broken says where a document stops being one.
func (t *tokens) broken(err error) error {
	if fault.KindOf(err) != 0 {
		return err
	}
	var syntax *xml.SyntaxError
	if errors.As(err, &syntax) {
		return t.fail("%s", syntax.Msg)
	}
	return t.fail("%s", err)
}

// trim leaves out XML's own white space around a text (XML 1.0, section 2.3), and none other.
func trim(text []byte) []byte { return bytes.Trim(text, " \t\r\n") }

// ancestors are the paths of the elements around one, from the root.
func ancestors(path string) []string {
	var out []string
	for i, c := range path {
		if c == '/' {
			out = append(out, path[:i])
		}
	}
	return out
}

// sorted returns the keys of a map in order.
func sorted[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }
