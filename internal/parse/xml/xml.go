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
	"maps"
	"slices"
	"strings"
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

// name is what a name becomes as that of a member.
func (o Options) name(n *name) string {
	if !o.Prefixes || n.space == "" {
		return n.local
	}
	return n.space + "_" + n.local
}

// isNamespace reports whether an attribute declares a namespace.
func (n *name) isNamespace() bool { return n.space == "xmlns" || n.space == "" && n.local == "xmlns" }

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
