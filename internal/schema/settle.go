package schema

import (
	"slices"
	"strings"

	"trevak/internal/wording"
)

// Corrections are what the user fixed about the columns. Columns are named as in the source or legally, parts of nested ones by their
// dotted path, in which the elements of lists need no name of their own.
type Corrections struct {
	Types map[string]Stated
	// Renames gives columns other names.
	Renames map[string]string
	// Only are the columns that are wanted, all where it is empty; Drop are those that are not.
	Only, Drop []string
	// Required are columns that always have a value, Key those by which one record is told from all others.
	Required, Key []string
	// Columns are declared with all that is known of them; they come first, in their order.
	Columns []Field
	// Names is how legal names are made.
	Names NameStyle
	// Nulls are texts that stand for no value in every column.
	Nulls []string
	// DecimalMark is the decimal mark of the source, empty for the usual one.
	DecimalMark string
	// Outvote gives a column whose values have nothing to do with each other the type of more than half of them, where that is
	// not string; the others are misfits then. Without it such a column is string.
	Outvote bool
}

// Unmatched is a correction that names no column.
type Unmatched struct {
	// Flag is the one it was stated with, Name the column.
	Flag, Name string
	// Near says that a column of a like name was not declared, for those that a declaration has.
	Near bool
}

// DeclaredFlag stands for a flag where a declared column names one that does not occur.
const DeclaredFlag = "the feed file"

// Settle turns what was observed into a schema: each column gets the narrowest type that holds everything seen in it, unless
// it is pinned, and a legal name. Corrections that name no column are returned.
//
// A column without a single value becomes string and is marked Unseen.
func (o *Observed) Settle(c Corrections) (Schema, []Unmatched) {
	o.Root.Order()
	s := settler{Corrections: c, used: map[string]bool{}}
	root := s.members("", "", o.Root.Fields, c.Columns)
	out := Schema{Fields: root.Fields, Omission: Omission{Omit: root.Omit, OmitRest: root.OmitRest}}
	for i := range out.Fields {
		if f := &out.Fields[i]; s.named(c.Key, f.Source(), f.Name) {
			f.Required = true
			out.Key = append(out.Key, f.Name)
		}
	}
	return out, s.unmatched()
}

type settler struct {
	Corrections
	used   map[string]bool // paths that matched
	absent []Unmatched     // declared columns that do not occur
}

// unmatched lists the corrections that were not used, by flag.
func (s *settler) unmatched() []Unmatched {
	var out []Unmatched
	add := func(flag string, names []string) {
		slices.Sort(names)
		for _, name := range names {
			if !s.used[name] {
				out = append(out, Unmatched{Flag: flag, Name: name})
			}
		}
	}
	add("--type", keys(s.Types))
	add("--rename", keys(s.Renames))
	add("--only", slices.Clone(s.Only))
	add("--drop", slices.Clone(s.Drop))
	add("--required", slices.Clone(s.Required))
	add("--key", slices.Clone(s.Key))
	return append(out, s.absent...)
}

func keys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	return out
}

// named reports whether one of the paths is among names, and marks it as used.
func (s *settler) named(names []string, paths ...string) bool {
	for _, p := range paths {
		if slices.Contains(names, p) {
			s.used[p] = true
			return true
		}
	}
	return false
}

// lookup finds what was stated for one of the paths.
func lookup[V any](s *settler, m map[string]V, paths ...string) (v V, ok bool) {
	for _, p := range paths {
		if v, ok = m[p]; ok {
			s.used[p] = true
			return v, true
		}
	}
	return v, false
}

// wanted tells whether a column is to be kept, and whether all parts of it are; within is set below a column that was chosen whole.
func (s *settler) wanted(raw, legal string) (keep bool) {
	if s.named(s.Drop, spellings(raw, legal)...) {
		return false
	}
	if len(s.Only) == 0 {
		return true
	}
	if s.named(s.Only, spellings(raw, legal)...) {
		return true
	}
	for _, name := range s.Only {
		for _, path := range spellings(raw, legal) {
			// A part of this column is wanted, or this is a part of a wanted one.
			if strings.HasPrefix(name, path+".") || strings.HasPrefix(path, name+".") {
				return true
			}
		}
	}
	return false
}

// partly reports whether only some parts of a column are wanted.
func (s *settler) partly(raw, legal string) bool {
	return len(s.Only) > 0 && !slices.ContainsFunc(spellings(raw, legal), s.chosen)
}

// chosen reports whether a column, or one that it is a part of, is named as wanted.
func (s *settler) chosen(path string) bool {
	return slices.ContainsFunc(s.Only, func(name string) bool { return name == path || strings.HasPrefix(path, name+".") })
}

