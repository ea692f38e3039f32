package schema

import (
	"slices"
	"strings"
)

// Rebase brings a schema that grew out of a table's into the one that the table has meanwhile, by field ids: names, comments,
// key and order are the table's, widened types are kept, what is known of a column is what either changed, and what was added
// stands last. from is the table's schema that ours grew out of, last the highest id that the table had then. ok is false where
// that cannot be done: a column is gone, or a new one has a name that is taken.
func Rebase(from, ours, now Schema, last int) (out Schema, ok bool) {
	before, there := fieldsByID(from), fieldsByID(now)
	if sameColumns(from.Fields, now.Fields) {
		out = ours.Clone()
		out.Key = now.Key
		out.Walk(func(_ string, f *Field) {
			if n := there[f.ID]; n != nil {
				*f = rebaseNotes(before[f.ID], *f, *n)
			}
		})
		return out, true
	}
	out = now.Clone()
	out.Omit, out.OmitRest = ours.Omit, ours.OmitRest
	out.Fields, ok = rebaseFields(before, ours.Fields, out.Fields, last)
	return out, ok
}

func fieldsByID(s Schema) map[int]*Field {
	out := map[int]*Field{}
	s.Walk(func(_ string, f *Field) { out[f.ID] = f })
	return out
}

// sameColumns reports whether two schemas of a table have the same columns in the same order.
func sameColumns(a, b []Field) bool {
	return slices.EqualFunc(a, b, func(f, g Field) bool {
		parts := func(f Field) (out []Field) {
			out = f.Type.Fields
			for _, part := range []*Field{f.Type.Key, f.Type.Element} {
				if part != nil {
					out = append(slices.Clone(out), *part)
				}
			}
			return out
		}
		return f.ID == g.ID && f.Name == g.Name && f.Type.Equal(g.Type) && sameColumns(parts(f), parts(g))
	})
}

func rebaseFields(before map[int]*Field, ours, now []Field, last int) ([]Field, bool) {
	at := map[int]int{}
	names := map[string]bool{}
	for i, f := range now {
		at[f.ID] = i
		names[strings.ToLower(f.Name)] = true
	}
	for _, f := range ours {
		i, there := at[f.ID]
		switch {
		case there:
			t, ok := f.Type, true
			if was := before[f.ID]; was == nil || !was.Type.Equal(now[i].Type) {
				t, ok = rebaseType(before, f.Type, now[i].Type, last)
			}
			if !ok {
				return nil, false
			}
			now[i] = rebaseNotes(before[f.ID], f, now[i])
			now[i].Type = t
		case f.ID <= last || names[strings.ToLower(f.Name)]:
			return nil, false
		default:
			now = append(now, cloneField(f))
		}
	}
	return now, true
}

// rebaseNotes brings together what is known of a column besides its type. What we did not change is the table's.
func rebaseNotes(before *Field, ours, now Field) Field {
	out := ours
	out.Name, out.Origin, out.Doc, out.Required = now.Name, now.Origin, now.Doc, now.Required
	out.Untyped = ours.Untyped && now.Untyped
	out.Longest = max(ours.Longest, now.Longest)
	if before == nil {
		return out
	}
	out.Notation = rebaseNotation(before.Notation, ours.Notation, now.Notation)
	if ours.Pinned == before.Pinned {
		out.Pinned = now.Pinned
	}
	return out
}

// rebaseNotation brings together how a column's values are written.
func rebaseNotation(before, ours, now Notation) Notation {
	if ours.Format != before.Format {
		now.Format = ours.Format
	}
	if ours.DecimalMark != before.DecimalMark {
		now.DecimalMark = ours.DecimalMark
	}
	now.Nulls = slices.Clone(now.Nulls)
	for _, token := range ours.Nulls {
		if !slices.Contains(before.Nulls, token) && !slices.Contains(now.Nulls, token) {
			now.Nulls = append(now.Nulls, token)
		}
	}
	slices.Sort(now.Nulls)
	return now
}

// rebaseType brings together what a type became here and there.
func rebaseType(before map[int]*Field, ours, now Type, last int) (Type, bool) {
	switch {
	case ours.Kind == Struct && now.Kind == Struct:
		var ok bool
		now.Fields, ok = rebaseFields(before, ours.Fields, now.Fields, last)
		return now, ok
	case ours.Kind == now.Kind && (ours.Kind == List || ours.Kind == Map):
		t, ok := rebaseType(before, ours.Element.Type, now.Element.Type, last)
		element := *now.Element
		element.Type = t
		now.Element = &element
		return now, ok
	case ours.Nested() || now.Nested():
		return now, false
	}
	wide := Wider(now, ours)
	// What was written must be readable as what the table has: as the same, or as something narrower that the table format widens.
	return wide, ours.Equal(wide) || Promotes(ours, wide)
}
