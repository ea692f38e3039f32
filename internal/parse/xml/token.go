package xml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"trevak/internal/fault"
)

// kind is what a token is.
type kind uint8

const (
	nothing kind = iota // a comment or a processing instruction
	start
	end
	text
	directive
)

// token is a piece of a document. What it holds is valid until the next is read.
type token struct {
	kind  kind
	name  *name
	attrs []attr
	text  []byte // of text with entities put in their places, or of a directive
}

// name is the name of an element or attribute, of which there is one for each spelling.
type name struct {
	written      string // as it stands in the document
	space, local string
}

type attr struct {
	name  *name
	value []byte
}

// tokens reads a document's tokens with their prefixes, and holds elements against the ends that close them. Text is UTF-8 already,
// whatever the document declares. It tells apart what is well-formed as encoding/xml does in its strict mode.
type tokens struct {
	r     io.Reader
	buf   []byte
	pos   int // of the next token in buf
	base  int64
	line  int // of the next token
	eof   bool
	keep  int // from where on buf is kept, for markup; -1 for from pos
	names map[string]*name
	near  [256]*name // some of names, by a few of their bytes
	open  []*name
	begun bool // the root
	token token
	close *name // the element that a tag has opened and closed at once
	attrs []attr
	text  []byte // memory for texts that do not stand in buf as they are
}

// A document is read firstBuffer bytes at a time; a token has at most mostBuffer.
const (
	firstBuffer = 64 << 10
	mostBuffer  = 256 << 20
)

// mostNames bounds how many names are remembered.
const mostNames = 1 << 20

func newTokens(r io.Reader) *tokens {
	return &tokens{r: r, buf: make([]byte, 0, firstBuffer), line: 1, keep: -1, names: map[string]*name{}}
}

// errMore says that a token goes on behind what is in the buffer.
var errMore = errors.New("more of the document is wanted")

// malformed is what is wrong with a document.
type malformed string

func (m malformed) Error() string { return string(m) }

const cutShort malformed = "unexpected end of the document"

// next returns the next token that is no comment or instruction, io.EOF at the end of a whole document.
func (t *tokens) next() (*token, error) {
	for {
		k, err := t.raw()
		if err != nil {
			return nil, err
		}
		if k.kind != nothing {
			return k, t.nest(k)
		}
	}
}

// nest holds a token against the elements that are open.
func (t *tokens) nest(k *token) error {
	switch k.kind {
	case start:
		if len(t.open) == MaxDepth {
			return fault.New(fault.Input, "has elements more than %d deep", MaxDepth)
		}
		if len(t.open) == 0 && t.begun {
			return t.fail("a second document begins with <%s>", k.name.written)
		}
		t.begun = true
		t.open = append(t.open, k.name)
	case end:
		if len(t.open) == 0 {
			return t.fail("there is no element for </%s> to close", k.name.written)
		}
		if begun := t.open[len(t.open)-1]; begun != k.name {
			return t.fail("element <%s> is closed by </%s>", begun.written, k.name.written)
		}
		t.open = t.open[:len(t.open)-1]
	}
	return nil
}

// raw returns the next token, reading on while it goes on behind the buffer.
func (t *tokens) raw() (*token, error) {
	if t.close != nil {
		t.token, t.close = token{kind: end, name: t.close}, nil
		return &t.token, nil
	}
	for {
		t.token = token{}
		n, err := t.parse(t.buf[t.pos:])
		switch {
		case err == errMore && !t.eof:
			if err := t.fill(); err != nil {
				return nil, err
			}
			continue
		case err == errMore:
			err = cutShort
		}
		if err == io.EOF {
			if len(t.open) > 0 {
				return nil, t.fail("element <%s> is not closed", t.open[len(t.open)-1].written)
			}
			return nil, io.EOF
		}
		if err != nil {
			return nil, t.fail("%s", err)
		}
		t.line += bytes.Count(t.buf[t.pos:t.pos+n], []byte{'\n'})
		t.pos += n
		return &t.token, nil
	}
}

