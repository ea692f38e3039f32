package schema

import (
	"math"
	"math/bits"
	"slices"

	"trevak/internal/lexical"
	"trevak/internal/parse"
)

// Node is the evidence of one column or part.
type Node struct {
	// Name is the name in the source.
	Name string
	Evidence
	// Fields are the members of objects, in the order they first appeared.
	Fields []*Node
	// Element is what stands in arrays, and Lengths is how long they are; nil without any.
	Element *Node
	Lengths *Lengths
	// Entries is what stands in objects with so many different keys that they are no longer told apart; Fields is then empty.
	Entries *Node

	elements *Node // see Elements
	openings *Openings
	index    map[string]int
	position int   // among the members of the object in which it first appeared
	stamp    int64 // the object in which it was last seen
	objects  int64 // how many objects were walked, to give each a stamp

	recent  *recent
	known   *known
	looks   int // until the recent values are kept; negative once that did not pay
	serial  int // of the block that was added last
	latest  Place
	ordered bool // the block comes after all others that were added
}

// mostMembers is how many different keys the objects of a column may have before they count as a dictionary.
const mostMembers = 1000

// recent holds values that were weighed already, so that repetition costs little. A text is known by its length and two words.
type recent struct {
	slots       []slot
	shift       int // of a hash to the number of a slot
	looks, hits int
	taken       int // of the room
}

// fewRecent is how many slots there are at first. While most texts are not found there are more, as far as there is room, until there are
// mostRecent.
const (
	fewRecent   = 128
	moreRecent  = 8
	mostRecent  = 16 << 10
	slotHashes  = 3 // that take as much memory as a slot
	growRecent  = 2 // times as many texts as there are slots were not found
	trialRecent = 4 // times as many texts as there can be slots decide whether they pay
)

func newRecent() *recent {
	return &recent{slots: make([]slot, fewRecent), shift: 64 - bits.TrailingZeros(fewRecent)}
}

// pays decides after a text that was not found whether the slots still do, and makes more where that may help.
func (r *recent) pays(room *Room) bool {
	size := len(r.slots)
	if missed := r.looks - r.hits; missed == growRecent*size && size < mostRecent && room.take(slotHashes*moreRecent*size) {
		room.give(r.taken)
		r.taken = slotHashes * moreRecent * size
		old := r.slots
		r.slots, r.shift = make([]slot, moreRecent*size), r.shift-bits.TrailingZeros(moreRecent)
		for _, s := range old {
			if s.tag != 0 {
				*r.of(s.low, s.high, int(s.tag&(1<<5-1))) = s
			}
		}
		r.looks, r.hits = 0, 0
	}
	return r.looks != trialRecent*max(size, recentTrial/trialRecent) || r.hits >= r.looks/8
}

// of returns the slot of a text of so many bytes.
func (r *recent) of(low, high uint64, length int) *slot {
	return &r.slots[mix(low^uint64(length)*spread, high)>>r.shift]
}

type slot struct {
	low, high uint64
	tag       uint8 // how it was looked at and its length; 0 while the slot is free
	class     uint8 // its index
}

// A node keeps recent values once it has seen a few, and gives it up when few of the first ones are met again.
const (
	recentFrom  = 32
	recentTrial = 4096
)

// fewHashes is how many hashes are kept in any case before an estimate may tell that values repeat.
const fewHashes = 10_000

// look is what a text is, which decides how it is classified.
type look uint8

const (
	lookField  look = 1 << 5 << iota // a field of delimited text
	lookNumber                       // of JSON
	lookString                       // of JSON
)

// where is the place of what is being added.
type where struct {
	block  *parse.Block
	serial int  // of the block
	start  int  // of the record within the block
	mark   byte // decimal mark, 0 where it is the usual one
	keys   bool // hashes are kept
	nulls  map[string]bool
	room   *Room
	// hashRoom is what the hashes of all columns and workers share.
	hashRoom *Room
	lean     bool
	batch    batch
	unquoted []byte
	plain    []byte
	found    weighed
}

func (w *where) place() Place {
	return Place{w.block.Object, w.block.LineAt(w.start), w.block.Offset + int64(w.start)}
}

