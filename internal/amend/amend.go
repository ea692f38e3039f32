// Package amend changes rows that a table has: it finds those that are to go, by a key, by a condition or by the object that they came
// of, and settles what files the table has without them.
//
// What comes in are rows with a key, or a condition, and a table; what goes out are the files that a commit adds and removes, the
// files of deletes, and an account of what became of each row.
package amend

import (
	"slices"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// How says in which way rows are taken out of a table.
type How uint8

// Weighed takes of the other two what writes less in the long run; Deletes adds files that list the rows, which readers leave out;
// Rewrite writes the other rows of the files anew.
const (
	Weighed How = iota
	Deletes
	Rewrite
)

// HowNames are what the ways are called, in their order.
var HowNames = []string{"weighed", "deletes", "rewrite"}

func (h How) String() string { return HowNames[h] }

// ParseHow reads weighed, deletes or rewrite.
func ParseHow(flag, text string) (How, error) {
	if i := slices.Index(HowNames, text); i >= 0 {
		return How(i), nil
	}
	return 0, fault.Unknown(flag, text, HowNames...)
}

// keyFields finds the columns of a key.
func keyFields(s schema.Schema, key []string) ([]int, error) {
	out := make([]int, len(key))
	for i, name := range key {
		at := s.Index(name)
		if at < 0 {
			return nil, fault.New(fault.Usage, "there is no column %q for the key", name).Try("%s", schema.Choices(name, names(s)))
		}
		if s.Fields[at].Type.Nested() {
			return nil, fault.New(fault.Usage, "column %q is %s, which cannot be part of a key", name, s.Fields[at].Type.Kind).
				Try("name a column of single values")
		}
		out[i] = at
	}
	return out, nil
}

func names(s schema.Schema) (out []string) {
	for _, f := range s.Fields {
		out = append(out, f.Name)
	}
	return out
}
