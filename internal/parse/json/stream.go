package json

import (
	"bufio"
	"bytes"
	"io"
)

// stream reads a document byte by byte, in no more memory than its buffer, and knows where it is.
type stream struct {
	r *bufio.Reader
	// offset is that of the next byte in the text, line the 1-based line that it is on.
	offset, line int64
}

// newStream begins a text; a byte order mark at its start is passed over.
func newStream(r io.Reader) *stream {
	s := &stream{r: bufio.NewReaderSize(r, 64<<10), line: 1}
	if mark, _ := s.r.Peek(3); string(mark) == "\ufeff" {
		s.r.Discard(3)
		s.offset = 3
	}
	return s
}

func (s *stream) next() (byte, error) {
	c, err := s.r.ReadByte()
	if err == nil {
		s.offset++
		if c == '\n' {
			s.line++
		}
	}
	return c, err
}

// back gives the last byte back, which was no line feed.
func (s *stream) back() {
	// A byte that was just read can always be given back.
	_ = s.r.UnreadByte()
	s.offset--
}

// token returns the next byte that is not white space.
func (s *stream) token() (byte, error) {
	for {
		c, err := s.next()
		if err != nil || c != ' ' && c != '\t' && c != '\n' && c != '\r' {
			return c, err
		}
	}
}

// mostKey is how long a key may be: one that is longer is no name, and is not kept.
const mostKey = 1 << 20

// key reads a key whose opening quote was taken, with its colon. raw is what stands between its quotes.
func (s *stream) key() (name string, raw []byte, err error) {
	for escaped := false; ; {
		c, err := s.next()
		switch {
		case err != nil:
			return "", nil, cutOff(err)
		case len(raw) > mostKey:
			return "", nil, broken("has a key of more than %d bytes on line %d", mostKey, s.line)
		case escaped:
			escaped = false
		case c == '\\':
			escaped = true
		case c == '"':
			if c, err = s.token(); err != nil {
				return "", nil, cutOff(err)
			}
			if c != ':' {
				return "", nil, broken("has no colon behind a key on line %d", s.line)
			}
			if bytes.IndexByte(raw, '\\') < 0 {
				return string(raw), raw, nil
			}
			var scanner Scanner
			scanner.Reset(append(append([]byte{'"'}, raw...), '"'))
			if scanner.String(); scanner.Err() != nil {
				return "", nil, broken("has a key that is no string on line %d: %s", s.line, scanner.Err().Reason)
			}
			name := string(scanner.Unescape(nil, raw))
			return name, raw, nil
		}
		raw = append(raw, c)
	}
}

// cutOff makes the end of the text an error where more was to come.
func cutOff(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// value passes over the value whose first byte was taken, and appends its text to what it is given, unless that is nil.
// A scalar ends before what follows it.
func (s *stream) value(first byte, keep *[]byte) error {
	if first != '{' && first != '[' && first != '"' {
		return s.scalar(first, keep)
	}
	var b body
	b.see(first)
	if keep != nil {
		*keep = append(*keep, first)
	}
	for {
		some, err := s.r.Peek(1)
		if err != nil {
			return cutOff(err)
		}
		some, _ = s.r.Peek(s.r.Buffered())
		n, ended := b.run(some)
		if keep != nil {
			*keep = append(*keep, some[:n]...)
		}
		s.pass(some[:n])
		if ended {
			return nil
		}
	}
}

// pass takes bytes that were looked at.
func (s *stream) pass(some []byte) {
	s.offset += int64(len(some))
	s.line += int64(bytes.Count(some, []byte{'\n'}))
	// As many are in the buffer.
	_, _ = s.r.Discard(len(some))
}

func (s *stream) scalar(first byte, keep *[]byte) error {
	if kinds[first] == Invalid && first != 'N' && first != 'I' {
		return broken("has %q on line %d, where a value is expected", rune(first), s.line)
	}
	for c := first; ; {
		if keep != nil {
			*keep = append(*keep, c)
		}
		next, err := s.r.Peek(1)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch next[0] {
		case ',', '}', ']', ' ', '\t', '\n', '\r', '{', '[', '"', ':':
			return nil
		}
		if c, err = s.next(); err != nil {
			return err
		}
	}
}

// body follows the brackets and quotes of a value, so that its end is known.
type body struct {
	depth             int
	inString, escaped bool
}

func (b *body) see(c byte) {
	switch c {
	case '"':
		b.inString = true
	case '{', '[':
		b.depth++
	}
}

// run goes through bytes of the value, and returns how many belong to it and whether it ends with them.
func (b *body) run(some []byte) (n int, ended bool) {
	for i := 0; i < len(some); i++ {
		if b.inString {
			if b.escaped {
				b.escaped = false
				continue
			}
			b.escaped = some[i] == '\\'
			if b.inString = some[i] != '"'; !b.inString && b.depth == 0 {
				return i + 1, true
			}
			continue
		}
		switch some[i] {
		case '"':
			b.inString = true
		case '{', '[':
			b.depth++
		case '}', ']':
			if b.depth--; b.depth <= 0 {
				return i + 1, true
			}
		}
	}
	return len(some), false
}

// ValueReader reads JSON values that follow one another, with nothing but white space and commas between them.
type ValueReader struct {
	s    *stream
	text []byte
}

// NewValueReader begins to read.
func NewValueReader(r io.Reader) *ValueReader { return &ValueReader{s: newStream(r)} }

// Next returns the next value, which holds until it is called again, and the 1-based line that it begins on; io.EOF is the
// error at the end.
func (v *ValueReader) Next() (text []byte, line int64, err error) {
	c, err := v.s.token()
	for err == nil && c == ',' {
		c, err = v.s.token()
	}
	if err != nil {
		return nil, 0, err
	}
	line = v.s.line
	v.text = v.text[:0]
	err = v.s.value(c, &v.text)
	return v.text, line, err
}
