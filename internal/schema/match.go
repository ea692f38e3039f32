package schema

import "strings"

// Index finds the field that a name in a source means.
type Index struct {
	origins, names, plain, folded map[string]int
	style                         NameStyle
}

// NewIndex prepares to look for fields.
func NewIndex(fields []Field, style NameStyle) Index {
	x := Index{map[string]int{}, map[string]int{}, map[string]int{}, map[string]int{}, style}
	for i := range fields {
		x.Add(i, &fields[i])
	}
	return x
}

// Add adds a field that is at a position behind all others. The first of several that a name could mean is taken.
func (x Index) Add(i int, f *Field) {
	first := func(m map[string]int, name string) {
		if _, known := m[name]; !known {
			m[name] = i
		}
	}
	first(x.names, f.Name)
	first(x.folded, strings.ToLower(f.Name))
	if f.Alias != "" {
		first(x.origins, f.Alias)
	}
	if f.Origin != "" {
		first(x.origins, f.Origin)
	} else {
		first(x.plain, f.Name)
	}
}

// Exact is Find for names that must agree in letter case.
func (x Index) Exact(name string) int {
	if i, caseOnly := x.Look(name); !caseOnly {
		return i
	}
	return -1
}

// Find looks for the field that had the name in its source, then for the one that is called so, for the one that is called
// what the name becomes when made legal, and last for one in another letter case. It returns -1 where there is none.
func (x Index) Find(name string) int {
	i, _ := x.Look(name)
	return i
}

// Look is Find that also tells whether the letter case differs.
func (x Index) Look(name string) (at int, caseOnly bool) {
	if i, ok := x.origins[name]; ok {
		return i, false
	}
	if i, ok := x.names[name]; ok {
		return i, false
	}
	legal := name
	if x.style.one(name) != "" {
		legal = x.style.Make([]string{name})[0]
	}
	if i, ok := x.plain[legal]; ok {
		return i, false
	}
	for _, folded := range [...]string{strings.ToLower(name), strings.ToLower(legal)} {
		if i, ok := x.folded[folded]; ok {
			return i, true
		}
	}
	return -1, false
}
