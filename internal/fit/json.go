package fit

import (
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/parse"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

// JSON fits JSON records. It belongs to one worker.
type JSON struct {
	schema  schema.Schema
	arrow   *arrow.Schema
	unknown Unknown
	exact   bool
	pool    columnPool
	words   map[string]*words // by path, of columns whose texts are numbered; nil where none are
	outline outline
}

// NewJSON prepares for a schema. exact says that names must agree in letter case, coded that strings in which values repeat
// come as Arrow dictionaries, which grow from batch to batch.
func NewJSON(s schema.Schema, unknown Unknown, exact, coded bool) *JSON {
	j := &JSON{schema: s, arrow: s.Arrow(), unknown: unknown, exact: exact, pool: make(columnPool, mostSpareColumns)}
	if coded && fewColumns(s) {
		j.words = map[string]*words{}
	}
	return j
}

// Fit makes a batch of the records. A value that asks for a wider schema ends the work.
func (j *JSON) Fit(r *json.Records) Result {
	root := j.root(r.Rows())
	w := walker{unknown: j.unknown, exact: j.exact, folded: map[string]string{}}
	w.Limit(r.MaxDepth)
	w.Lenient(r.Lenient)
	var out Result
	if j.fit(r, root, &w, &out) {
		j.finish(root, &w, &out)
	}
	return out
}

// finish makes a batch of the records that were appended.
func (j *JSON) finish(root *column, w *walker, out *Result) {
	out.Misfits, out.Folded = w.misfits, w.folded
	out.Present = make([]bool, len(root.children))
	for i, c := range root.children {
		out.Present[i] = c.stamp > 0
	}
	count(out, root.children)
	root.look()
	out.Batch, out.pool, out.columns = batch(j.arrow, root.children, root.n), j.pool, []*column{root}
}

// fit appends the records to the columns, and reports whether the schema is wide enough. Records are outlined, many at a time;
// one that cannot be is walked through, as are those among which there is a value that does not fit.
func (j *JSON) fit(r *json.Records, root *column, w *walker, out *Result) bool {
	o := &j.outline
	if !o.begin(r, root) {
		return w.records(r, root, 0, r.Rows(), out)
	}
	settle := func(next int) bool {
		first := next - o.pending
		return o.settle() || w.records(r, root, first, next, out)
	}
	for row := range r.Rows() {
		if start, end := r.Span(row); !o.useless() && o.record(start, end) {
			if o.pending == outlinedAtATime && !settle(row+1) {
				return false
			}
		} else if !settle(row) || !w.records(r, root, row, row+1, out) {
			return false
		}
	}
	return settle(r.Rows())
}

// root returns a column that is the whole record, in the memory of a batch that is done with where there is one.
func (j *JSON) root(rows int) *column {
	columns := j.pool.get()
	if columns == nil {
		whole := schema.Type{Kind: schema.Struct, Fields: j.schema.Fields,
			Omission: schema.Omission{Omit: j.schema.Omit, OmitRest: j.schema.OmitRest}}
		columns = []*column{newColumn(schema.Field{Type: whole}, nil, rows)}
		if j.words != nil {
			j.number(columns[0], rows)
		}
	}
	columns[0].settleWords()
	return columns[0]
}

// number has the texts of a column's parts numbered.
func (j *JSON) number(c *column, rows int) {
	if c.field.Type.Kind == schema.String && !c.field.Added {
		w, known := j.words[c.path]
		if !known {
			w = newWords(c.field, nil)
			j.words[c.path] = w
		}
		c.words, c.offsets, c.codes = w, nil, make([]uint32, 0, rows)
		return
	}
	c.coded = true
	for _, child := range c.children {
		j.number(child, rows)
	}
	if c.element != nil && c.field.Type.Kind == schema.List {
		j.number(c.element, rows)
	}
}

// settleWords has the parts collect values themselves whose texts are no longer worth numbering.
func (c *column) settleWords() {
	if c.words != nil && !c.words.pays() {
		c.words, c.codes, c.offsets = nil, nil, []int32{0}
	}
	for _, child := range c.children {
		child.settleWords()
	}
	if c.element != nil {
		c.element.settleWords()
	}
}

// look counts the texts that were looked up.
func (c *column) look() {
	if c.words != nil {
		c.words.looked += c.n - c.nulls
	}
	for _, child := range c.children {
		child.look()
	}
	if c.element != nil {
		c.element.look()
	}
}

// walker appends JSON values to columns.
type walker struct {
	json.Scanner
	exact           bool
	row, start, end int
	unknown         Unknown
	problem         *parse.Problem
	misfits         []Misfit
	folded          map[string]string // columns whose keys differ in letter case
	trail           []int             // positions in the lists that the walk is in
	tokened         []*column         // those in which the record has words for no value, each as often
	scratch         []byte
}

func (w *walker) begin(r *json.Records, row, n int) {
	w.problem, w.row, w.trail, w.tokened = nil, n, w.trail[:0], w.tokened[:0]
	w.start, w.end = r.Span(row)
	w.Reset(r.Text(row))
}

// records walks through records, from one row to another, and appends those without problems. It reports whether the schema is
// wide enough for them.
func (w *walker) records(r *json.Records, root *column, from, to int, out *Result) bool {
	for row := from; row < to; row++ {
		w.begin(r, row, root.n)
		rows, misfits := root.n, len(w.misfits)
		if kind := w.Peek(); kind == json.Object {
			w.object(root)
		} else {
			w.Fail("a record is an object, this is of the kind %s", kind)
		}
		w.End()
		if w.problem == nil && w.Err() != nil {
			w.problem = &parse.Problem{Start: w.start, End: w.end, Code: parse.BadJSON, Reason: "cannot be read: " + w.Err().Error(),
				WayOut: "mend the record"}
		}
		if w.problem != nil && w.problem.Widens && w.broken(r, row) {
			w.problem = &parse.Problem{Start: w.start, End: w.end, Code: parse.BadJSON, Reason: "cannot be read: " + w.Err().Error(),
				WayOut: "mend the record"}
		}
		if w.problem == nil {
			continue
		}
		out.Problems = append(out.Problems, *w.problem)
		if w.problem.Widens {
			return false
		}
		root.truncate(rows)
		w.misfits = w.misfits[:misfits]
		for _, c := range w.tokened {
			c.tokens--
		}
	}
	return true
}

// broken reports whether a record is no JSON, of which the walk did not get to see all: what it says asks for no other schema then.
func (w *walker) broken(r *json.Records, row int) bool {
	w.Reset(r.Text(row))
	w.Skip()
	w.End()
	return w.Err() != nil
}

// stop ends the walk of a record.
func (w *walker) stop(p parse.Problem) {
	if w.problem == nil && w.Err() == nil {
		w.problem = &p
		w.Fail("stopped")
	}
}

// object appends the members of an object to a struct column; members that are absent become null.
func (w *walker) object(c *column) {
	c.setValid(true)
	c.objects++
	taken, found := 0, 0
	w.Open()
	for member := 0; ; member++ {
		key, escaped, ok := w.NextKey(member)
		if !ok {
			break
		}
		key = w.Name(key, escaped)
		at := taken
		if at >= len(c.children) || c.children[at].field.Added || c.children[at].field.Source() != string(key) {
			if at = w.member(c, string(key)); at < 0 {
				if w.problem != nil {
					return
				}
				continue
			}
		}
		child := c.children[at]
		if child.stamp == c.objects {
			w.Fail("the key %q occurs twice", child.field.Source())
			return
		}
		child.stamp = c.objects
		found++
		if child.field.Skip {
			w.Skip()
			child.null()
		} else {
			w.value(child)
		}
		taken = at + 1
	}
	if found < len(c.children) {
		for _, child := range c.children {
			if child.stamp != c.objects {
				child.null()
			}
		}
	}
	for _, child := range c.needed {
		if child.n > 0 && child.isNull(child.n-1) {
			w.stop(lacking(w.start, w.end, child))
		}
	}
}

// member finds the column of a key. A key without one is passed over, and -1 returned.
func (w *walker) member(c *column, key string) int {
	if c.omit[key] {
		w.Skip()
		return -1
	}
	at, caseOnly := c.index.Look(key)
	if caseOnly && (w.exact || c.children[at].stamp == c.objects) {
		// A key in another letter case is another column where names must agree, or where the first was there already.
		at = -1
	}
	if at >= 0 {
		if caseOnly {
			w.folded[c.children[at].of()] = key
		}
		return at
	}
	if c.field.Type.OmitRest {
		w.Skip()
		return -1
	}
	w.unknownMember(c, key)
	return -1
}

func (w *walker) unknownMember(c *column, key string) {
	text := string(w.Skip())
	if w.Err() != nil {
		return
	}
	if w.unknown == UnknownKept {
		path := w.path(c)
		if path != "" {
			path += "."
		}
		of := key
		if name := c.of(); name != "" {
			of = name + "." + key
		}
		w.misfits = append(w.misfits, Misfit{Row: w.row, Start: w.start, Column: path + key, Of: of, Text: text, JSON: true})
		return
	}
	w.stop(parse.Problem{Start: w.start, End: w.end, Code: parse.UnknownColumn, Column: c.part(key), Value: text, Widens: true,
		Reason: "is in a column that the schema does not have", WayOut: "load it with --drift grow or --drift hold"})
}

// path returns a column's path by its names in the schema, with the positions of the lists that the walk is in.
func (w *walker) path(c *column) string {
	var parts []string
	depth := len(w.trail)
	for ; c != nil && c.parent != nil; c = c.parent {
		name := c.field.Name
		if c.parent.field.Type.Kind == schema.List {
			depth--
			name = "[" + strconv.Itoa(w.trail[depth]) + "]"
		}
		parts = append(parts, name)
	}
	var b strings.Builder
	for i := len(parts) - 1; i >= 0; i-- {
		if b.Len() > 0 && parts[i][0] != '[' {
			b.WriteByte('.')
		}
		b.WriteString(parts[i])
	}
	return b.String()
}

// value appends one value of any kind to a column.
func (w *walker) value(c *column) {
	if !c.field.Opened || w.Peek() != json.String {
		w.inside(c)
		return
	}
	start := w.Pos()
	text, escaped := w.String()
	if escaped {
		text = w.Unescape(nil, text)
	}
	if w.Err() == nil && !w.opened(c, text) && w.problem == nil {
		if c.required() {
			w.stop(unfit(w.start, w.end, c, text, false))
			return
		}
		w.misfits = append(w.misfits, Misfit{Row: w.row, Start: w.start, Column: w.path(c), Of: c.of(), Known: true,
			Text: string(w.Since(start)), JSON: true})
		c.null()
	}
}

// inside is value for what is no text to be opened.
func (w *walker) inside(c *column) {
	kind := w.Peek()
	start := w.Pos()
	target := c.field.Type.Kind
	switch {
	case kind == json.Null:
		w.Literal()
		c.null()
	case target == schema.Struct && kind == json.Object:
		w.object(c)
	case target == schema.Map && kind == json.Object:
		w.entries(c)
	case target == schema.List && kind == json.Array:
		w.array(c)
	case target == schema.List && kind != json.Invalid:
		w.alone(c)
	case kind == json.String:
		text, escaped := w.String()
		raw := text
		if escaped && c.takeEscaped(raw) {
			return
		}
		if escaped {
			w.scratch = w.Unescape(w.scratch[:0], text)
			text = w.scratch
		}
		if w.Err() != nil || c.reader.nulls != nil && target == schema.String && w.token(c, text) {
			return
		}
		readable := w.textFits(c)
		switch {
		case readable && c.take(text):
			if escaped && c.words != nil {
				c.words.keepEscaped(raw, c.codes[len(c.codes)-1]+1)
			}
		case !w.token(c, text):
			w.refuse(c, text, w.Since(start), readable)
		}
	case kind != json.Invalid:
		text := w.Skip()
		readable := rawFits(kind, c)
		switch {
		case w.Err() != nil:
		case c.statedNull(text) && !c.field.Type.Nested():
			w.token(c, text)
		case !readable || !c.take(text):
			w.refuse(c, text, w.Since(start), readable)
		}
	}
}

// token appends a null for a word that stands for one.
func (w *walker) token(c *column, text []byte) bool {
	if !c.token(text) {
		return false
	}
	w.tokened = append(w.tokened, c)
	return true
}

// textFits reports whether a JSON string may become a value of the column: of an inferred one only where inference reads
// strings as that type.
func (w *walker) textFits(c *column) bool {
	switch c.field.Type.Kind {
	case schema.Boolean, schema.Int, schema.Long, schema.Float, schema.Double, schema.Decimal:
		return c.field.Pinned
	}
	return true
}

// rawFits reports whether a value that is not a string may become one of the column: booleans and numbers of their own types, counts of
// time where they were stated, and anything as text.
func rawFits(kind json.Kind, c *column) bool {
	switch c.field.Type.Kind {
	case schema.String:
		return true
	case schema.Boolean:
		return kind == json.Boolean
	case schema.Int, schema.Long, schema.Float, schema.Double, schema.Decimal:
		return kind == json.Number
	case schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return kind == json.Number && c.reader.pattern != nil
	}
	return false
}

// refuse deals with a value that does not fit. raw is its text in JSON; readable says that it is of a kind that the column takes.
func (w *walker) refuse(c *column, text, raw []byte, readable bool) {
	widens := (readable || !c.field.Widens) && c.asksWider(text)
	if widens || c.required() {
		w.stop(unfit(w.start, w.end, c, text, widens))
		return
	}
	w.misfits = append(w.misfits, Misfit{Row: w.row, Start: w.start, Column: w.path(c), Of: c.of(), Known: true, Text: string(raw),
		JSON: true})
	c.null()
}

// array appends a list.
func (w *walker) array(c *column) {
	w.Open()
	w.trail = append(w.trail, 0)
	for i := 0; w.NextElement(i); i++ {
		w.trail[len(w.trail)-1] = i
		w.value(c.element)
	}
	w.trail = w.trail[:len(w.trail)-1]
	c.setValid(true)
	c.offsets = append(c.offsets, int32(c.element.n))
}

// alone appends a list of the one value that stands in its place.
func (w *walker) alone(c *column) {
	w.trail = append(w.trail, 0)
	w.value(c.element)
	w.trail = w.trail[:len(w.trail)-1]
	c.setValid(true)
	c.offsets = append(c.offsets, int32(c.element.n))
}

// entries appends a map.
func (w *walker) entries(c *column) {
	seen := map[string]bool{}
	w.Open()
	for member := 0; ; member++ {
		key, escaped, ok := w.NextKey(member)
		if !ok {
			break
		}
		if escaped {
			key = w.Unescape(nil, key)
		}
		if seen[string(key)] {
			w.Fail("the key %q occurs twice", key)
			return
		}
		seen[string(key)] = true
		c.key.text(key)
		w.value(c.element)
	}
	c.setValid(true)
	c.offsets = append(c.offsets, int32(c.element.n))
}
