package schema

// Settle turns what was observed into a schema: each column gets the narrowest type that holds everything seen in it, unless
// it is pinned, and a legal name. pins maps a column, by its name in the source or its legal one (parts of nested columns by
// their dotted path), to the type that the user fixed; the pins that matched nothing are returned.
//
// A column without a single value becomes string and is marked Unseen.
func (o *Observed) Settle(pins map[string]Type) (Schema, []string) {
	o.Root.Order()
	s := settler{pins: pins, used: map[string]bool{}}
	fields := s.fields("", "", o.Root.Fields)
	var unused []string
	for name := range pins {
		if !s.used[name] {
			unused = append(unused, name)
		}
	}
	return Schema{Fields: fields}, unused
}

type settler struct {
	pins map[string]Type
	used map[string]bool
}

// fields settles the members of one object. raw and legal are the paths of the object with a dot at the end.
func (s *settler) fields(raw, legal string, nodes []*Node) []Field {
	names := make([]string, len(nodes))
	for i, n := range nodes {
		names[i] = n.Name
	}
	safe := SafeNames(names)
	out := make([]Field, len(nodes))
	for i, n := range nodes {
		out[i] = s.field(raw+n.Name, legal+safe[i], n)
		out[i].Name = safe[i]
		if safe[i] != n.Name {
			out[i].Origin = n.Name
		}
	}
	return out
}

func (s *settler) field(raw, legal string, n *Node) Field {
	for _, path := range [...]string{raw, legal} {
		if pin, ok := s.pins[path]; ok {
			s.used[path] = true
			return Field{Type: pin, Pinned: true}
		}
	}
	kind := Resolve(n.Seen)
	switch {
	case kind == Unknown:
		return Field{Type: Type{Kind: String}, Unseen: true}
	case kind == Struct && len(n.Fields) == 0:
		return Field{Type: Type{Kind: String}, Unseen: true}
	case kind == Struct:
		return Field{Type: Type{Kind: Struct, Fields: s.fields(raw+".", legal+".", n.Fields)}}
	case kind == List:
		element := s.field(raw+"."+ElementName, legal+"."+ElementName, n.Element)
		element.Name = ElementName
		return Field{Type: Type{Kind: List, Element: &element}}
	}
	return Field{Type: Type{Kind: kind}}
}