// begin prepares a node for a block.
func (n *Node) begin(w *where) {
	start := Place{Object: w.block.Object, Offset: w.block.Offset}
	n.ordered = n.serial == 0 || n.latest.Before(start)
	n.serial, n.latest = w.serial, start
	if w.keys {
		n.Distinct.room, n.hashRoom = w.room, w.hashRoom
	}
	if w.lean {
		n.Distinct.off, n.Days.off, n.looks = !w.keys, !w.keys, -1
	}
	if w.keys && len(n.Hashes) > fewHashes {
		if distinct, _ := n.Distinct.Estimate(); distinct < int64(len(n.Hashes))*9/10 {
			n.dropHashes()
		}
	}
}

// tally counts a value of a class.
func (n *Node) tally(class int, text []byte, w *where) {
	n.Counts[class]++
	if n.settled(class) {
		return
	}
	n.Seen |= 1 << class
	if at := w.place(); n.news(class, at) {
		n.note(class, Instance{at, string(text[:min(len(text), longestKept)])})
	}
}

// null counts an absent or null value.
func (n *Node) null(w *where) {
	if n.serial != w.serial {
		n.begin(w)
	}
	n.tally(ClassNull.Index(), nil, w)
}

// add takes a value that is not null.
func (n *Node) add(text []byte, as look, w *where) {
	if n.serial != w.serial {
		n.begin(w)
	}
	if len(text) > longestWordPair {
		n.weighNew(text, as, hashText(text), w)
		return
	}
	low, high := wordPair(text)
	hash := mix(low^uint64(len(text))*spread, high)
	if n.recent == nil {
		class := n.weighNew(text, as, hash, w)
		if n.looks >= 0 {
			if n.looks++; n.looks == recentFrom {
				n.recent = newRecent()
				n.recent.slots[hash>>n.recent.shift] = slot{low, high, uint8(as) | uint8(len(text)), uint8(class)}
			}
		}
		return
	}
	s := &n.recent.slots[hash>>n.recent.shift]
	n.recent.looks++
	if tag := uint8(as) | uint8(len(text)); s.low == low && s.high == high && s.tag == tag {
		n.recent.hits++
		if w.keys && !n.Repeats {
			n.dropHashes()
		}
		n.tally(int(s.class), text, w)
		if s.class == tokenIndex {
			n.token(text)
		}
		return
	}
	class := n.weighNew(text, as, hash, w)
	*s = slot{low, high, uint8(as) | uint8(len(text)), uint8(class)}
	if !n.recent.pays(w.room) {
		w.room.give(n.recent.taken)
		n.recent, n.looks = nil, -1
	}
}

// What the indices of two classes are.
const (
	nullIndex  = 0
	tokenIndex = 1
)

// weighNew classifies and weighs a value, and returns the index of its class.
func (n *Node) weighNew(text []byte, as look, hash uint64, w *where) int {
	class := ClassToken
	switch {
	case w.nulls != nil && w.nulls[string(text)]:
	case as == lookString:
		class = w.found.text(text)
	case as == lookNumber:
		class = w.found.number(text)
	case len(text) == 0:
	case w.mark != 0:
		class = w.found.marked(text, w.mark, &w.plain)
	default:
		class = w.found.field(text)
	}
	i := class.Index()
	n.tally(i, text, w)
	switch class {
	case ClassToken:
		n.token(text)
	case ClassText:
		n.weigh(text, class, &w.found, hash)
		if w.keys {
			n.alternatives.try(text)
		}
	default:
		n.weigh(text, class, &w.found, hash)
	}
	if w.keys {
		n.keepHash(w.found.identity(text, class, hash))
	}
	return i
}

// identity is a hash that is the same for all texts of one value, as far as a value can be written in more than one way.
func (w *weighed) identity(text []byte, class Class, hash uint64) uint64 {
	switch class {
	case ClassLong, ClassDouble, ClassExponent:
		return mix(math.Float64bits(w.value+0), spread)
	case ClassTimestamp, ClassTimestampTz:
		return mix(math.Float64bits(w.value), ^uint64(spread))
	case ClassDate:
		return mix(math.Float64bits(float64(w.day)*lexical.MicrosPerDay), ^uint64(spread))
	}
	return hash
}

