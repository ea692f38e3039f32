package fit

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/parse"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

// JSON fits JSON records. It belongs to one worker.
type JSON struct {
	schema schema.Schema
	arrow  *arrow.Schema
	grows  bool
}

// NewJSON prepares for a schema. grows says that a value which an inferred column does not take, or a key which the schema does not
// have, asks for a wider schema; otherwise its record is bad.
func NewJSON(s schema.Schema, grows bool) *JSON {
	return &JSON{schema: s, arrow: s.Arrow(), grows: grows}
}

// Fit makes a batch of the records. A record that cannot become a row is left out and described; a value that asks for a wider schema
// ends the work, and there is no batch.
func (j *JSON) Fit(r *json.Records) (arrow.RecordBatch, []parse.Problem) {
	root := newColumn(schema.Field{Type: schema.Type{Kind: schema.Struct, Fields: j.schema.Fields}}, nil, r.Rows())
	w := walker{grows: j.grows}
	w.Limit(r.MaxDepth)
	var problems []parse.Problem
	for row := range r.Rows() {
		w.problem = nil
		w.start, w.end = r.Span(row)
		w.Reset(r.Text(row))
		rows := root.n
		if kind := w.Peek(); kind == json.Object {
			w.object(root)
		} else {
			w.Fail("a record is an object, this is of the kind %s", kind)
		}
		w.End()
		if w.problem == nil && w.Err() != nil {
			w.problem = &parse.Problem{Start: w.start, End: w.end, Code: parse.BadJSON, Reason: "cannot be read: " + w.Err().Error(), WayOut: "mend the record"}
		}
		if w.problem == nil {
			continue
		}
		problems = append(problems, *w.problem)
		if w.problem.Widens {
			return nil, problems
		}
		root.truncate(rows)
	}
	return batch(j.arrow, root.children, root.n), problems
}

// walker appends JSON values to columns. The first value that does not fit ends the walk.
type walker struct {
	json.Scanner
	start   int
	end     int
	grows   bool
	problem *parse.Problem
	scratch []byte
}

// stop ends the walk.
func (w *walker) stop(p parse.Problem) {
	if w.problem == nil && w.Err() == nil {
		w.problem = &p
		w.Fail("stopped")
	}
}

// object appends the members of an object to a struct column; members that are absent become null.
func (w *walker) object(c *column) {
	c.mark(true)
	c.objects++
	taken := 0
	w.Open()
	for member := 0; ; member++ {
		key, escaped, ok := w.NextKey(member)
		if !ok {
			break
		}
		if escaped {
			key = w.Unescape(nil, key)
		}
		at := taken
		if at >= len(c.children) || c.children[at].field.Source() != string(key) {
			if at, ok = c.index[string(key)]; !ok {
				w.unknown(c, string(key))
				return
			}
		}
		child := c.children[at]
		if child.stamp == c.objects {
			w.Fail("the key %q occurs twice", key)
			return
		}
		child.stamp = c.objects
		w.value(child)
		taken = at + 1
	}
	for _, child := range c.children {
		if child.stamp != c.objects {
			child.null()
		}
	}
}

// unknown refuses a key that the schema does not have.
func (w *walker) unknown(c *column, key string) {
	w.stop(parse.Problem{Start: w.start, End: w.end, Code: parse.UnknownColumn, Column: c.part(key), Value: string(w.Skip()), Widens: w.grows,
		Reason: "is in a column that the table does not have", WayOut: "load it into a table of its own"})
}

// value appends one value of any kind to a column.
func (w *walker) value(c *column) {
	kind := w.Peek()
	start := w.Pos()
	target := c.field.Type.Kind
	switch {
	case kind == json.Null:
		w.Literal()
		c.null()
	case target == schema.Struct && kind == json.Object:
		w.object(c)
	case target == schema.List && kind == json.Array:
		w.array(c)
	case kind == json.String:
		text, escaped := w.String()
		if escaped {
			w.scratch = w.Unescape(w.scratch[:0], text)
			text = w.scratch
		}
		if w.Err() == nil && (!w.textFits(c) || !c.scalar(text)) {
			w.refuse(c, text)
		}
	case kind != json.Invalid:
		text := w.Skip()
		if w.Err() == nil && (!rawFits(kind, target) || !c.scalar(text)) {
			w.refuse(c, w.Since(start))
		}
	}
}

// textFits reports whether a JSON string may become a value of the column: of an inferred one only where inference reads
// strings as that type.
func (w *walker) textFits(c *column) bool {
	switch c.field.Type.Kind {
	case schema.Boolean, schema.Long, schema.Double:
		return c.field.Pinned
	}
	return true
}

// rawFits reports whether a value that is not a string may become one of the type: booleans and numbers of their own types,
// and anything as text.
func rawFits(kind json.Kind, target schema.Kind) bool {
	switch target {
	case schema.String:
		return true
	case schema.Boolean:
		return kind == json.Boolean
	case schema.Int, schema.Long, schema.Float, schema.Double:
		return kind == json.Number
	}
	return false
}

func (w *walker) refuse(c *column, value []byte) {
	p := misfit(w.start, w.end, c.path, &c.field, value, w.grows)
	if c.field.Type.Nested() {
		p.Reason = fmt.Sprintf("is not a %s", c.field.Type.Kind)
	}
	w.stop(p)
}

// array appends a list.
func (w *walker) array(c *column) {
	w.Open()
	for i := 0; w.NextElement(i); i++ {
		w.value(c.element)
	}
	c.mark(true)
	c.offsets = append(c.offsets, int32(c.element.n))
}
