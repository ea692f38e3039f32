package xml

import (
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"trevak/internal/lexical"
)

// Reader gives a document's records as JSON values.
type Reader struct {
	tokens   *tokens
	text     *recorder
	shape    Shape
	records  map[string]bool
	declared defaults
	path     string
	line     int // of what was given so far
	ready    bytes.Buffer
}

// NewReader prepares to read the records of a document whose shape is known.
func NewReader(r io.Reader, s Shape) *Reader {
	text := &recorder{r: bufio.NewReader(r)}
	out := &Reader{tokens: newTokens(text), text: text, shape: s, records: map[string]bool{}, declared: defaults{}, line: 1}
	for _, record := range s.Records {
		out.records[record] = true
	}
	return out
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
		line, _ := r.tokens.InputPos()
		token, err := r.tokens.next()
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.Directive:
			r.declared.read(string(t))
		case xml.StartElement:
			name := r.shape.name(t.Name)
			around := r.path
			if r.path != "" {
				r.path += "/"
			}
			if r.path += name; !r.records[r.path] {
				continue
			}
			for ; r.line < line; r.line++ {
				r.ready.WriteByte('\n')
			}
			e, err := r.element(t, name)
			if err != nil {
				return err
			}
			r.path = around
			if len(r.records) > 1 {
				e.names = append([]string{KindColumn}, e.names...)
				e.members[KindColumn] = append([]*element{{text: name}}, e.members[KindColumn]...)
			}
			e.object(&r.ready)
			r.ready.WriteByte(' ')
			return nil
		case xml.EndElement:
			r.path = r.path[:max(0, strings.LastIndexByte(r.path, '/'))]
		}
	}
}

// element is one element or attribute: its members in order, and its text.
type element struct {
	names   []string
	members map[string][]*element
	lists   map[string]bool
	text    string
	own     string // the member for its text
	is      bool   // an object, whether it has members or not
	plain   bool   // its text is never a number
}

// element reads an element up to its end. path is that from the record on.
func (r *Reader) element(start xml.StartElement, path string) (*element, error) {
	e := &element{members: map[string][]*element{}, lists: map[string]bool{}, own: textMember, is: r.shape.Objects[path]}
	if own := r.shape.Own[path]; own != "" {
		e.own = own
	}
	for _, a := range r.declared.of(start) {
		e.add(r.shape.name(a.Name), &element{text: a.Value}, false)
	}
	if r.shape.MixedText && r.shape.Mixed[path] {
		text, err := r.markup()
		e.text, e.plain = text, true
		return e, err
	}
	var text []byte
	for {
		token, err := r.tokens.next()
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			name := r.shape.name(t.Name)
			below := path + "/" + name
			child, err := r.element(t, below)
			if err != nil {
				return nil, err
			}
			e.add(name, child, r.shape.Lists[below])
		case xml.CharData:
			text = append(text, t...)
		case xml.EndElement:
			e.text = string(trim(text))
			return e, nil
		}
	}
}

// markup returns the inside of the element that was begun as it stands in the document.
func (r *Reader) markup() (string, error) {
	r.text.record(r.tokens.InputOffset())
	depth := len(r.tokens.open)
	for {
		before := r.tokens.InputOffset()
		token, err := r.tokens.next()
		if err != nil {
			return "", err
		}
		if _, ends := token.(xml.EndElement); ends && len(r.tokens.open) < depth {
			return string(trim(r.text.recorded(before))), nil
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
	if e.text != "" {
		if len(e.names) > 0 {
			w.WriteByte(',')
		}
		quote(w, e.own)
		w.WriteByte(':')
		e.scalar(w)
	}
	w.WriteByte('}')
}

func (e *element) value(w *bytes.Buffer) {
	switch {
	case len(e.names) > 0 || e.is && e.text != "":
		e.object(w)
	case e.text == "":
		w.WriteString("null")
	default:
		e.scalar(w)
	}
}

// scalar writes an element's text as the number or boolean that it is, if nothing of it is lost, and otherwise as a string.
func (e *element) scalar(w *bytes.Buffer) {
	raw := []byte(e.text)
	_, long := lexical.Long(raw)
	_, double := lexical.Double(raw)
	truth, boolean := lexical.Boolean(raw)
	switch {
	case e.plain:
		quote(w, e.text)
	case boolean:
		fmt.Fprint(w, truth)
	case (long || double) && json.Valid(raw):
		w.Write(raw)
	default:
		quote(w, e.text)
	}
}

func quote(w *bytes.Buffer, text string) {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	// A string can always be encoded.
	_ = encoder.Encode(text)
	w.Truncate(w.Len() - 1)
}

// recorder reads byte by byte, so that a decoder takes no more than it has looked at, and keeps what it reads while it is asked to.
type recorder struct {
	r      *bufio.Reader
	offset int64 // of the next byte
	keep   bool
	from   int64 // offset of the first byte kept
	kept   []byte
	last   byte
}

// ReadByte makes the decoder read no further than it must.
func (t *recorder) ReadByte() (byte, error) {
	c, err := t.r.ReadByte()
	if err == nil {
		t.offset++
		t.last = c
		if t.keep {
			t.kept = append(t.kept, c)
		}
	}
	return c, err
}

func (t *recorder) Read(p []byte) (int, error) {
	for i := range p {
		c, err := t.ReadByte()
		if err != nil {
			return i, err
		}
		p[i] = c
	}
	return len(p), nil
}

// record begins to keep what is read from an offset on, which is at most one byte behind what was read.
func (t *recorder) record(offset int64) {
	t.keep, t.kept, t.from = true, t.kept[:0], offset
	if offset < t.offset {
		t.kept = append(t.kept, t.last)
	}
}

// recorded ends that and returns what was kept up to an offset.
func (t *recorder) recorded(offset int64) []byte {
	t.keep = false
	return t.kept[:min(int64(len(t.kept)), offset-t.from)]
}
