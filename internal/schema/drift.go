package schema

import (
	"strings"

	"trevak/internal/wording"
)

// The sorts of differences between a batch and a table.
const (
	// Added is a column that the table does not have, Missing one that the batch does not have.
	Added   = "added"
	Missing = "missing"
	// Widened is a column whose type becomes wider.
	Widened = "widened"
	// Settled is a column that had no values so far and gets the type of its first.
	Settled = "settled"
	// CaseOnly is a column whose name differs in letter case.
	CaseOnly = "case_only"
	// Unfit is a column with values that its type does not hold.
	Unfit = "unfit"
	// UnknownColumn is one that is not in the table and is kept out of it.
	UnknownColumn = "unknown"
	// LikelyRename is a column that is missing while another one that looks like it is new.
	LikelyRename = "likely_rename"
)

// Difference is one difference between a batch and a table.
type Difference struct {
	Kind string
	// Column is the path of the column in the table, or the name that a new one has there.
	Column string
	// From is the name in the source where that is another.
	From string
	// Was and Is are the types before and after.
	Was string
	Is  string
	// Records counts the records concerned, where that is known; Location and Line are the first one's place, Value its value.
	Records  int64
	Location string
	Line     int64
	Value    string
	// First is the place where the column was first seen, to make Location and Line of.
	First *Place
}

// Evolve holds a batch's schema, which Settle gave, against a table's, and returns the schema that takes both as far as the table format
// allows, together with what differs. Columns of the batch that the table does not have are added last, with ids from next on; next comes
// back as the next free one.
//
// Values that still do not fit are misfits, which are not looked for here.
func Evolve(table, batch Schema, style NameStyle, next *int) (Schema, []Difference) {
	e := evolver{next: next, style: style}
	out := table.Clone()
	out.Omit, out.OmitRest = batch.Omit, batch.OmitRest
	out.Fields = e.members("", out.Fields, batch.Fields)
	e.likelyRenames()
	return out, e.found
}

type evolver struct {
	next    *int
	style   NameStyle
	found   []Difference
	missing []candidate
	added   []candidate
}

// candidate is a column that may have been renamed.
type candidate struct {
	path string // of the object it is a member of
	at   int    // its position there
	f    Field
}

// members brings the members of one object together.
func (e *evolver) members(path string, table, batch []Field) []Field {
	index := NewIndex(table, e.style)
	seen := make([]bool, len(table))
	out := table
	for at, b := range batch {
		i, caseOnly := index.Look(b.Source())
		if i < 0 {
			i, caseOnly = index.Look(b.Name)
		}
		if i >= 0 && seen[i] {
			i = -1
		}
		if i < 0 {
			e.added = append(e.added, candidate{path, at, b})
			out = append(out, e.add(path, out, b))
			continue
		}
		seen[i] = true
		name := join(path, out[i].Name)
		if b.Source() != out[i].Source() && b.Source() != out[i].Name {
			out[i].Alias = b.Source()
		}
		out[i].Demanded = b.Required && !out[i].Required
		if caseOnly {
			e.found = append(e.found, Difference{Kind: CaseOnly, Column: name, From: b.Source()})
		}
		if !b.Unseen {
			e.settle(name, &out[i], b)
			out[i].Type = e.widen(name, out[i].Type, b)
		}
		out[i].Longest = max(out[i].Longest, b.Longest)
	}
	for i, f := range table {
		if !seen[i] && f.Name != MisfitColumn && !f.Added {
			e.missing = append(e.missing, candidate{path, i, f})
			e.found = append(e.found, Difference{Kind: Missing, Column: join(path, f.Name), Was: f.Type.String()})
		}
	}
	return out
}

// add makes a new column of one of the batch's, with ids and a name that is not taken.
func (e *evolver) add(path string, fields []Field, b Field) Field {
	f := cloneField(b)
	taken := make([]string, 0, len(fields)+1)
	for _, g := range fields {
		taken = append(taken, g.Name)
	}
	f.Name = e.style.Make(append(taken, f.Name))[len(taken)]
	if f.Name != b.Source() {
		f.Origin = b.Source()
	}
	f.Required = false
	assignID(&f, e.next)
	assignParts(&f.Type, e.next)
	e.found = append(e.found, Difference{Kind: Added, Column: join(path, f.Name), From: f.Origin, Is: f.Type.String()})
	return f
}

