package json

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Path leads to the records within a document. It is the part of RFC 9535 (JSONPath) that can be followed while a document is
// read from its beginning to its end: names, wildcards, indices and slices that count from the beginning, several of these at
// once, and descendants. Records come in the order of the document. The path without segments, $, is the document itself; a nil
// Path says nothing of where records are.
type Path []Segment

// Segment selects children of a value, or, where it is Deep, of the value and of all that lies in it (RFC 9535, section 2.5).
type Segment struct {
	// Names are those of members.
	Names []string
	// Spans are the positions of elements.
	Spans []Span
	// Any selects every member and element. Members says that it was written for members: it is shown as .* then.
	Any, Members bool
	Deep         bool
}

// Span is the positions From, From+Step and so on, below To unless that is negative.
type Span struct{ From, To, Step int64 }

// Elements is the path of the elements of a document that is an array.
var Elements = Path{{Any: true}}

// Member returns the path of a member of what a path leads to.
func (p Path) Member(name string) Path {
	return append(slices.Clip(p), Segment{Names: []string{name}})
}

// Each returns the path of what is in what a path leads to: members if it is an object, elements if not.
func (p Path) Each(members bool) Path {
	return append(slices.Clip(p), Segment{Any: true, Members: members})
}

// noun names what a segment selects.
func (s Segment) noun() string {
	if len(s.Names) == 1 && len(s.Spans) == 0 {
		return fmt.Sprintf("member %q", s.Names[0])
	}
	return "match of " + s.String()
}

func (s *Segment) takesName(name string) bool {
	return s.Any || slices.Contains(s.Names, name)
}

func (s *Segment) takesIndex(n int64) bool {
	return s.Any || slices.ContainsFunc(s.Spans, func(span Span) bool {
		return n >= span.From && (span.To < 0 || n < span.To) && (n-span.From)%span.Step == 0
	})
}

// ParsePath reads a path like $.data.items[*], $.fonts.*, $['a key'][0:10], $..readings[*].
func ParsePath(text string) (Path, error) {
	p := pathParser{text: text, rest: text}
	if !p.cut("$") {
		return nil, fmt.Errorf("%q does not begin with $", text)
	}
	path := Path{}
	for p.rest != "" {
		s, err := p.segment()
		if err != nil {
			return nil, err
		}
		path = append(path, s)
	}
	return path, nil
}

// pathParser holds what is left of a path's text.
type pathParser struct{ text, rest string }

func (p *pathParser) cut(prefix string) (ok bool) {
	p.rest, ok = strings.CutPrefix(p.rest, prefix)
	return ok
}

func (p *pathParser) fail(format string, args ...any) error {
	return fmt.Errorf("%q %s", p.text, fmt.Sprintf(format, args...))
}

// segment reads one segment.
func (p *pathParser) segment() (s Segment, err error) {
	switch {
	case p.cut("..["):
		s, err = p.bracket()
		s.Deep = true
	case p.cut("["):
		s, err = p.bracket()
	case p.cut(".."):
		s, err = p.dotted()
		s.Deep = true
	case p.cut("."):
		s, err = p.dotted()
	default:
		err = p.fail("has %q where a dot or a bracket is expected", p.rest)
	}
	return s, err
}

// dotted reads what stands behind a dot.
func (p *pathParser) dotted() (Segment, error) {
	if p.cut("*") {
		return Segment{Any: true, Members: true}, nil
	}
	end := strings.IndexAny(p.rest, ".[")
	if end < 0 {
		end = len(p.rest)
	}
	name := p.rest[:end]
	if name == "" || strings.ContainsAny(name, "*?@'\"]") {
		return Segment{}, p.fail("has a dot without a name behind it; names with other characters are written ['like this']")
	}
	p.rest = p.rest[end:]
	return Segment{Names: []string{name}}, nil
}

