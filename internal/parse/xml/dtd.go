package xml

import "strings"

// defaults are the attributes that elements have where they do not say otherwise, by the names of the elements as they are written.
type defaults map[string][]attr

// read takes the defaults that a document type declaration gives in its internal subset (XML 1.0, section 3.3: AttlistDecl).
// The first declaration of an attribute holds.
func (d defaults) read(directive string) {
	for rest := directive; ; {
		_, after, ok := strings.Cut(rest, "<!ATTLIST")
		if !ok {
			return
		}
		f := fields{text: after}
		element := f.name()
		for {
			name := f.name()
			if name == "" {
				break
			}
			f.attributeType()
			value, given := f.defaultValue()
			if given && !d.has(element, name) {
				d[element] = append(d[element], attr{nameOf(name), []byte(value)})
			}
		}
		rest = f.text
	}
}

// nameOf makes a name of its spelling in a declaration.
func nameOf(written string) *name {
	n := &name{written: written, local: written}
	if prefix, local, ok := strings.Cut(written, ":"); ok {
		n.space, n.local = prefix, local
	}
	return n
}

func (d defaults) has(element, name string) bool {
	for _, a := range d[element] {
		if a.name.written == name {
			return true
		}
	}
	return false
}

// of returns the attributes of an element that is begun, those by default behind its own; declarations of namespaces are none.
func (d defaults) of(e *token) []attr {
	all := e.attrs
	for _, a := range d[e.name.written] {
		given := false
		for _, b := range e.attrs {
			given = given || a.name.written == b.name.written
		}
		if !given {
			all = append(all[:len(all):len(all)], a)
		}
	}
	for i, a := range all {
		if a.name.isNamespace() {
			out := append([]attr(nil), all[:i]...)
			for _, a := range all[i:] {
				if !a.name.isNamespace() {
					out = append(out, a)
				}
			}
			return out
		}
	}
	return all
}

// fields takes a declaration apart.
type fields struct{ text string }

func (f *fields) space() { f.text = strings.TrimLeft(f.text, " \t\r\n") }

// name takes a name; it is empty at the end of the declaration.
func (f *fields) name() string {
	f.space()
	end := strings.IndexAny(f.text, " \t\r\n>\"'()|#")
	if end < 0 {
		end = len(f.text)
	}
	name := f.text[:end]
	f.text = f.text[end:]
	return name
}

// attributeType passes over CDATA, NMTOKEN and the like, and over enumerations in brackets.
func (f *fields) attributeType() {
	f.name()
	f.space()
	if strings.HasPrefix(f.text, "(") {
		_, f.text, _ = strings.Cut(f.text, ")")
	}
}

// defaultValue takes the default, and whether there is a value.
func (f *fields) defaultValue() (value string, given bool) {
	f.space()
	if strings.HasPrefix(f.text, "#") {
		f.text = f.text[1:]
		if f.name() != "FIXED" {
			return "", false
		}
		f.space()
	}
	if f.text == "" || f.text[0] != '"' && f.text[0] != '\'' {
		return "", false
	}
	value, f.text, given = strings.Cut(f.text[1:], f.text[:1])
	return unescaped(value), given
}

// unescaped puts XML's own entities in their places.
var unescaped = strings.NewReplacer("&lt;", "<", "&gt;", ">", "&quot;", `"`, "&apos;", "'", "&amp;", "&").Replace
