package schema

import (
	"fmt"
	"slices"
	"strings"

	"trevak/internal/wording"
)

// Alteration is a set of changes to a table's schema. They are made in the order of the fields: names, types, what is required, comments,
// order, and last what is dropped. Columns are named by their paths as they were before.
type Alteration struct {
	// Rename, Widen, Comment and After map a column to its new name, type, comment, and the column that it comes after.
	Rename, Widen, Comment, After []Setting
	// Optional columns need not have a value any more, Drop ones are gone, First ones come before all others.
	Optional, Drop, First []string
}

// Setting is a column and what it is given.
type Setting struct{ Column, Value string }

// Empty reports whether there is nothing to change.
func (a Alteration) Empty() bool {
	return len(a.Rename)+len(a.Widen)+len(a.Comment)+len(a.After)+len(a.Optional)+len(a.Drop)+len(a.First) == 0
}

// Alter makes the changes and returns the new schema with a sentence for each. Field ids stay, so that files written before can be read.
func (s Schema) Alter(a Alteration) (Schema, []string, error) {
	out := s.Clone()
	e := alterer{schema: &out, paths: map[string]int{}}
	out.Walk(func(path string, f *Field) { e.paths[path] = f.ID })
	steps := []func() error{
		func() error { return each(a.Rename, e.rename) },
		func() error { return each(a.Widen, e.widen) },
		func() error { return each(a.Optional, e.optional) },
		func() error { return each(a.Comment, e.comment) },
		func() error { return each(a.First, func(name string) error { return e.move(name, "") }) },
		func() error { return each(a.After, func(m Setting) error { return e.move(m.Column, m.Value) }) },
		func() error { return each(a.Drop, e.drop) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return s, nil, err
		}
	}
	return out, e.changes, nil
}

func each[T any](list []T, do func(T) error) error {
	for _, item := range list {
		if err := do(item); err != nil {
			return err
		}
	}
	return nil
}

type alterer struct {
	schema  *Schema
	paths   map[string]int // as they were before
	changes []string
}

// NoColumn is the error for a column that is not there.
type NoColumn struct {
	Name    string
	Nearest []string
}

func (n *NoColumn) Error() string { return fmt.Sprintf("there is no column %q", n.Name) }

// find returns the fields that hold a column and its position among them.
func (e *alterer) find(name string) (siblings *[]Field, at int, err error) {
	id, ok := e.paths[name]
	if !ok {
		id, ok = e.paths[strings.ReplaceAll(name, ".", "."+ElementName+".")]
	}
	if ok {
		if siblings, at = locate(&e.schema.Fields, id); siblings != nil {
			return siblings, at, nil
		}
	}
	names := keys(e.paths)
	slices.Sort(names)
	return nil, 0, &NoColumn{name, wording.Nearest(name, names)}
}

// locate finds the field of an id and its siblings. Elements of lists and parts of maps have none, and are not found.
func locate(fields *[]Field, id int) (*[]Field, int) {
	for i := range *fields {
		f := &(*fields)[i]
		if f.ID == id {
			return fields, i
		}
		for t := &f.Type; t != nil; {
			if found, at := locate(&t.Fields, id); found != nil {
				return found, at
			}
			if t.Element == nil {
				break
			}
			t = &t.Element.Type
		}
	}
	return nil, 0
}

func (e *alterer) say(format string, args ...any) {
	e.changes = append(e.changes, fmt.Sprintf(format, args...))
}

func (e *alterer) rename(s Setting) error {
	siblings, at, err := e.find(s.Column)
	if err != nil {
		return err
	}
	f := &(*siblings)[at]
	if s.Value == "" {
		return fmt.Errorf("column %q needs a name", s.Column)
	}
	for i, other := range *siblings {
		if i != at && strings.EqualFold(other.Name, s.Value) {
			return fmt.Errorf("there is a column %q already, so %q cannot be called %q", other.Name, s.Column, s.Value)
		}
	}
	if k := slices.Index(e.schema.Key, f.Name); k >= 0 && siblings == &e.schema.Fields {
		e.schema.Key = slices.Clone(e.schema.Key)
		e.schema.Key[k] = s.Value
	}
	if f.Origin == "" {
		// Files go on calling it what they did.
		f.Origin = f.Name
	}
	if f.Origin == s.Value {
		f.Origin = ""
	}
	f.Name = s.Value
	e.say("column %s is called %s", s.Column, s.Value)
	return nil
}