// members settles the members of one object. raw and legal are the paths of the object; declared members come first, seen or not.
func (s *settler) members(raw, legal string, nodes []*Node, declared []Field) Type {
	out := Type{Kind: Struct, Omission: Omission{OmitRest: s.partly(raw, legal)}}
	var others []*Node
	seen, as := make([]*Node, len(declared)), declaredAs(declared)
	for _, n := range nodes {
		if at := as(n.Name); at >= 0 && seen[at] == nil {
			seen[at] = n
		} else {
			others = append(others, n)
		}
	}
	names := make([]string, 0, len(declared)+len(others))
	for _, d := range declared {
		names = append(names, d.Name)
	}
	for _, n := range others {
		names = append(names, n.Name)
	}
	safe := s.Names.Make(names)[len(declared):]
	for i := range declared {
		if seen[i] == nil {
			s.missing(raw, &declared[i], others)
			absent := cloneField(declared[i])
			if (Stated{absent.Type, absent.Notation}).Opens() {
				absent.Type.Kind, absent.Notation.Format, absent.Unseen = String, "", true
			}
			out.Fields = append(out.Fields, absent)
			continue
		}
		s.member(&out, raw, legal, declared[i].Name, seen[i], &declared[i])
	}
	for i, n := range others {
		s.member(&out, raw, legal, safe[i], n, nil)
	}
	return out
}

// missing notes a declared member that does not occur, where its name looks mistaken: it is stated to be that in the source, or
// there is one of a like name that nobody declared.
func (s *settler) missing(raw string, d *Field, others []*Node) {
	names := make([]string, len(others))
	for i, n := range others {
		names[i] = n.Name
	}
	if near := len(wording.Nearest(d.Source(), names)) > 0; near || d.Origin != "" {
		s.absent = append(s.absent, Unmatched{Flag: DeclaredFlag, Name: join(raw, d.Source()), Near: near})
	}
}

// declaredAs returns what finds the declared member that a name in the source is, -1 for none.
func declaredAs(declared []Field) func(name string) int {
	sources, names := make(map[string]int, len(declared)), make(map[string]int, len(declared))
	for i, d := range slices.Backward(declared) {
		sources[d.Source()], names[d.Name] = i, i
	}
	return func(name string) int {
		if at, ok := sources[name]; ok {
			return at
		}
		if at, ok := names[name]; ok {
			return at
		}
		return -1
	}
}

// member settles one member and adds it to the others, unless it is not wanted.
func (s *settler) member(out *Type, raw, legal, name string, n *Node, declared *Field) {
	rawPath, legalPath := join(raw, n.Name), join(legal, name)
	if !s.wanted(rawPath, legalPath) {
		out.Omit = append(out.Omit, n.Name)
		return
	}
	f := s.field(rawPath, legalPath, n, declared)
	f.Name = name
	if renamed, ok := lookup(s, s.Renames, spellings(rawPath, legalPath)...); ok {
		f.Name = renamed
	}
	if f.Name != n.Name {
		f.Origin = n.Name
	}
	out.Fields = append(out.Fields, f)
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}

// field settles one column. Its name is set by the caller.
func (s *settler) field(raw, legal string, n *Node, declared *Field) Field {
	f := s.typed(raw, legal, n, declared)
	f.Digits, f.FitsInt = n.Whole, n.fitsInt()
	f.Required = s.named(s.Required, spellings(raw, legal)...)
	if declared != nil {
		f.Required, f.Doc = f.Required || declared.Required, declared.Doc
	}
	if !f.Type.Nested() {
		if s.DecimalMark != "" && isNumber(f.Type.Kind) {
			f.Notation.DecimalMark = s.DecimalMark
		}
		for _, null := range s.Nulls {
			if !slices.Contains(f.Notation.Nulls, null) {
				f.Notation.Nulls = append(f.Notation.Nulls, null)
			}
		}
	}
	f.Longest = n.LongestValue(f.Notation.Nulls)
	return f
}

func isNumber(k Kind) bool { return k == Int || k == Long || k == Float || k == Double || k == Decimal }

func (s *settler) typed(raw, legal string, n *Node, declared *Field) Field {
	pin, ok := lookup(s, s.Types, spellings(raw, legal)...)
	if ok && pin.Opens() || !ok && declared != nil && (Stated{declared.Type, declared.Notation}).Opens() {
		f := s.inferred(raw, legal, n)
		f.Opened = true
		return f
	}
	if ok {
		f := Field{Type: pin.Type, Notation: pin.Notation, Pinned: true}
		return f
	}
	if declared != nil {
		return s.declared(raw, legal, n, declared)
	}
	return s.inferred(raw, legal, n)
}

