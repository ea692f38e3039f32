package xml

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"trevak/internal/lexical"
)

// Reader gives a document's records as JSON values.
type Reader struct {
	tokens   *tokens
	shape    Shape
	records  map[string]bool
	declared defaults
	path     string
	kinds    map[string]*element // by the paths of records
	tree     tree
	line     int // of what was given so far
	ready    bytes.Buffer
}

// NewReader prepares to read the records of a document whose shape is known.
func NewReader(r io.Reader, s Shape) *Reader {
	out := &Reader{tokens: newTokens(r), shape: s, records: map[string]bool{}, declared: defaults{}, kinds: map[string]*element{}, line: 1}
	for _, record := range s.Records {
		out.records[record] = true
	}
	return out
}

// someReady is how much is made ready at a time, in bytes, as far as there is as much.
const someReady = 64 << 10

func (r *Reader) Read(p []byte) (int, error) {
	for r.ready.Len() == 0 {
		for r.ready.Len() < someReady {
			if err := r.next(); err != nil && r.ready.Len() == 0 {
				return 0, err
			} else if err != nil {
				// What was read is given first; the error comes again.
				break
			}
		}
	}
	return r.ready.Read(p)
}

// next makes one more record ready, after as many line feeds as put it on the line it begins on.
func (r *Reader) next() error {
	for {
		line := r.tokens.line
		k, err := r.tokens.next()
		if err != nil {
			return err
		}
		switch k.kind {
		case directive:
			r.declared.read(string(k.text))
		case start:
			name := r.shape.name(k.name)
			around := r.path
			if r.path != "" {
				r.path += "/"
			}
			if r.path += name; !r.records[r.path] {
				continue
			}
			kind := r.kinds[r.path]
			if kind == nil {
				kind = r.shape.element(name, name)
				r.kinds[r.path] = kind
			}
			if err := r.record(k, kind); err != nil {
				return err
			}
			r.path = around
			for ; r.line < line; r.line++ {
				r.ready.WriteByte('\n')
			}
			b := r.tree.object(r.ready.AvailableBuffer(), 0)
			r.ready.Write(append(b, ' '))
			return nil
		case end:
			r.path = r.path[:max(0, strings.LastIndexByte(r.path, '/'))]
		}
	}
}

// kindName is that of an attribute which no document has.
var kindName = &name{written: KindColumn, local: KindColumn}

// record reads the record that was begun into the tree.
func (r *Reader) record(begun *token, kind *element) error {
	r.tree.reset()
	r.tree.add(-1, kind)
	if len(r.records) > 1 {
		at := r.tree.add(0, kind.attribute(kindName, r.shape.Options))
		r.tree.texts = append(r.tree.texts, kind.name...)
		r.tree.nodes[at].end = len(r.tree.texts)
	}
	return r.element(begun, 0)
}

// element reads an element up to its end into a node.
func (r *Reader) element(begun *token, at int) error {
	t := &r.tree
	kind := t.nodes[at].kind
	for _, a := range r.declared.of(begun) {
		child := t.add(at, kind.attribute(a.name, r.shape.Options))
		t.texts = append(t.texts, a.value...)
		t.nodes[child].end = len(t.texts)
	}
	if r.shape.MixedText && kind.mixed {
		return r.markup(at)
	}
	// Text may stand between elements, whose own texts come to lie between its parts then: it is put together behind them.
	var parts []byte
	begins := len(t.texts)
	whole := true
	for {
		k, err := r.tokens.next()
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		switch k.kind {
		case start:
			if whole {
				parts = append(parts, trimLeft(t.texts[begins:])...)
				whole = false
			}
			child := t.add(at, kind.child(&r.shape, k.name))
			if err := r.element(k, child); err != nil {
				return err
			}
		case text:
			if whole {
				t.texts = append(t.texts, k.text...)
			} else if len(parts) > 0 || len(trimLeft(k.text)) > 0 {
				parts = append(parts, k.text...)
			}
		case end:
			if !whole {
				begins = len(t.texts)
				t.texts = append(t.texts, parts...)
			}
			t.own(at, begins)
			return nil
		}
	}
}

func trimLeft(text []byte) []byte { return bytes.TrimLeft(text, " \t\r\n") }

// markup reads the inside of the element that was begun as it stands in the document.
func (r *Reader) markup(at int) error {
	r.tokens.hold()
	depth := len(r.tokens.open)
	for {
		before := r.tokens.offset()
		k, err := r.tokens.next()
		if err != nil {
			return err
		}
		if k.kind == end && len(r.tokens.open) < depth {
			begins := len(r.tree.texts)
			r.tree.texts = append(r.tree.texts, r.tokens.held(before)...)
			r.tree.own(at, begins)
			r.tree.nodes[at].plain = true
			return nil
		}
	}
}

// appendScalar writes a text as the number or boolean that it is, if nothing of it is lost, and otherwise as a string.
func appendScalar(dst, text []byte) []byte {
	if c := text[0]; c >= '0' && c <= '9' || c == '-' || c == '+' || c == '.' {
		_, whole := lexical.Long(text)
		if !whole {
			_, whole = lexical.Double(text)
		}
		if whole && json.Valid(text) {
			return append(dst, text...)
		}
		return appendQuoted(dst, text)
	}
	if truth, ok := lexical.Boolean(text); ok {
		if truth {
			return append(dst, "true"...)
		}
		return append(dst, "false"...)
	}
	return appendQuoted(dst, text)
}

// appendQuoted writes a JSON string (RFC 8259, section 7).
func appendQuoted(dst, text []byte) []byte {
	for _, c := range text {
		if c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			return appendEscaped(dst, text)
		}
	}
	return append(append(append(dst, '"'), text...), '"')
}

func appendEscaped(dst, text []byte) []byte {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	// A string can always be encoded.
	_ = encoder.Encode(string(text))
	return append(dst, bytes.TrimSuffix(b.Bytes(), []byte{'\n'})...)
}
