package fit

import (
	"encoding/binary"
	"math/bits"

	"trevak/internal/parse/cells"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

// outlined is what an outline takes as a value of a column, besides null.
type outlined uint8

const (
	outlinedNot     outlined = iota // values of any form, which only a walk tells apart
	outlinedNothing                 // null alone
	outlinedText
	outlinedNumber
	outlinedBoolean
	outlinedStruct
	outlinedList
	outlinedMap
)

// outlinedAs returns what an outline takes as a value of a column.
func outlinedAs(c *column) outlined {
	if c.field.Opened {
		return outlinedNot
	}
	switch k := c.field.Type.Kind; {
	case c.field.Skip:
		return outlinedNothing
	case c.reader.nulls != nil:
		return outlinedNot
	case c.field.Unseen:
		return outlinedNothing
	case isNumber(k):
		return outlinedNumber
	case k == schema.Boolean && (c.reader.words != nil || c.reader.stated):
		return outlinedNot
	case k == schema.Boolean:
		return outlinedBoolean
	case k == schema.Struct:
		return outlinedStruct
	case k == schema.List:
		return outlinedList
	case k == schema.Map:
		return outlinedMap
	}
	return outlinedText
}

// outline walks over records that are written the way they usually are, without anything that the schema does not foresee, and
// notes where the values of each column are; those of many records are then read together. Structs, lists and maps are appended
// to their columns at once, so that these are ahead of their parts until settle is called.
type outline struct {
	filler
	root   *column
	leaves []*column
	limit  int // of the depth of records
	depth  int
	block  []byte
	data   []byte // of the block, up to a little behind the record
	broken bool   // an escape stands for no character

	pending int // records whose values are not read yet
	tried   int // records, and those of them that were not taken
	refused int
}

const (
	mostOutlined    = 64 << 10 // the size in bytes of the largest record that is outlined
	outlinedAtATime = 128      // after how many records their values are read
	fewestTried     = 64       // after how many it is asked whether it is worth while
)

// begin prepares for the records of a block, and reports whether they may be outlined.
func (o *outline) begin(r *json.Records, root *column) bool {
	o.root, o.block, o.limit, o.rows = root, r.Block.Data, r.MaxDepth, r.Rows()
	o.pending, o.tried, o.refused, o.strict = 0, 0, 0, true
	if o.limit == 0 {
		o.limit = json.MaxDepth
	}
	o.leaves = o.leaves[:0]
	plain := o.gather(root)
	o.share = len(o.block) / max(1, len(o.leaves))
	return plain
}

// gather lists the leaves of a column, and reports whether all can be outlined.
func (o *outline) gather(c *column) bool {
	switch c.outlined {
	case outlinedNot:
		return false
	case outlinedStruct:
		for _, child := range c.children {
			if !child.field.Skip && !o.gather(child) {
				return false
			}
		}
		return true
	case outlinedMap:
		return o.gather(c.key) && o.gather(c.element)
	case outlinedList:
		return o.gather(c.element)
	}
	o.leaves = append(o.leaves, c)
	return true
}

// useless reports whether too many records were not taken for it to be worth trying more.
func (o *outline) useless() bool { return o.tried >= fewestTried && o.refused > o.tried/4 }

// record outlines the record between two offsets. Otherwise it returns false and nothing is left of it.
func (o *outline) record(start, end int) bool {
	o.tried++
	rows := o.root.n
	if end-start <= mostOutlined && end+json.Margin <= len(o.block) && o.block[start] == '{' {
		o.depth, o.data = 0, o.block[:min(len(o.block), end+4*json.Margin)]
		if o.object(o.root, start+1) == end {
			o.pending++
			return true
		}
		o.root.retract(rows)
	}
	o.refused++
	return false
}

// object outlines the members of an object from behind its brace on, and returns the offset behind it, or -1.
func (o *outline) object(c *column, at int) int {
	if at = o.open(at); at < 0 {
		return -1
	}
	c.setValid(true)
	c.objects++
	data, object := o.data, c.objects
	next, found := 0, 0
	for open := data[at] != '}'; open; {
		if at+json.Margin > len(data) {
			return -1
		}
		child := c.expected(next, data, at)
		if child != nil {
			at += child.literal.Size()
		} else if child, at = o.member(c, at); at < 0 {
			return -1
		}
		if child != nil {
			if child.stamp == object {
				return -1
			}
			child.stamp = object
			found++
			if child.outlined == outlinedText && at < len(data) && data[at] == '"' {
				at = o.text(child, at+1)
			} else {
				at = o.value(child, at)
			}
			next = child.position + 1
		}
		if at, open = o.after(at, '}'); at < 0 {
			return -1
		}
	}
	if found < len(c.children) {
		for _, child := range c.children {
			if child.stamp != object {
				child.nullLater()
			}
		}
	}
	for _, child := range c.needed {
		if child.lastIsNull() {
			return -1
		}
	}
	o.depth--
	return at + 1
}

// open goes one deeper, and returns the offset of what follows a brace or a bracket, or -1.
func (o *outline) open(at int) int {
	if o.depth++; o.depth > o.limit {
		return -1
	}
	if o.data[at] <= ' ' {
		at = json.Space(o.data, at)
	}
	if at+json.Margin > len(o.data) {
		return -1
	}
	return at
}

// after passes over the comma behind a member or an element, and the white space around it, or, where it is the last, up to
// what closes the object or array. It returns the offset there, or -1, which at may be too, and whether there is more.
func (o *outline) after(at int, closing byte) (next int, more bool) {
	data := o.data
	if at < 0 || at+1 >= len(data) {
		return -1, false
	}
	if data[at] <= ' ' {
		if at = json.Space(data, at); at+1 >= len(data) {
			return -1, false
		}
	}
	if c := data[at]; c != ',' {
		if c == closing {
			return at, false
		}
		return -1, false
	}
	if at++; data[at] <= ' ' {
		if at = json.Space(data, at); at >= len(data) {
			return -1, false
		}
	}
	return at, true
}

// expected returns member n of a struct if its key stands at an offset, nil otherwise.
func (c *column) expected(n int, data []byte, at int) *column {
	if n >= len(c.children) {
		return nil
	}
	text := data[at : at+json.Margin]
	child := c.children[n]
	if key := &child.literal; !key.Is(binary.LittleEndian.Uint64(text), binary.LittleEndian.Uint64(text[8:])) ||
		key.Size() > json.Margin && key.At(data, at) < 0 {
		return nil
	}
	return child
}

// member finds the column of a key that was not expected, and the offset behind that. What has no column is passed over; the
// column is nil then.
func (o *outline) member(c *column, at int) (child *column, behind int) {
	data := o.data
	if data[at] != '"' {
		return nil, -1
	}
	end, escaped := json.StringEnd(data, at+1)
	if end < 0 || escaped {
		return nil, -1
	}
	colon := json.Space(data, end+1)
	if colon+json.Margin >= len(data) || data[colon] != ':' {
		return nil, -1
	}
	key := string(data[at+1 : end])
	known, caseOnly := c.index.Look(key)
	switch omitted := c.omit[key]; {
	case omitted || known < 0 && c.field.Type.OmitRest:
		return nil, o.skip(colon + 1)
	case known < 0 || caseOnly:
		return nil, -1
	}
	return c.children[known], colon + 1
}

// skip passes over a value of any kind, and returns the offset behind it, or -1.
func (o *outline) skip(at int) int {
	if o.depth >= o.limit {
		return -1
	}
	var s json.Scanner
	s.Limit(o.limit - o.depth)
	s.Reset(o.data[at:])
	if s.Skip(); s.Err() != nil {
		return -1
	}
	return at + s.Pos()
}

// value outlines a value and returns the offset behind it, or -1.
func (o *outline) value(c *column, at int) int {
	data := o.data
	if at+json.Margin > len(data) {
		return -1
	}
	if data[at] <= ' ' {
		if at = json.Space(data, at); at+json.Margin > len(data) {
			return -1
		}
	}
	switch c.outlined {
	case outlinedText:
		if data[at] == '"' {
			return o.text(c, at+1)
		}
	case outlinedNumber:
		end := at
		if stop := json.NumberStop(binary.LittleEndian.Uint64(data[at:])); stop != 0 {
			end += bits.TrailingZeros64(stop) >> 3
		}
		if end == at || data[end]|0x20 == 'e' {
			end = json.NumberEnd(data, at)
		}
		if end > at {
			c.spans = append(c.spans, cells.Span{Start: uint32(at), End: uint32(end)})
			return end
		}
	case outlinedBoolean:
		// Whether it is true or false is seen when it is read.
		if end := at + 4; data[at] == 't' {
			c.spans = append(c.spans, cells.Span{Start: uint32(at), End: uint32(end)})
			return end
		} else if data[at] == 'f' {
			c.spans = append(c.spans, cells.Span{Start: uint32(at), End: uint32(end + 1)})
			return end + 1
		}
	case outlinedStruct:
		if data[at] == '{' {
			return o.object(c, at+1)
		}
	case outlinedList:
		if data[at] == '[' {
			return o.array(c, at+1)
		}
	case outlinedMap:
		if data[at] == '{' {
			return o.entries(c, at+1)
		}
	}
	if c.field.Skip {
		c.null()
		return o.skip(at)
	}
	if binary.LittleEndian.Uint32(data[at:]) == 'n'|'u'<<8|'l'<<16|'l'<<24 {
		c.nullLater()
		return at + 4
	}
	return -1
}

// text notes a string whose text begins at an offset.
func (o *outline) text(c *column, at int) int {
	if at+8 <= len(o.data) {
		stop := bits.TrailingZeros64(json.StringStop(binary.LittleEndian.Uint64(o.data[at:]))) >> 3
		if end := at + stop; uint(stop-1) < 7 && o.data[end] == '"' {
			c.spans = append(c.spans, cells.Span{Start: uint32(at), End: uint32(end)})
			return end + 1
		}
	}
	return o.longText(c, at)
}

// longText is text for one of any length.
func (o *outline) longText(c *column, at int) int {
	end, escaped := json.StringEnd(o.data, at)
	if end < 0 {
		return -1
	}
	s := cells.Span{Start: uint32(at), End: uint32(end)}
	if escaped {
		s.End |= cells.Flag
	}
	if end == at {
		s.Start |= cells.Flag
	}
	c.spans = append(c.spans, s)
	return end + 1
}

// array outlines the elements of an array from behind its bracket on.
func (o *outline) array(c *column, at int) int {
	if at = o.open(at); at < 0 {
		return -1
	}
	for open := o.data[at] != ']'; open; {
		if at, open = o.after(o.value(c.element, at), ']'); at < 0 {
			return -1
		}
	}
	c.setValid(true)
	c.offsets = append(c.offsets, int32(c.element.count()))
	o.depth--
	return at + 1
}

// mostEntries is how many entries a map may have that is outlined: every key is compared with those before it.
const mostEntries = 32

// entries outlines the members of an object that is a map.
func (o *outline) entries(c *column, at int) int {
	if at = o.open(at); at < 0 {
		return -1
	}
	data, first := o.data, len(c.key.spans)
	for open := data[at] != '}'; open; {
		if data[at] != '"' {
			return -1
		}
		behind := o.text(c.key, at+1)
		if behind < 0 || behind+json.Margin >= len(data) || data[behind] != ':' || !distinctLast(data, c.key.spans[first:]) {
			return -1
		}
		if at, open = o.after(o.value(c.element, behind+1), '}'); at < 0 {
			return -1
		}
	}
	c.setValid(true)
	c.offsets = append(c.offsets, int32(c.element.count()))
	o.depth--
	return at + 1
}

// distinctLast reports whether the last key is known to be another than those before it.
func distinctLast(data []byte, keys []cells.Span) bool {
	last := keys[len(keys)-1]
	if len(keys) > mostEntries || last.Escaped() {
		return false
	}
	for _, k := range keys[:len(keys)-1] {
		if string(k.Text(data)) == string(last.Text(data)) {
			return false
		}
	}
	return true
}

// Unquote is that of cells.Unquoter.
func (o *outline) Unquote(dst, text []byte) []byte {
	var s json.Scanner
	dst = s.Unescape(dst, text)
	o.broken = o.broken || s.Err() != nil
	return dst
}

// settle reads the values of the records that were outlined. When one does not fit its column it returns false, and nothing is
// left of those records.
func (o *outline) settle() bool {
	fits := true
	o.broken = false
	for _, c := range o.leaves {
		c.tokensBefore = c.tokens
		if fits {
			in := cells.Column{Data: o.block, Spans: c.spans, Stride: 1, Unquoter: o}
			fits = o.fill(c, &in, 0, len(c.spans)) < 0 && !o.broken
		}
		c.spans = c.spans[:0]
	}
	if !fits {
		o.root.truncate(o.root.n - o.pending)
		for _, c := range o.leaves {
			c.tokens = c.tokensBefore
		}
		o.refused += o.pending
	}
	o.pending = 0
	return fits
}
