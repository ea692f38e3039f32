package json

import (
	"bytes"
	"io"
	"slices"
	"strings"
	"unicode"
)

// Place is an array or an object in a document whose elements or members could be its records.
type Place struct {
	// Path leads to the records.
	Path Path
	// Members says that they are the members of an object.
	Members bool
	// Count is how many there are, Objects, Arrays and Scalars how many of each kind.
	Count, Objects, Arrays, Scalars int
	// Bytes is what all of them take.
	Bytes int64
	// Names are those of the members of an object, Keys what the records have: the first so many.
	Names, Keys []string

	line   int64
	shared map[string]int // how many records have a key
	total  int            // of keys
	odd    int            // members whose name could not be that of a column
}

// Look is what the beginning of a document shows.
type Look struct {
	// Root is what is directly in it.
	Root Place
	// Array says that the document is an array; a document that is neither array nor object has no Root.
	Array bool
	// Bytes is how much of it was looked at; Whole says that it ended within that.
	Bytes int64
	Whole bool
	// More says that another document follows.
	More bool
	// Inner are the places within it that could hold its records, none within another.
	Inner []*Place
	// Lists are arrays within it whose elements are no objects.
	Lists []*Place
}

// Bounds of what is remembered of a document.
const (
	deepest    = 4   // how many members may lead to records that are looked for
	mostPlaces = 256 // of them
	mostKeys   = 256 // keys of one, and names
	mostInside = 512 // members of one object that are looked into
)

// census looks for places in what it reads.
type census struct {
	s      *stream
	places []*Place
}

// LookAt looks at the beginning of a document.
func LookAt(head []byte) Look {
	c := census{s: newStream(bytes.NewReader(head))}
	var look Look
	first, err := c.s.token()
	start := c.s.offset
	if err == nil {
		look.Array = first == '['
		err = c.value(Path{}, first, &look.Root, true)
	}
	look.Bytes = c.s.offset - start
	look.Whole = err == nil
	if look.Whole {
		next, err := c.s.token()
		look.More = err == nil && (next == '{' || next == '[')
	}
	look.Inner = c.candidates()
	for _, p := range c.places {
		if p.isList() {
			look.Lists = append(look.Lists, p)
		}
	}
	return look
}

// member reads a value that is no record, and notes what it has of places.
func (c *census) member(around Path, name string, first byte) error {
	var p Place
	return c.value(around.Member(name), first, &p, false)
}

// value reads a value whose first byte was taken. root says that it is the document itself.
func (c *census) value(path Path, first byte, p *Place, root bool) error {
	if first != '{' && first != '[' || len(path) > deepest {
		return c.s.value(first, nil)
	}
	p.Members, p.line = first == '{', c.s.line
	p.Path = path.Each(p.Members)
	start, before := c.s.offset, len(c.places)
	err := c.children(path, p)
	p.Bytes = c.s.offset - start
	if !root && !slices.ContainsFunc(path, func(s Segment) bool { return s.Any }) {
		c.remember(p, before)
	}
	return err
}

// remember keeps a place that could be that of records, in place of those within it, which were met since there were before so many.
func (c *census) remember(p *Place, before int) {
	if p.Records(false) || p.isList() {
		c.places = c.places[:before]
		if len(c.places) < mostPlaces {
			c.places = append(c.places, p)
		}
	}
}

// children reads what is in an object or array.
func (c *census) children(path Path, p *Place) error {
	for {
		b, err := c.s.token()
		if err != nil {
			return cutOff(err)
		}
		if b == '}' || b == ']' {
			return nil
		}
		if p.Count > 0 {
			if b != ',' {
				return io.ErrUnexpectedEOF
			}
			if b, err = c.s.token(); err != nil {
				return cutOff(err)
			}
		}
		name := ""
		if p.Members {
			if b != '"' {
				return io.ErrUnexpectedEOF
			}
			if name, _, err = c.s.key(); err != nil {
				return err
			}
			if b, err = c.s.token(); err != nil {
				return cutOff(err)
			}
			if !couldBeName(name) {
				p.odd++
			}
			if len(p.Names) < mostKeys {
				p.Names = append(p.Names, name)
			}
		}
		p.Count++
		if err := c.child(path, p, name, b); err != nil {
			return err
		}
	}
}

// child reads one child, and notes its kind and the keys it has.
func (c *census) child(path Path, p *Place, name string, first byte) error {
	switch first {
	case '{':
		p.Objects++
	case '[':
		p.Arrays++
	default:
		p.Scalars++
		return c.s.value(first, nil)
	}
	inner := Place{}
	below := path.Each(p.Members)
	if p.Members && p.Count <= mostInside {
		below = path.Member(name)
	}
	err := c.value(below, first, &inner, false)
	p.note(&inner)
	return err
}

// note counts the keys of a record; those of a list are its elements'.
func (p *Place) note(record *Place) {
	keys := record.Names
	if !record.Members {
		keys = record.Keys
	}
	for _, key := range keys {
		if p.shared[key] == 0 {
			if len(p.Keys) == mostKeys {
				continue
			}
			p.Keys = append(p.Keys, key)
		}
		if p.shared == nil {
			p.shared = map[string]int{}
		}
		p.shared[key]++
	}
	p.total += len(keys)
}

// alike is near 1 when the records have the same keys, and near 0 when each has others.
func (p *Place) alike() float64 {
	sum := 0.0
	for _, n := range p.shared {
		sum += float64(n) * float64(n)
	}
	return sum / max(1, float64(p.total)*float64(p.Objects+p.Arrays))
}

// How many members make an object one of records, by what they are.
const (
	fewAlike   = 5  // objects or lists with the same keys, where the object is the document
	manyAlike  = 20 // the same, within a document
	fewScalars = 10 // scalars under what could be no column's name
	manyValues = 50 // values that have no keys to be alike by
)

// Records reports whether what is there could be the records of a document: objects in an array, or many members that are
// alike. root says that the place is the document itself.
func (p *Place) Records(root bool) bool {
	if !p.Members {
		return p.Objects > 0 && 2*p.Objects >= p.Count
	}
	most := max(p.Objects, p.Arrays, p.Scalars)
	if 10*most < 9*p.Count {
		return false
	}
	odd := 5*p.odd >= 4*p.Count
	if most == p.Scalars || p.total == 0 {
		return p.Count >= manyValues || odd && p.Count >= fewScalars
	}
	few := manyAlike
	if root {
		few = fewAlike
	}
	return p.Count >= few && (p.alike() >= 0.5 || odd && p.Count >= manyAlike || p.Count >= 10*manyAlike)
}

// candidates are the places that were met which could be those of the records. None lies within another.
func (c *census) candidates() (list []*Place) {
	for _, p := range c.places {
		if p.Records(false) {
			list = append(list, p)
		}
	}
	return list
}

// isList reports whether a place is an array of many scalars.
func (p *Place) isList() bool {
	return !p.Members && p.Scalars >= manyAlike && p.Objects+p.Arrays == 0
}

// couldBeName reports whether a key could be the name of a column: letters, digits and few other characters, the first a letter.
func couldBeName(key string) bool {
	for i, r := range key {
		if i == 0 && !unicode.IsLetter(r) && !strings.ContainsRune("_$@#", r) {
			return false
		}
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("_-$@#:./ ", r) {
			return false
		}
	}
	return key != "" && len(key) <= 64
}
