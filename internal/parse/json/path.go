package json

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Path leads to the records within a document: names of members, one within the other, to an array whose elements are the
// records. It is the part of RFC 9535 (JSONPath) that consists of name selectors and one wildcard at the end.
type Path []string

// ParsePath reads a path like $.data.items[*] or $['a key'][*]; $[*] is the elements of a document that is an array.
func ParsePath(text string) (Path, error) {
	rest, ok := strings.CutPrefix(text, "$")
	if !ok {
		return nil, fmt.Errorf("%q does not begin with $", text)
	}
	rest, ok = strings.CutSuffix(rest, "[*]")
	if !ok {
		return nil, fmt.Errorf("%q does not end in [*]", text)
	}
	path := Path{}
	for rest != "" {
		var name string
		switch {
		case strings.HasPrefix(rest, "['"), strings.HasPrefix(rest, `["`):
			end := strings.Index(rest[2:], rest[1:2]+"]")
			if end < 0 {
				return nil, fmt.Errorf("%q has a bracket that is not closed", text)
			}
			name, rest = rest[2:2+end], rest[2+end+2:]
		case rest[0] == '.' && len(rest) > 1:
			end := strings.IndexAny(rest[1:], ".[")
			if end < 0 {
				end = len(rest) - 1
			}
			name, rest = rest[1:1+end], rest[1+end:]
		}
		if name == "" || name == "*" {
			return nil, fmt.Errorf("%q has a part other than a name before its [*]", text)
		}
		path = append(path, name)
	}
	return path, nil
}

// String writes the path.
func (p Path) String() string {
	var b strings.Builder
	b.WriteByte('$')
	for _, name := range p {
		if strings.ContainsFunc(name, func(r rune) bool { return r != '_' && (r < '0' || r > '9') && (r|0x20 < 'a' || r|0x20 > 'z') }) || name[0] <= '9' {
			b.WriteString("['" + name + "']")
		} else {
			b.WriteString("." + name)
		}
	}
	return b.String() + "[*]"
}

// Body reads the inside of the array that a path leads to. It ends where the array does.
type Body struct {
	// Offset and Line are the place of the first byte after the array's bracket.
	Offset, Line int64
	r            *bufio.Reader
	depth        int
	inString     bool
	escaped      bool
	ended        bool
}

// OpenBody reads up to the array. It keeps nothing of what comes before it.
func OpenBody(r io.Reader, path Path) (*Body, error) {
	b := &Body{Line: 1, r: bufio.NewReaderSize(r, 64<<10)}
	if mark, _ := b.r.Peek(3); string(mark) == "\ufeff" {
		b.r.Discard(3)
		b.Offset = 3
	}
	for _, name := range path {
		if err := b.enter(name); err != nil {
			return nil, notFound(path, err)
		}
	}
	c, err := b.token()
	if err == nil && c != '[' {
		err = fmt.Errorf("there is no array but %q", rune(c))
	}
	return b, notFound(path, err)
}

func notFound(path Path, err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, io.EOF) {
		err = errors.New("the document ends before it")
	}
	return fmt.Errorf("has no records at %s: %w", path, err)
}

func (b *Body) next() (byte, error) {
	c, err := b.r.ReadByte()
	if err == nil {
		b.Offset++
		if c == '\n' {
			b.Line++
		}
	}
	return c, err
}

// token returns the next byte that is not white space.
func (b *Body) token() (byte, error) {
	for {
		c, err := b.next()
		if err != nil || c != ' ' && c != '\t' && c != '\n' && c != '\r' {
			return c, err
		}
	}
}

// enter goes on to the value of a member of the object that comes next.
func (b *Body) enter(name string) error {
	if c, err := b.token(); err != nil || c != '{' {
		return errors.Join(err, fmt.Errorf("%q is looked for in something that is no object", name))
	}
	for {
		c, err := b.token()
		switch {
		case err != nil:
			return err
		case c == ',':
			continue
		case c != '"':
			return fmt.Errorf("there is no member %q", name)
		}
		key, err := b.key()
		if err != nil {
			return err
		}
		if c, err = b.token(); err != nil || c != ':' {
			return errors.Join(err, errors.New("a colon is missing"))
		}
		if key == name {
			return nil
		}
		if err := b.skip(); err != nil {
			return err
		}
	}
}

// key reads a key whose opening quote was taken.
func (b *Body) key() (string, error) {
	raw := []byte{'"'}
	for {
		c, err := b.next()
		if err != nil {
			return "", err
		}
		raw = append(raw, c)
		if c == '"' && stringLength(raw) == len(raw) {
			var s Scanner
			return string(s.Unescape(nil, raw[1:len(raw)-1])), nil
		}
	}
}

// skip passes over one value.
func (b *Body) skip() error {
	depth := 0
	for begun := false; ; {
		next, err := b.r.Peek(1)
		if err != nil {
			return err
		}
		if depth == 0 && begun && (next[0] == ',' || next[0] == '}' || next[0] == ']') {
			return nil
		}
		c, err := b.next()
		if err != nil {
			return err
		}
		begun = begun || c != ' ' && c != '\t' && c != '\n' && c != '\r'
		switch c {
		case '"':
			if _, err := b.key(); err != nil {
				return err
			}
		case '{', '[':
			depth++
		case '}', ']':
			depth--
		}
	}
}

// Read reads the inside of the array.
func (b *Body) Read(p []byte) (int, error) {
	if b.ended {
		return 0, io.EOF
	}
	n, err := b.r.Read(p)
	for i, c := range p[:n] {
		switch {
		case b.escaped:
			b.escaped = false
		case b.inString:
			b.escaped = c == '\\'
			b.inString = c != '"'
		case c == '"':
			b.inString = true
		case c == '{' || c == '[':
			b.depth++
		case c == '}' || c == ']':
			if b.depth--; b.depth < 0 {
				b.ended = true
				return i, nil
			}
		}
	}
	if errors.Is(err, io.EOF) && !b.ended {
		return n, io.ErrUnexpectedEOF
	}
	return n, err
}

// Places lists the arrays of objects in a document, by the paths that lead to them, as far as a beginning of the document shows. It
// looks no deeper than a few levels.
func Places(head []byte) []Path {
	var s Scanner
	s.Reset(head)
	f := finder{s: &s}
	f.value(nil)
	return f.found
}

// deepest is how many members may lead to records that are looked for.
const deepest = 4

type finder struct {
	s     *Scanner
	found []Path
}

func (f *finder) value(path Path) {
	switch f.s.Peek() {
	case Object:
		if len(path) >= deepest {
			f.s.Skip()
			return
		}
		f.s.Open()
		for n := 0; ; n++ {
			key, escaped, ok := f.s.NextKey(n)
			if !ok {
				return
			}
			if escaped {
				key = f.s.Unescape(nil, key)
			}
			f.value(append(path[:len(path):len(path)], string(key)))
		}
	case Array:
		f.s.Open()
		for n := 0; f.s.NextElement(n); n++ {
			if n == 0 && f.s.Peek() == Object {
				f.found = append(f.found, path)
			}
			f.s.Skip()
		}
	case Invalid:
	default:
		f.s.Skip()
	}
}

// Count returns how many values lie in a text one after the other, at most n.
func Count(text []byte, n int) int {
	count := 0
	for at := separators(text, 0); at < len(text) && count < n; count++ {
		length := balanced(text[at:])
		if length < 0 {
			return count + 1
		}
		at = separators(text, at+length)
	}
	return count
}
