// Package xml turns the records of an XML document into JSON values, which are then read like any others.
//
// What comes in is the document's text and the element that is a record; what goes out is a stream of JSON objects on the lines
// on which the records began. Attributes and children become members, by their names without prefixes; children that occur
// more than once in any record become arrays; the text of an element that has members besides becomes the member "text".
// Entities other than XML's own five are errors, so nothing can be made to expand.
package xml

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/lexical"
)

// MaxDepth is how many elements may lie within each other.
const MaxDepth = 200

// Shape is what must be known of a document before its records can be read.
type Shape struct {
	// Record is the path of the element that is a record, from the root: [log entry].
	Record []string
	// Lists are the paths below the record of children that occur more than once, joined by slashes.
	Lists map[string]bool
}

// String writes the record's path: /log/entry.
func (s Shape) String() string { return "/" + strings.Join(s.Record, "/") }

// newDecoder reads text that is UTF-8 already, whatever the document declares.
func newDecoder(r io.Reader) *xml.Decoder {
	d := xml.NewDecoder(r)
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	return d
}

// Survey reads a document to find the records and what is repeated in them. stated is the path or the name of the record's element;
// empty means to find the one element that repeats and lies in no other that does.
func Survey(r io.Reader, stated string) (Shape, error) {
	d := newDecoder(r)
	var path []string
	counts := []map[string]int{{}}
	repeated := map[string]bool{} // paths of elements that occur more than once in their parent
	seen := map[string]bool{}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return Shape{}, broken(d, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			path = append(path, t.Name.Local)
			if len(path) > MaxDepth {
				return Shape{}, fault.New(fault.Input, "has elements more than %d deep", MaxDepth)
			}
			whole := strings.Join(path, "/")
			seen[whole] = true
			parent := counts[len(counts)-1]
			if parent[t.Name.Local]++; parent[t.Name.Local] > 1 {
				repeated[whole] = true
			}
			counts = append(counts, map[string]int{})
		case xml.EndElement:
			path = path[:len(path)-1]
			counts = counts[:len(counts)-1]
		}
	}
	record, err := choose(stated, seen, repeated)
	if err != nil {
		return Shape{}, err
	}
	s := Shape{Record: strings.Split(record, "/"), Lists: map[string]bool{}}
	for whole := range repeated {
		if below, ok := strings.CutPrefix(whole, record+"/"); ok {
			s.Lists[below] = true
		}
	}
	return s, nil
}

// choose settles which element is a record.
func choose(stated string, seen, repeated map[string]bool) (string, error) {
	var candidates []string
	if stated != "" {
		want := strings.Trim(stated, "/")
		for path := range seen {
			if path == want || !strings.HasPrefix(stated, "/") && strings.HasSuffix(path, "/"+want) {
				candidates = append(candidates, path)
			}
		}
	} else {
		for path := range repeated {
			if !slices.ContainsFunc(ancestors(path), func(a string) bool { return repeated[a] }) {
				candidates = append(candidates, path)
			}
		}
	}
	slices.Sort(candidates)
	switch {
	case len(candidates) == 1:
		return candidates[0], nil
	case stated != "" && len(candidates) == 0:
		return "", fault.New(fault.Usage, "has no element %q", stated).Try("write its path from the root, like /log/entry")
	case len(candidates) == 0:
		return "", fault.New(fault.Usage, "has no element that repeats, so none is a record by itself").Try("name one: --records /log/entry")
	}
	return "", fault.New(fault.Usage, "has several elements that could be records: /%s", strings.Join(candidates, ", /")).
		Try("name one: --records /%s", candidates[0])
}

func ancestors(path string) []string {
	var out []string
	for i, c := range path {
		if c == '/' {
			out = append(out, path[:i])
		}
	}
	return out
}

// broken says where a document stops being one.
func broken(d *xml.Decoder, err error) error {
	if fault.KindOf(err) != 0 {
		return err
	}
	line, _ := d.InputPos()
	var syntax *xml.SyntaxError
	text := err.Error()
	if errors.As(err, &syntax) {
		text = syntax.Msg
	}
	return &fault.Error{Kind: fault.Input, Line: int64(line), Reason: "is not well-formed XML: " + text, WayOut: "ask the sender for a whole copy, or mend it"}
}

// Reader gives a document's records as JSON values.
type Reader struct {
	decoder *xml.Decoder
	shape   Shape
	path    []string
	line    int // of what was given so far
	ready   bytes.Buffer
}