// fill reads more of the document behind what is in the buffer.
func (t *tokens) fill() error {
	from := t.pos
	if t.keep >= 0 {
		from = min(from, t.keep)
	}
	rest := t.buf[from:]
	switch {
	case len(rest) >= mostBuffer:
		return t.fail("a part of it has more than %d bytes", mostBuffer)
	case 2*len(rest) > cap(t.buf):
		t.buf = append(make([]byte, 0, 2*cap(t.buf)), rest...)
	default:
		t.buf = append(t.buf[:0], rest...)
	}
	t.base += int64(from)
	t.pos -= from
	if t.keep >= 0 {
		t.keep -= from
	}
	for {
		n, err := t.r.Read(t.buf[len(t.buf):cap(t.buf)])
		t.buf = t.buf[:len(t.buf)+n]
		if err == io.EOF {
			t.eof = true
			return nil
		}
		if err != nil {
			if fault.KindOf(err) != 0 {
				return err
			}
			return t.fail("%s", err)
		}
		if n > 0 {
			return nil
		}
	}
}

// parse reads a token at the beginning of what is there, and returns how many bytes it has.
func (t *tokens) parse(b []byte) (n int, err error) {
	switch {
	case len(b) == 0 && t.eof:
		return 0, io.EOF
	case len(b) < 2 && !t.eof:
		return 0, errMore
	case b[0] != '<':
		return t.characters(b)
	case len(b) < 2:
		return 0, errMore
	}
	switch b[1] {
	case '/':
		return t.endTag(b)
	case '!':
		return t.declaration(b)
	case '?':
		return t.others(b)
	}
	return t.startTag(b)
}

// characters reads text up to a tag or the end of the document.
func (t *tokens) characters(b []byte) (n int, err error) {
	n = bytes.IndexByte(b, '<')
	if n < 0 {
		if !t.eof {
			return 0, errMore
		}
		n = len(b)
	}
	t.text = t.text[:0]
	t.token.kind = text
	t.token.text, err = t.value(b[:n], inText)
	return n, err
}

// endTag reads </name>.
func (t *tokens) endTag(b []byte) (n int, err error) {
	t.token.kind = end
	at := 2
	if t.token.name, at, err = t.nameAt(b, at, "element name after </"); err != nil {
		return 0, err
	}
	if at, err = space(b, at); err != nil {
		return 0, err
	}
	if b[at] != '>' {
		return 0, malformed("there is something between </" + t.token.name.written + " and >")
	}
	return at + 1, nil
}

// startTag reads <name a="v">, also one that is closed at once.
func (t *tokens) startTag(b []byte) (n int, err error) {
	t.token.kind = start
	at := 1
	if t.token.name, at, err = t.nameAt(b, at, "element name after <"); err != nil {
		return 0, err
	}
	t.attrs, t.text = t.attrs[:0], t.text[:0]
	for {
		if at, err = space(b, at); err != nil {
			return 0, err
		}
		switch b[at] {
		case '>':
			t.token.attrs = t.attrs
			return at + 1, nil
		case '/':
			if at+1 == len(b) {
				return 0, errMore
			}
			if b[at+1] != '>' {
				return 0, malformed("expected /> in an element")
			}
			t.token.attrs, t.close = t.attrs, t.token.name
			return at + 2, nil
		}
		var a attr
		if a, at, err = t.attribute(b, at); err != nil {
			return 0, err
		}
		t.attrs = append(t.attrs, a)
	}
}

// attribute reads a="v", and returns where it ends.
func (t *tokens) attribute(b []byte, at int) (a attr, end int, err error) {
	if a.name, at, err = t.nameAt(b, at, "attribute name in element"); err != nil {
		return a, 0, err
	}
	if at, err = space(b, at); err != nil {
		return a, 0, err
	}
	if b[at] != '=' {
		return a, 0, malformed("an attribute has no = after its name")
	}
	if at, err = space(b, at+1); err != nil {
		return a, 0, err
	}
	quote := b[at]
	if quote != '"' && quote != '\'' {
		return a, 0, malformed("the value of an attribute is not in quotes")
	}
	at++
	length := bytes.IndexByte(b[at:], quote)
	if length < 0 {
		return a, 0, errMore
	}
	a.value, err = t.value(b[at:at+length], inQuotes)
	return a, at + length + 1, err
}

// space passes over white space, and returns where something else stands.
func space(b []byte, at int) (int, error) {
	for ; at < len(b); at++ {
		switch b[at] {
		case ' ', '\t', '\n', '\r':
		default:
			return at, nil
		}
	}
	return 0, errMore
}

