package schema

import (
	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
)

// Observed is what inference saw of a source: a tree with a node for each column and, below nested ones, for each part. Each
// worker fills its own; Merge brings them together in any order.
type Observed struct {
	// Root's fields are the columns. Its count of objects is the number of records.
	Root Node
	// Problems counts the records that could not be read; Problem is the first of them.
	Problems int64
	Problem  *Refused
	// Surplus counts the records of delimited text that have more fields than there are columns, and keep their first ones.
	Surplus int64
	// Bytes counts the bytes of the blocks that were added.
	Bytes int64
	// Mark is the decimal mark of numbers in delimited text, 0 where it is the point without separators.
	Mark byte
	// MostFields bounds how many different members the records of JSON may have; 0 is no bound. Beyond it nothing more is
	// looked at, and Exceeded is set.
	MostFields int
	Exceeded   bool
	// Lean leaves out what takes much memory in each column and settles no type: how many different values there are.
	Lean bool
	// Nulls are texts that are stated to be no value in any column.
	Nulls []string
	// Keys says that hashes of values are kept, for Evidence.Unique.
	Keys bool
	// Room is what the sketches of all columns and workers share for counting exactly; nil for little.
	Room *Room
	// HashRoom is what the hashes of all columns and workers share; nil for as much as they want.
	HashRoom *Room

	// Openings are the columns whose texts are JSON, nil where there are none.
	Openings *Openings

	blocks int
}

// Refused is a record that could not be read, with its place.
type Refused struct {
	Place   Place
	Problem parse.Problem
}

// Records returns how many records were seen.
func (o *Observed) Records() int64 { return o.Root.Counts[ClassObject.Index()] }

// Merge adds what another worker saw, which is used up by it.
func (o *Observed) Merge(other *Observed) {
	o.Root.Merge(&other.Root)
	other.Root.Forget()
	o.Problems += other.Problems
	o.Surplus += other.Surplus
	o.Bytes += other.Bytes
	o.Exceeded = o.Exceeded || other.Exceeded
	if other.Problem != nil {
		o.refuse(*other.Problem)
	}
}

func (o *Observed) refuse(r Refused) {
	if o.Problem == nil || r.Place.Before(o.Problem.Place) {
		o.Problem = &r
	}
}

func (o *Observed) refuseAt(block *parse.Block, p parse.Problem) {
	o.Problems++
	o.refuse(Refused{Place: Place{block.Object, block.LineAt(p.Start), block.Offset + int64(p.Start)}, Problem: p})
}

// where begins a block.
func (o *Observed) where(block *parse.Block) where {
	o.blocks++
	o.Root.openings = o.Openings
	o.Bytes += int64(len(block.Data))
	w := where{block: block, serial: o.blocks, mark: o.Mark, keys: o.Keys, room: o.Room, hashRoom: o.HashRoom, lean: o.Lean}
	if len(o.Nulls) > 0 {
		w.nulls = make(map[string]bool, len(o.Nulls))
		for _, null := range o.Nulls {
			w.nulls[null] = true
		}
	}
	return w
}

// Delimited adds the records of a block. names are the columns of the object, one for each field.
func (o *Observed) Delimited(r *delimited.Records, names []string) {
	for _, p := range r.Problems {
		o.refuseAt(r.Block, p)
	}
	o.Surplus += int64(len(r.Surplus))
	w := o.where(r.Block)
	o.Root.Seen |= ClassObject
	o.Root.Counts[ClassObject.Index()] += int64(r.Rows)
	nodes := make([]*Node, len(names))
	for c, name := range names {
		nodes[c] = o.Root.Field(name)
		if nodes[c].Seen == 0 {
			nodes[c].position = c
		}
	}
	if r.Rows == 0 {
		return
	}
	for from, step := 0, rowsAtATime(r); from < r.Rows; from += step {
		for c, node := range nodes {
			node.column(r, c, from, min(r.Rows, from+step), &w)
		}
	}
}

// rowsAtATime is how many records go through all columns before the next do: so few that their texts and places stay near the
// processor, and as many as are looked at together.
func rowsAtATime(r *delimited.Records) int {
	const cache, place = 96 << 10, 8
	rows := cache / (1 + r.Start(r.Rows-1)/r.Rows + place*r.Width)
	return max(1, rows/lexical.Together) * lexical.Together
}