// NewReader prepares to read the records of a document whose shape is known.
func NewReader(r io.Reader, s Shape) *Reader {
	return &Reader{decoder: newDecoder(r), shape: s, line: 1}
}

func (r *Reader) Read(p []byte) (int, error) {
	for r.ready.Len() == 0 {
		if err := r.next(); err != nil {
			return 0, err
		}
	}
	return r.ready.Read(p)
}

// next makes one more record ready, after as many line feeds as put it on the line it begins on.
func (r *Reader) next() error {
	for {
		line, _ := r.decoder.InputPos()
		token, err := r.decoder.Token()
		if errors.Is(err, io.EOF) {
			return io.EOF
		}
		if err != nil {
			return broken(r.decoder, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			r.path = append(r.path, t.Name.Local)
			if !slices.Equal(r.path, r.shape.Record) {
				continue
			}
			for ; r.line < line; r.line++ {
				r.ready.WriteByte('\n')
			}
			e, err := r.element(t, "", len(r.path))
			if err != nil {
				return err
			}
			r.path = r.path[:len(r.path)-1]
			e.object(&r.ready)
			r.ready.WriteByte(' ')
			return nil
		case xml.EndElement:
			r.path = r.path[:len(r.path)-1]
		}
	}
}

// element is one element: its members in order, and its text.
type element struct {
	names   []string
	members map[string][]*element
	lists   map[string]bool
	text    string
	bare    bool // an attribute or an element without members
}

// element reads an element up to its end.
func (r *Reader) element(start xml.StartElement, below string, depth int) (*element, error) {
	if depth > MaxDepth {
		return nil, fault.New(fault.Input, "has elements more than %d deep", MaxDepth)
	}
	e := &element{members: map[string][]*element{}, lists: map[string]bool{}}
	for _, a := range start.Attr {
		if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
			e.add(a.Name.Local, &element{text: a.Value, bare: true}, false)
		}
	}
	var text strings.Builder
	for {
		token, err := r.decoder.Token()
		if err != nil {
			return nil, broken(r.decoder, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			path := strings.TrimPrefix(below+"/"+t.Name.Local, "/")
			child, err := r.element(t, path, depth+1)
			if err != nil {
				return nil, err
			}
			e.add(t.Name.Local, child, r.shape.Lists[path])
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			e.text = strings.TrimSpace(text.String())
			e.bare = len(e.names) == 0
			return e, nil
		}
	}
}

func (e *element) add(name string, member *element, list bool) {
	if _, ok := e.members[name]; !ok {
		e.names = append(e.names, name)
	}
	e.members[name] = append(e.members[name], member)
	e.lists[name] = e.lists[name] || list || len(e.members[name]) > 1
}

// object writes an element as a JSON object, even when it is nothing but text.
func (e *element) object(w *bytes.Buffer) {
	w.WriteByte('{')
	for i, name := range e.names {
		if i > 0 {
			w.WriteByte(',')
		}
		quote(w, name)
		w.WriteByte(':')
		if !e.lists[name] {
			e.members[name][0].value(w)
			continue
		}
		w.WriteByte('[')
		for j, member := range e.members[name] {
			if j > 0 {
				w.WriteByte(',')
			}
			member.value(w)
		}
		w.WriteByte(']')
	}
	if _, taken := e.members["text"]; e.text != "" && !taken {
		if len(e.names) > 0 {
			w.WriteByte(',')
		}
		w.WriteString(`"text":`)
		scalar(w, e.text)
	}
	w.WriteByte('}')
}

func (e *element) value(w *bytes.Buffer) {
	switch {
	case !e.bare:
		e.object(w)
	case e.text == "":
		w.WriteString("null")
	default:
		scalar(w, e.text)
	}
}

// scalar writes a text as the number or boolean that it is, if nothing of it is lost, and otherwise as a string.
func scalar(w *bytes.Buffer, text string) {
	raw := []byte(text)
	_, long := lexical.Long(raw)
	_, double := lexical.Double(raw)
	truth, boolean := lexical.Boolean(raw)
	switch {
	case boolean:
		fmt.Fprint(w, truth)
	case (long || double) && json.Valid(raw):
		w.Write(raw)
	default:
		quote(w, text)
	}
}

func quote(w *bytes.Buffer, text string) {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	// A string can always be encoded.
	_ = encoder.Encode(text)
	w.Truncate(w.Len() - 1)
}
