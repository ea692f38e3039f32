package schema

import "strings"

// Rebase brings a schema that grew out of a table's into the one that the table has meanwhile, by field ids: names, comments and order are the table's, widened
// types are kept, and what was added stands last. last is the highest id that the table had before. ok is false where that cannot be done: a column
// is gone, or a new one has a name that is taken.
func Rebase(ours, now Schema, last int) (out Schema, ok bool) {
	out = now.Clone()
	out.Omit, out.OmitRest = ours.Omit, ours.OmitRest
	out.Fields, ok = rebaseFields(ours.Fields, out.Fields, last)
	return out, ok
}

func rebaseFields(ours, now []Field, last int) ([]Field, bool) {
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
			if f.Untyped != now[i].Untyped && now[i].Untyped {
				now[i].Untyped = false
			}
			t, ok := rebaseType(f.Type, now[i].Type, last)
			if !ok {
				return nil, false
			}
			f.Name, f.Origin, f.Doc, f.Required, f.Untyped, f.Type = now[i].Name, now[i].Origin, now[i].Doc, now[i].Required, now[i].Untyped, t
			now[i] = f
		case f.ID <= last || names[strings.ToLower(f.Name)]:
			return nil, false
		default:
			now = append(now, cloneField(f))
		}
	}
	return now, true
}

// rebaseType brings together what a type became here and there.
func rebaseType(ours, now Type, last int) (Type, bool) {
	switch {
	case ours.Kind == Struct && now.Kind == Struct:
		var ok bool
		now.Fields, ok = rebaseFields(ours.Fields, now.Fields, last)
		return now, ok
	case ours.Kind == now.Kind && (ours.Kind == List || ours.Kind == Map):
		t, ok := rebaseType(ours.Element.Type, now.Element.Type, last)
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