// JSON adds the records of a block.
func (o *Observed) JSON(r *json.Records) {
	for _, p := range r.Problems {
		o.refuseAt(r.Block, p)
	}
	w := walker{where: o.where(r.Block)}
	w.Limit(r.MaxDepth)
	w.Lenient(r.Lenient)
	w.most = o.MostFields
	for row := range r.Rows() {
		if o.Exceeded {
			return
		}
		start, end := r.Span(row)
		w.start = start
		w.Reset(r.Text(row))
		// What a broken record says must not become evidence, so it is walked through first.
		w.Skip()
		w.End()
		if w.Err() == nil {
			w.Reset(r.Text(row))
			w.record(&o.Root)
		}
		o.Exceeded = o.Exceeded || w.most > 0 && len(o.Root.Fields) > w.most
		if err := w.Err(); err != nil {
			o.refuseAt(r.Block, parse.Problem{Start: start, End: end, Code: parse.BadJSON, Reason: "cannot be read: " + err.Error(),
				WayOut: "mend the record"})
		}
	}
}

func article(kind json.Kind) string {
	if kind == json.Array {
		return "an"
	}
	return "a"
}

// walker adds JSON values to nodes.
type walker struct {
	json.Scanner
	where
	scratch []byte
	depth   int
	most    int // members of the records
}

// record walks one record.
func (w *walker) record(root *Node) {
	if kind := w.Peek(); kind != json.Object {
		w.Fail("a record is an object, this is %s %s", article(kind), kind)
		return
	}
	w.depth = 0
	w.object(root)
}

// nested counts an object or an array.
func (w *walker) nested(n *Node, class Class) {
	if n.serial != w.serial {
		n.begin(&w.where)
	}
	n.tally(class.Index(), nil, &w.where)
}

// object walks the members of an object. A key is expected where it stood in the object before; only another order costs
// a look-up.
func (w *walker) object(n *Node) {
	w.nested(n, ClassObject)
	n.objects++
	stamp := n.objects
	w.depth++
	w.Open()
	for member := 0; ; member++ {
		key, escaped, ok := w.NextKey(member)
		if !ok {
			break
		}
		key = w.Name(key, escaped)
		var field *Node
		if member < len(n.Fields) && n.Fields[member].Name == string(key) {
			field = n.Fields[member]
		} else {
			field = n.Field(string(key))
		}
		if field.Seen == 0 {
			field.position = member
		}
		if field.stamp == stamp && n.Entries == nil {
			w.Fail("the key %q occurs twice", key)
			return
		}
		field.stamp = stamp
		w.value(field)
		if len(n.Fields) > mostMembers {
			if w.depth > 1 {
				n.gather()
			} else if w.most > 0 && len(n.Fields) > w.most {
				w.depth--
				return
			}
		}
	}
	if w.depth--; w.depth > 0 && len(n.Fields) > mostMembers {
		n.gather()
	}
}

// value walks one value.
func (w *walker) value(n *Node) {
	switch w.Peek() {
	case json.Null:
		w.Literal()
		n.null(&w.where)
	case json.Boolean:
		text := w.Literal()
		if w.nulls[string(text)] {
			n.add(text, lookString, &w.where)
			return
		}
		if n.serial != w.serial {
			n.begin(&w.where)
		}
		n.Distinct.Add(text)
		n.stretch(text)
		n.Longest = max(n.Longest, len(text))
		if w.keys {
			n.dropHashes()
		}
		n.tally(ClassBoolean.Index(), text, &w.where)
	case json.Number:
		if text := w.Number(); text != nil {
			n.add(text, lookNumber, &w.where)
		}
	case json.String:
		text, escaped := w.String()
		if escaped {
			w.scratch = w.Unescape(w.scratch[:0], text)
			text = w.scratch
		}
		if n.opens() {
			n.open(append([]byte(nil), text...), &w.where)
			return
		}
		n.add(text, lookString, &w.where)
	case json.Object:
		w.object(n)
	case json.Array:
		w.nested(n, ClassArray)
		if n.Element == nil {
			n.Element = &Node{Name: ElementName, openings: n.openings}
		}
		w.Open()
		count := 0
		for ; w.NextElement(count); count++ {
			w.value(n.Element)
		}
		n.lengths().add(count)
	}
}
