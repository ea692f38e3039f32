package json

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strconv"
)

// KeyColumn and ValueColumn are the columns of a record that is the member of an object: its key, and its value where that is
// no object itself.
const (
	KeyColumn   = "_key"
	ValueColumn = "value"
)

// Following says how a document is read.
type Following struct {
	// Path leads to the records.
	Path Path
	// Values makes objects of records that are none: {"value": …}. It is done without being asked for where the first record is none.
	Values bool
	// Foreseen says that the path was found in a beginning of the document. Where what follows holds other places that could
	// have been found, or another document, reading ends with an error.
	Foreseen bool
	// MaxDepth is how many objects and arrays may lie around a record; 0 is the package's MaxDepth.
	MaxDepth int
}

// Reader gives the records of a document, one after the other, as package parse cuts them. Lines stay those of the document,
// and offsets too where records are given as they stand.
type Reader struct {
	// Offset and Line are the place of what is given first.
	Offset, Line int64
	how          Following
	s            *stream
	frames       []frame
	inside       *body // of an array whose elements are given as they stand
	ready        []byte
	given        int   // bytes of ready that were given
	blanks       int64 // bytes to be given before ready, lines line feeds among them
	lines        int64
	at           int64 // offset up to which everything was given or is due
	atLine       int64
	documents    int
	began        bool // a record was met
	found        bool // whether this document has what the path leads to
	reached      int  // how many segments of the path this document has
	census       *census
	err          error
}

// frame is an object or an array around what is read now.
type frame struct {
	array  bool
	n      int64
	active []int  // segments of the path that select children
	key    []byte // raw, of the member that is read now
	keyed  bool   // that member was selected by a wildcard
}

// Follow reads up to the first record. It keeps nothing of what comes before it.
func Follow(r io.Reader, how Following) (*Reader, error) {
	f := &Reader{how: how, s: newStream(r), atLine: 1}
	if how.Foreseen {
		f.census = &census{s: f.s}
	}
	err := f.advance()
	if err != nil && err != io.EOF {
		return nil, err
	}
	f.err = err
	f.Offset, f.Line = f.blanks, 1+f.lines
	f.blanks, f.lines = 0, 0
	return f, nil
}

func (f *Reader) Read(p []byte) (int, error) {
	for {
		switch {
		case f.lines > 0:
			n := fillWith(p, f.lines, '\n')
			f.lines, f.blanks = f.lines-int64(n), max(0, f.blanks-int64(n))
			return n, nil
		case f.blanks > 0:
			n := fillWith(p, f.blanks, ' ')
			f.blanks -= int64(n)
			return n, nil
		case f.given < len(f.ready):
			n := copy(p, f.ready[f.given:])
			f.given += n
			return n, nil
		case f.inside != nil:
			if n, err := f.pass(p); n > 0 || err != nil {
				return n, err
			}
		case f.err != nil:
			return 0, f.err
		default:
			f.err = f.advance()
		}
	}
}

func fillWith(p []byte, n int64, c byte) int {
	p = p[:min(int64(len(p)), n)]
	for i := range p {
		p[i] = c
	}
	return len(p)
}

// pass gives the inside of an array as it stands. Nothing is given when that ends.
func (f *Reader) pass(p []byte) (int, error) {
	if _, err := f.s.r.Peek(1); err != nil {
		return 0, cutOff(err)
	}
	some, _ := f.s.r.Peek(min(len(p), f.s.r.Buffered()))
	n, ended := f.inside.run(some)
	if ended {
		n-- // the bracket is taken by advance
		f.inside = nil
	}
	copy(p, some[:n])
	f.s.pass(some[:n])
	f.at, f.atLine = f.s.offset, f.s.line
	return n, nil
}

// due makes blanks of what was passed over up to an offset and a line.
func (f *Reader) due(offset, line int64) {
	f.blanks += offset - f.at
	f.lines += line - f.atLine
	f.at, f.atLine = offset, line
}

// advance makes the next record ready, or comes to the inside of an array of them; io.EOF says that there is none.
func (f *Reader) advance() error {
	f.ready, f.given = f.ready[:0], 0
	for {
		var more bool
		var err error
		if len(f.frames) == 0 {
			more, err = f.document()
		} else {
			more, err = f.child(&f.frames[len(f.frames)-1])
		}
		if err != nil || !more {
			return err
		}
	}
}