func (e *alterer) widen(s Setting) error {
	siblings, at, err := e.find(s.Column)
	if err != nil {
		return err
	}
	f := &(*siblings)[at]
	stated, err := ParseType(s.Value)
	if err != nil {
		return err
	}
	if f.Type.Equal(stated.Type) {
		return fmt.Errorf("column %q is %s already", s.Column, f.Type)
	}
	if !Promotes(f.Type, stated.Type) {
		return fmt.Errorf("column %q is %s and cannot become %s: the table format widens int to long, float to double, and decimals "+
			"to more digits before the point", s.Column, f.Type, stated.Type)
	}
	e.say("column %s widens from %s to %s", s.Column, f.Type, stated.Type)
	f.Type = stated.Type
	return nil
}

func (e *alterer) optional(name string) error {
	siblings, at, err := e.find(name)
	if err != nil {
		return err
	}
	f := &(*siblings)[at]
	if !f.Required {
		return fmt.Errorf("column %q is optional already", name)
	}
	if siblings == &e.schema.Fields && slices.Contains(e.schema.Key, f.Name) {
		return fmt.Errorf("column %q belongs to the key, which always has a value", name)
	}
	f.Required = false
	e.say("column %s is optional", name)
	return nil
}

func (e *alterer) comment(s Setting) error {
	siblings, at, err := e.find(s.Column)
	if err != nil {
		return err
	}
	(*siblings)[at].Doc = s.Value
	e.say("column %s has a new comment", s.Column)
	return nil
}

// move puts a column before all others, or after another.
func (e *alterer) move(name, after string) error {
	siblings, at, err := e.find(name)
	if err != nil {
		return err
	}
	f := (*siblings)[at]
	to := 0
	if after != "" {
		others, position, err := e.find(after)
		if err != nil {
			return err
		}
		if others != siblings || position == at {
			return fmt.Errorf("column %q cannot come after %q, which is not beside it", name, after)
		}
		if to = position + 1; position > at {
			to = position
		}
	}
	*siblings = slices.Insert(slices.Delete(*siblings, at, at+1), to, f)
	if after == "" {
		e.say("column %s comes first", name)
	} else {
		e.say("column %s comes after %s", name, after)
	}
	return nil
}

func (e *alterer) drop(name string) error {
	siblings, at, err := e.find(name)
	if err != nil {
		return err
	}
	f := (*siblings)[at]
	if siblings == &e.schema.Fields && slices.Contains(e.schema.Key, f.Name) {
		return fmt.Errorf("column %q belongs to the key", name)
	}
	if len(*siblings) == 1 {
		return fmt.Errorf("column %q is the only one there", name)
	}
	*siblings = slices.Delete(*siblings, at, at+1)
	e.say("column %s is dropped", name)
	return nil
}

// Compare lists what differs between two versions of a schema, by field id.
func Compare(before, after Schema) []string {
	type known struct {
		path string
		f    Field
	}
	old, seen := map[int]known{}, map[int]bool{}
	before.Walk(func(path string, f *Field) { old[f.ID] = known{path, *f} })
	var out []string
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	after.Walk(func(path string, f *Field) {
		seen[f.ID] = true
		was, ok := old[f.ID]
		switch {
		case !ok:
			say("+ %s %s", path, f.Type)
			return
		case was.f.Name != f.Name:
			say("~ %s is called %s", was.path, f.Name)
		}
		if !was.f.Type.Nested() && !was.f.Type.Equal(f.Type) {
			say("~ %s from %s to %s", path, was.f.Type, f.Type)
		}
		if was.f.Required != f.Required {
			say("~ %s is %s", path, map[bool]string{true: "required", false: "optional"}[f.Required])
		}
		if was.f.Doc != f.Doc {
			say("~ %s has another comment", path)
		}
	})
	before.Walk(func(path string, f *Field) {
		if !seen[f.ID] {
			say("- %s %s", path, f.Type)
		}
	})
	if len(out) == 0 && !slices.EqualFunc(before.Fields, after.Fields, func(a, b Field) bool { return a.ID == b.ID }) {
		say("~ the columns are in another order")
	}
	return out
}