// settle gives a column of the table that never had a value the type of the batch's. The table format cannot change a type to
// any other, so the column becomes another one of the same name: it has a new id, and no file has values under the old one.
func (e *evolver) settle(path string, f *Field, b Field) {
	if !f.Untyped {
		return
	}
	f.Untyped = false
	if b.Type.Equal(f.Type) {
		return
	}
	e.found = append(e.found, Difference{Kind: Settled, Column: path, Is: b.Type.String()})
	fresh := cloneField(b)
	f.Type, f.Notation, f.Pinned = fresh.Type, fresh.Notation, fresh.Pinned
	assignID(f, e.next)
	assignParts(&f.Type, e.next)
}

// widen returns the type that a column of the table gets when the batch has another.
func (e *evolver) widen(path string, table Type, b Field) Type {
	batch := b.Type
	switch {
	case table.Kind == Struct && batch.Kind == Struct:
		table.Fields = e.members(path, table.Fields, batch.Fields)
		table.Omit, table.OmitRest = batch.Omit, batch.OmitRest
		return table
	case table.Kind == List && batch.Kind == List, table.Kind == Map && batch.Kind == Map:
		if !batch.Element.Unseen {
			table.Element.Type = e.widen(path+"."+table.Element.Name, table.Element.Type, *batch.Element)
		}
		return table
	}
	if table.Kind == Decimal && (batch.Kind == Long || batch.Kind == Double) {
		// What fits a decimal of the same scale need not cost the column its type.
		batch = Type{Kind: Decimal, Precision: b.Digits + table.Scale, Scale: table.Scale}
	}
	if table.Kind == Int && b.FitsInt {
		return table
	}
	wide := Wider(table, batch)
	if !wide.Equal(table) {
		e.found = append(e.found, Difference{Kind: Widened, Column: path, Was: table.String(), Is: wide.String()})
	}
	return wide
}

// Wider returns what a table's type becomes, as far as the table format lets it (Iceberg specification, "Schema Evolution"), so
// that it takes more of another type's values; t itself where nothing is gained.
func Wider(t, other Type) Type {
	switch {
	case t.Kind == Int && other.Kind == Long:
		return other
	case t.Kind == Float && other.Kind == Double:
		return other
	case t.Kind == Decimal && other.Kind == Decimal:
		whole := max(t.Precision-t.Scale, other.Precision-other.Scale)
		if whole+t.Scale <= 38 {
			t.Precision = whole + t.Scale
		}
	}
	return t
}

// Promotes reports whether the table format lets a column's type become another.
func Promotes(from, to Type) bool {
	switch {
	case from.Kind == Int && to.Kind == Long, from.Kind == Float && to.Kind == Double:
		return true
	}
	return from.Kind == Decimal && to.Kind == Decimal && from.Scale == to.Scale && to.Precision >= from.Precision
}

// likelyRenames points out new columns that look like missing ones of the same object: of a similar name, or of the same type at the same
// position.
func (e *evolver) likelyRenames() {
	for _, m := range e.missing {
		for _, a := range e.added {
			if m.path != a.path {
				continue
			}
			if m.at == a.at && m.f.Type.Kind == a.f.Type.Kind || alike(m.f.Name, a.f.Name) || m.f.Origin != "" &&
				alike(m.f.Origin, a.f.Source()) {
				e.found = append(e.found, Difference{Kind: LikelyRename, Column: join(m.path, m.f.Name), From: join(a.path, a.f.Name)})
				break
			}
		}
	}
}

// alike reports whether two names have most letters in common, or one holds the other.
func alike(a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	if len(a) > 2 && len(b) > 2 && (strings.Contains(a, b) || strings.Contains(b, a)) {
		return true
	}
	limit := max(len(a), len(b)) / 3
	return wording.Distance(a, b, limit) <= limit
}

// MisfitColumn is the column that holds what fits no other: a JSON object of column and raw value.
const MisfitColumn = "_misfit"