// nameBytes are the bytes of which names consist, those above ASCII among them.
var nameBytes = func() (out [256]bool) {
	for c := range out {
		out[c] = c >= utf8.RuneSelf || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || strings.IndexByte("_:.-", byte(c)) >= 0
	}
	return out
}()

// nameAt reads a name, and returns where it ends.
func (t *tokens) nameAt(b []byte, at int, what string) (*name, int, error) {
	from := at
	for ; ; at++ {
		if at == len(b) {
			return nil, 0, errMore
		}
		if !nameBytes[b[at]] {
			break
		}
	}
	near := &t.near[(uint(b[from])*31+uint(b[max(from, at-1)])*7+uint(at-from))%uint(len(t.near))]
	if n := *near; n != nil && n.written == string(b[from:at]) {
		return n, at, nil
	}
	n := t.names[string(b[from:at])]
	if n == nil {
		if n = newName(string(b[from:at])); n == nil {
			return nil, 0, malformed("expected " + what)
		}
		if len(t.names) == mostNames {
			clear(t.names)
			t.near = [256]*name{}
			for _, open := range t.open {
				t.names[open.written] = open
			}
		}
		t.names[n.written] = n
	}
	*near = n
	return n, at, nil
}

// newName makes a name of its spelling, nil where it is none: that is asked of the standard library, once for each.
func newName(written string) *name {
	if written == "" {
		return nil
	}
	token, err := xml.NewDecoder(strings.NewReader("<" + written + "/>")).RawToken()
	e, ok := token.(xml.StartElement)
	if err != nil || !ok || len(e.Attr) > 0 {
		return nil
	}
	return &name{written: written, space: e.Name.Space, local: e.Name.Local}
}

// declaration reads what begins with <!: comments, CDATA sections, and others.
func (t *tokens) declaration(b []byte) (n int, err error) {
	const comment, section = "<!--", "<![CDATA["
	switch {
	case len(b) < len(section) && !t.eof:
		return 0, errMore
	case bytes.HasPrefix(b, []byte(comment)):
		at := bytes.Index(b[len(comment):], []byte("--"))
		if at < 0 {
			return 0, errMore
		}
		at += len(comment) + 2
		if at == len(b) {
			return 0, errMore
		}
		if b[at] != '>' {
			return 0, malformed(`"--" stands in a comment`)
		}
		return at + 1, nil
	case bytes.HasPrefix(b, []byte(section)):
		length := bytes.Index(b[len(section):], []byte("]]>"))
		if length < 0 {
			return 0, errMore
		}
		t.token.kind = text
		t.text = t.text[:0]
		t.token.text, err = t.value(b[len(section):len(section)+length], inSection)
		return len(section) + length + 3, err
	}
	return t.others(b)
}

// others has the standard library read a token that is rare: a processing instruction or a directive.
func (t *tokens) others(b []byte) (n int, err error) {
	d := xml.NewDecoder(bytes.NewReader(b))
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	raw, err := d.RawToken()
	if err != nil {
		var syntax *xml.SyntaxError
		if errors.As(err, &syntax) && strings.Contains(syntax.Msg, "unexpected EOF") {
			return 0, errMore
		}
		if errors.As(err, &syntax) {
			return 0, malformed(syntax.Msg)
		}
		return 0, malformed(err.Error())
	}
	if d, ok := raw.(xml.Directive); ok {
		t.token.kind, t.token.text = directive, bytes.Clone(d)
	}
	return int(d.InputOffset()), nil
}

// offset is where the next token begins.
func (t *tokens) offset() int64 { return t.base + int64(t.pos) }

// hold has the text from the next token on kept in the buffer; held returns what was kept up to an offset, and ends that.
func (t *tokens) hold() { t.keep = t.pos }

func (t *tokens) held(upTo int64) []byte {
	out := t.buf[t.keep:int(upTo-t.base)]
	t.keep = -1
	return out
}

// fail is an error about the document's form, at the current line.
func (t *tokens) fail(format string, args ...any) error {
	e := fault.New(fault.Input, "is not well-formed XML: "+format, args...).Try("ask the sender for a whole copy, or mend it")
	e.Line = int64(t.line)
	return e
}