// bracket reads the selectors up to a closing bracket.
func (p *pathParser) bracket() (s Segment, err error) {
	for {
		p.rest = strings.TrimLeft(p.rest, " ")
		switch {
		case p.cut("*"):
			s.Any = true
		case strings.HasPrefix(p.rest, "'"), strings.HasPrefix(p.rest, `"`):
			var name string
			if name, err = p.quoted(); err != nil {
				return s, err
			}
			s.Names = append(s.Names, name)
		case strings.HasPrefix(p.rest, "?"):
			return s, p.fail("has a filter; keep rows with --where instead")
		default:
			var span Span
			if span, err = p.span(); err != nil {
				return s, err
			}
			s.Spans = append(s.Spans, span)
		}
		p.rest = strings.TrimLeft(p.rest, " ")
		if p.cut("]") {
			return s, nil
		}
		if !p.cut(",") {
			return s, p.fail("has a bracket that is not closed")
		}
	}
}

// quoted reads a name between quotes, with the escapes of RFC 9535, section 2.3.1.
func (p *pathParser) quoted() (string, error) {
	quote := p.rest[0]
	for i := 1; i < len(p.rest); i++ {
		switch p.rest[i] {
		case '\\':
			i++
		case quote:
			raw := strings.ReplaceAll(p.rest[1:i], `\'`, `'`)
			if quote == '\'' {
				raw = strings.ReplaceAll(strings.ReplaceAll(raw, `\"`, `"`), `"`, `\"`)
			}
			var s Scanner
			s.Reset([]byte(`"` + raw + `"`))
			text, _ := s.String()
			name := s.Unescape(nil, text)
			if s.End(); s.Err() != nil {
				return "", p.fail("has a name with a wrong escape")
			}
			p.rest = p.rest[i+1:]
			return string(name), nil
		}
	}
	return "", p.fail("has a quote that is not closed")
}

// span reads an index or a slice.
func (p *pathParser) span() (Span, error) {
	end := strings.IndexAny(p.rest, ",] ")
	if end < 0 {
		return Span{}, p.fail("has a bracket that is not closed")
	}
	parts := strings.Split(p.rest[:end], ":")
	numbers := []int64{0, -1, 1}
	for i, part := range parts {
		if i == len(numbers) {
			return Span{}, p.fail("has a slice of more than three numbers")
		}
		if part == "" && len(parts) > 1 {
			continue
		}
		n, err := strconv.ParseInt(part, 10, 64)
		if err != nil {
			return Span{}, p.fail("has %q in brackets, which is neither a name in quotes, nor a position, nor *", part)
		}
		if n < 0 || i == 2 && n == 0 {
			return Span{}, p.fail("counts from the end, which is not known while a document is read")
		}
		numbers[i] = n
	}
	p.rest = p.rest[end:]
	if len(parts) == 1 {
		numbers[1] = numbers[0] + 1
	}
	return Span{numbers[0], numbers[1], numbers[2]}, nil
}

// String writes the path.
func (p Path) String() string {
	var b strings.Builder
	b.WriteByte('$')
	for _, s := range p {
		b.WriteString(s.String())
	}
	return b.String()
}

func (s Segment) String() string {
	dots := "."
	if s.Deep {
		dots = ".."
	}
	if s.Any && s.Members {
		return dots + "*"
	}
	if len(s.Names) == 1 && len(s.Spans) == 0 && plainName(s.Names[0]) {
		return dots + s.Names[0]
	}
	var parts []string
	if s.Any {
		parts = append(parts, "*")
	}
	for _, name := range s.Names {
		parts = append(parts, "'"+strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(name)+"'")
	}
	for _, span := range s.Spans {
		switch {
		case span.To == span.From+1 && span.Step == 1:
			parts = append(parts, strconv.FormatInt(span.From, 10))
		case span.To < 0:
			parts = append(parts, fmt.Sprintf("%d::%d", span.From, span.Step))
		default:
			parts = append(parts, fmt.Sprintf("%d:%d:%d", span.From, span.To, span.Step))
		}
	}
	return strings.TrimSuffix(dots, ".") + "[" + strings.Join(parts, ",") + "]"
}

// plainName reports whether a name can stand behind a dot (RFC 9535, section 2.5.1.1, member-name-shorthand).
func plainName(name string) bool {
	if name == "" || name[0] <= '9' {
		return false
	}
	return !strings.ContainsFunc(name, func(r rune) bool {
		return r != '_' && r < 0x80 && (r < '0' || r > '9') && (r|0x20 < 'a' || r|0x20 > 'z')
	})
}