// Field returns the member of that name, adding it when it is new.
func (n *Node) Field(name string) *Node {
	if n.Entries != nil {
		return n.Entries
	}
	if i, ok := n.index[name]; ok {
		return n.Fields[i]
	}
	if n.index == nil {
		n.index = map[string]int{}
	}
	field := &Node{Name: name, openings: n.openings.of(name)}
	n.index[name] = len(n.Fields)
	n.Fields = append(n.Fields, field)
	return field
}

// gather makes one node of all members.
func (n *Node) gather() {
	if n.Entries == nil {
		n.Entries, n.Fields, n.index = n.entries(), nil, nil
	}
}

// entries merges the members into one node.
func (n *Node) entries() *Node {
	all := &Node{Name: ValueName}
	for _, f := range n.Fields {
		all.Merge(f)
	}
	return all
}

// Merge adds what another worker saw of the same column.
func (n *Node) Merge(o *Node) {
	n.Evidence.Merge(&o.Evidence)
	n.objects += o.objects
	n.elements = nil
	if n.Entries != nil || o.Entries != nil {
		n.gather()
		o.gather()
		n.Entries.Merge(o.Entries)
	}
	for _, theirs := range o.Fields {
		_, known := n.index[theirs.Name]
		mine := n.Field(theirs.Name)
		if !known || theirs.Earliest().Before(mine.Earliest()) {
			mine.position = theirs.position
		}
		mine.Merge(theirs)
	}
	if o.Element != nil {
		if n.Element == nil {
			n.Element = &Node{Name: ElementName}
		}
		n.Element.Merge(o.Element)
	}
	if o.Lengths != nil {
		n.lengths().merge(o.Lengths)
	}
}

// lengths returns the count of lengths, made when it is first needed.
func (n *Node) lengths() *Lengths {
	if n.Lengths == nil {
		n.Lengths = &Lengths{}
	}
	return n.Lengths
}

// Forget lets go of what takes much memory and is of use for advice alone: different values, examples, what was met before.
func (n *Node) Forget() {
	n.forgetHashes()
	n.Distinct.forget()
	n.Days.forget()
	n.recent, n.known, n.looks = nil, nil, -1
	for _, f := range n.Fields {
		f.Forget()
	}
	for _, part := range []*Node{n.Element, n.Entries} {
		if part != nil {
			part.Forget()
		}
	}
}

// Earliest returns the first place at which anything was seen.
func (n *Node) Earliest() Place {
	var first Place
	found := false
	for i := range Classes {
		if list := n.first[i]; len(list) > 0 && (!found || list[0].Place.Before(first)) {
			first, found = list[0].Place, true
		}
	}
	return first
}

// Order sorts members by where they first appeared, so that the order does not depend on who saw what.
func (n *Node) Order() {
	slices.SortStableFunc(n.Fields, func(a, b *Node) int {
		switch pa, pb := a.Earliest(), b.Earliest(); {
		case pa.Before(pb):
			return -1
		case pb.Before(pa):
			return 1
		}
		return a.position - b.position
	})
	for i, field := range n.Fields {
		n.index[field.Name] = i
		field.Order()
	}
	for _, part := range []*Node{n.Element, n.Entries} {
		if part != nil {
			part.Order()
		}
	}
}

// Member returns the member of a name, nil where there is none.
func (n *Node) Member(name string) *Node {
	if i, ok := n.index[name]; ok {
		return n.Fields[i]
	}
	return nil
}

// Dictionary returns what stands in a column of objects whatever their keys.
func (n *Node) Dictionary() *Node {
	if n.Entries != nil {
		return n.Entries
	}
	return n.entries()
}

// Walk calls visit with the path of every member and part, by their names in the source.
func (n *Node) Walk(visit func(path string)) { n.walk("", visit) }

func (n *Node) walk(prefix string, visit func(string)) {
	for _, f := range n.Fields {
		path := join(prefix, f.Name)
		visit(path)
		f.walk(path, visit)
	}
	if n.Element != nil {
		// The elements of a list need no name of their own.
		n.Element.walk(prefix, visit)
	}
}