// inferred settles the type of a column that is not stated.
func (s *settler) inferred(raw, legal string, n *Node) Field {
	t, notation, kind := n.Settled(s.Nulls)
	if kind == String && n.Name != ElementName {
		if element := n.oneOrMany(); element != nil && !element.depthsDiffer() {
			f := s.field(join(raw, ElementName), join(legal, ElementName), element, nil)
			f.Name = ElementName
			return Field{Type: Type{Kind: List, Element: &f}}
		}
		if most, others := n.most(); s.Outvote && others > 0 {
			f := s.typed(raw, legal, most, nil)
			f.Pinned, f.Others = true, others
			return f
		}
	}
	switch {
	case kind == List && n.Name != ElementName && n.Element.depthsDiffer():
		// Lists of lists and of single values hold no values of one type: all of them are kept as they stand.
		return Field{Type: Type{Kind: String}}
	case kind == Unknown, kind == Struct && len(n.Fields) == 0 && n.Entries == nil:
		return Field{Type: Type{Kind: String}, Unseen: true}
	case kind == Struct:
		if value, ok := n.dictionary(); ok {
			return s.dictionary(raw, legal, value)
		}
		members := s.members(raw, legal, n.Fields, nil)
		if len(members.Fields) == 0 {
			return Field{Type: Type{Kind: String}, Unseen: true}
		}
		return Field{Type: members}
	case kind == List:
		element := s.field(join(raw, ElementName), join(legal, ElementName), n.Element, nil)
		element.Name = ElementName
		return Field{Type: Type{Kind: List, Element: &element}}
	}
	return Field{Type: t, Notation: notation}
}

// oneOrMany returns what stands in a column of arrays and single values together, if these are of one type: a single value is
// an array of one. It returns nil for other columns.
func (n *Node) oneOrMany() *Node {
	if n.Seen&ClassArray == 0 || n.Element == nil {
		return nil
	}
	single := *n
	single.Element = nil
	for _, c := range []Class{ClassArray, ClassNull} {
		single.Seen &^= c
		single.Counts[c.Index()] = 0
	}
	all := &Node{Name: ElementName}
	all.Merge(n.Element)
	all.Merge(&single)
	one, many := Resolve(single.Seen), Resolve(n.Element.Seen)
	switch kind := Resolve(all.Seen); {
	case one == Unknown, kind == Unknown:
		return nil
	case kind == String && (one != String || many != String && many != Unknown):
		return nil // they have nothing to do with each other
	}
	return all
}

// depthsDiffer reports whether lists stand beside other values among the elements of a list, or among theirs.
func (n *Node) depthsDiffer() bool {
	for ; n != nil; n = n.Element {
		if n.Seen&ClassArray != 0 && n.Seen&^(ClassArray|ClassNull) != 0 {
			return true
		}
	}
	return false
}

// Elements returns the evidence of what the lists of a column hold, single values in the place of lists included. There must be a list.
func (n *Node) Elements() *Node {
	if n.elements == nil {
		if n.elements = n.oneOrMany(); n.elements == nil {
			n.elements = n.Element
		}
	}
	return n.elements
}

// spellings lists the paths by which a column may be named.
func spellings(raw, legal string) []string { return []string{raw, legal, short(raw), short(legal)} }

// declared settles a column whose type the user declared with its parts.
func (s *settler) declared(raw, legal string, n *Node, d *Field) Field {
	f := cloneField(*d)
	f.Pinned = true
	switch {
	case d.Type.Kind == Struct && len(n.Fields) > 0:
		f.Type = s.members(raw, legal, n.Fields, d.Type.Fields)
	case d.Type.Kind == List && n.Element != nil:
		element := s.field(join(raw, ElementName), join(legal, ElementName), n.Element, d.Type.Element)
		element.Name = ElementName
		f.Type.Element = &element
	case d.Type.Kind == Map && (len(n.Fields) > 0 || n.Entries != nil):
		value := s.field(join(raw, ValueName), join(legal, ValueName), n.Dictionary(), d.Type.Element)
		value.Name = ValueName
		f.Type.Element = &value
	}
	return f
}

// short leaves the names of list elements out of a path.
func short(path string) string { return strings.ReplaceAll(path, "."+ElementName, "") }

// dictionary settles a column whose objects have many different keys.
func (s *settler) dictionary(raw, legal string, value *Node) Field {
	f := s.field(join(raw, ValueName), join(legal, ValueName), value, nil)
	f.Name = ValueName
	return Field{Type: Type{Kind: Map, Key: &Field{Name: KeyName, Type: Type{Kind: String}, Required: true}, Element: &f}}
}

// An object is taken for a dictionary when it has more than fewMembers different keys of which each record has less than half, and all
// values are of one type; or more than mostMembers, whatever they hold.
const fewMembers = 30

// dictionary returns the values of a column of objects together if they are to be a map.
func (n *Node) dictionary() (*Node, bool) {
	if n.Entries != nil {
		return n.Entries, true
	}
	if len(n.Fields) <= fewMembers {
		return nil, false
	}
	all := n.entries()
	if len(n.Fields) > mostMembers {
		return all, true
	}
	sparse := 2*(all.Values()+all.Nulls()) < int64(len(n.Fields))*n.Counts[ClassObject.Index()]
	kind := Resolve(all.Seen)
	uniform := kind != String && kind != Unknown || all.Seen&^(ClassNull|ClassToken|ClassText|ClassDate|ClassTimestamp|ClassUUID) == 0
	return all, sparse && uniform
}