// document begins the next document. The first result is false when a record is ready.
func (f *Reader) document() (more bool, err error) {
	if f.documents > 0 {
		if err := f.finished(); err != nil {
			return false, err
		}
	}
	c, err := f.s.token()
	for f.documents > 0 && err == nil && (c == ',' || c == '\x1e') {
		c, err = f.s.token()
	}
	if err != nil {
		return false, err
	}
	if f.how.Foreseen && f.documents > 0 {
		return false, &DocumentError{Reason: fmt.Sprintf(
			"has another document behind the first, on line %d, though its beginning showed but one", f.s.line),
			WayOut: fmt.Sprintf("take each document as a record with --records '$', or say where the records are in each: --records '%s'",
				f.how.Path)}
	}
	if f.documents > 0 && len(f.how.Path) > 0 && c != '{' && c != '[' {
		return false, broken("has %q behind the end of the document, on line %d", rune(c), f.s.line)
	}
	f.documents++
	f.found, f.reached = false, 0
	return f.enter(c, []int{0})
}

// finished holds what a document had against what was looked for.
func (f *Reader) finished() error {
	if !f.found {
		what := "the document itself is neither an object nor an array"
		if at := f.reached; at < len(f.how.Path) {
			what = fmt.Sprintf("there is no %s in %s", f.how.Path[at].noun(), f.how.Path[:at])
			if at == len(f.how.Path)-1 && f.how.Path[at].Any {
				what = fmt.Sprintf("%s is neither an array nor an object", f.how.Path[:at])
			}
		}
		return &DocumentError{fmt.Sprintf("has no records at %s: %s", f.how.Path, what),
			"look at the document, and name where the records are with --records"}
	}
	if f.census != nil {
		if others := f.census.candidates(); len(others) > 0 {
			return &DocumentError{fmt.Sprintf("holds what could be records at %s (%d, from line %d), beside those at %s that its "+
				"beginning showed", others[0].Path, others[0].Count,
				others[0].line, f.how.Path), fmt.Sprintf("name those that are meant: --records '%s' or --records '%s'", f.how.Path,
				others[0].Path)}
		}
	}
	return nil
}

// child goes on to the next child of the innermost frame, or leaves it.
func (f *Reader) child(top *frame) (more bool, err error) {
	c, err := f.s.token()
	if err != nil {
		return false, cutOff(err)
	}
	closing := byte('}')
	if top.array {
		closing = ']'
	}
	if c == closing {
		f.frames = f.frames[:len(f.frames)-1]
		return true, nil
	}
	if top.n > 0 {
		if c != ',' {
			return false, broken("has %q on line %d, where a comma or %q is expected", rune(c), f.s.line, rune(closing))
		}
		if c, err = f.s.token(); err != nil {
			return false, cutOff(err)
		}
	}
	var name string
	if !top.array {
		if c != '"' {
			return false, broken("has %q on line %d, where a key is expected", rune(c), f.s.line)
		}
		if name, top.key, err = f.s.key(); err != nil {
			return false, err
		}
		if c, err = f.s.token(); err != nil {
			return false, cutOff(err)
		}
	}
	var active []int
	top.keyed = false
	for _, at := range top.active {
		s := &f.how.Path[at]
		if s.Deep {
			active = append(active, at)
		}
		if top.array && s.takesIndex(top.n) || !top.array && s.takesName(name) {
			active = append(active, at+1)
			top.keyed = top.keyed || s.Any && !top.array
		}
	}
	top.n++
	if active == nil && f.census != nil {
		return true, f.census.member(f.around(), name, c)
	}
	return f.enter(c, active)
}

// around is the path of the innermost object, by the names that lead to it.
func (f *Reader) around() Path {
	path := Path{}
	for _, frame := range f.frames[:len(f.frames)-1] {
		if frame.array {
			path = path.Each(false)
		} else {
			path = path.Member(string(frame.key))
		}
	}
	return path
}

// enter begins a value whose first byte was taken, and which segments of the path select children of.
func (f *Reader) enter(c byte, active []int) (more bool, err error) {
	for _, at := range active {
		f.reached = max(f.reached, at)
	}
	if slices.Contains(active, len(f.how.Path)) {
		f.found = true
		return false, f.record(c)
	}
	if len(active) == 0 || c != '{' && c != '[' {
		return true, f.s.value(c, nil)
	}
	limit := f.how.MaxDepth
	if limit == 0 {
		limit = MaxDepth
	}
	if len(f.frames) == limit {
		return false, &DocumentError{fmt.Sprintf("has objects and arrays more than %d deep", limit), "allow more with --max-depth"}
	}
	f.frames = append(f.frames, frame{array: c == '[', active: active})
	last := len(f.how.Path) - 1
	if slices.Contains(active, last) && (f.how.Path[last].Any || c == '[' && len(f.how.Path[last].Spans) > 0) {
		f.found = true
	}
	if c == '[' && len(active) == 1 && active[0] == last && f.how.Path[last].Any && !f.how.Path[last].Deep && !f.how.Values &&
		!f.hasKeys() {
		return f.elements()
	}
	return true, nil
}

// elements prepares to give the inside of an array as it stands, unless its elements are to be made objects.
func (f *Reader) elements() (more bool, err error) {
	offset, line := f.s.offset, f.s.line
	first, err := f.s.token()
	if err != nil {
		return false, cutOff(err)
	}
	f.s.back()
	if f.began = true; first != '{' && first != ']' && first != 'n' {
		f.how.Values = true
		return true, nil
	}
	f.inside = &body{depth: 1}
	f.due(offset, line)
	f.blanks, f.lines = f.blanks+f.s.offset-offset, f.lines+f.s.line-line
	f.at, f.atLine = f.s.offset, f.s.line
	return false, nil
}

// hasKeys reports whether a record here has keys of its own.
func (f *Reader) hasKeys() bool {
	return slices.ContainsFunc(f.frames, func(frame frame) bool { return frame.keyed })
}

// record makes a record ready whose first byte was taken.
func (f *Reader) record(c byte) error {
	line := f.s.line
	f.how.Values = f.how.Values || !f.began && c != '{' && c != 'n'
	f.began = true
	keys := 0
	for _, frame := range f.frames {
		if !frame.keyed {
			continue
		}
		keys++
		name := KeyColumn
		if keys > 1 {
			name += strconv.Itoa(keys)
		}
		f.ready = append(f.ready, ",{"[min(1, max(0, 2-keys))])
		f.ready = append(append(append(append(f.ready, '"'), name...), `":"`...), frame.key...)
		f.ready = append(f.ready, '"')
	}
	if keys == 0 && (c == '{' || !f.how.Values) {
		f.due(f.s.offset-1, line)
		err := f.s.value(c, &f.ready)
		f.at, f.atLine = f.s.offset, f.s.line
		return err
	}
	// Line feeds before the record are all that has to be right; what is put before it has no place in the document.
	f.lines += line - f.atLine
	f.at = f.s.offset
	start := len(f.ready)
	if c != '{' {
		if keys == 0 {
			f.ready = append(f.ready, '{')
		} else {
			f.ready = append(f.ready, ',')
		}
		f.ready = append(f.ready, `"`+ValueColumn+`":`...)
		err := f.s.value(c, &f.ready)
		f.ready = append(f.ready, '}', ' ')
		f.at, f.atLine = f.s.offset, f.s.line
		return err
	}
	err := f.s.value(c, &f.ready)
	f.at, f.atLine = f.s.offset, f.s.line
	if err != nil {
		return err
	}
	if f.ready[start] = ','; len(bytes.TrimSpace(f.ready[start+1:len(f.ready)-1])) == 0 {
		f.ready[start] = ' '
	}
	f.ready = append(f.ready, ' ')
	return nil
}

// Placed reports whether offsets are those of the document: records are given as they stand.
func (f *Reader) Placed() bool { return !f.how.Values && !f.hasKeys() }

// DocumentError is what is wrong with a document around its records.
type DocumentError struct{ Reason, WayOut string }

func (e *DocumentError) Error() string { return e.Reason + "; " + e.WayOut }

// broken is the error for a document that is not well-formed.
func broken(format string, args ...any) error {
	return &DocumentError{fmt.Sprintf(format, args...), "mend the document, or ask the sender for one that is whole"}
}
