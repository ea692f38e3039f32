package schema

import (
	"slices"

	"trevak/internal/lexical"
)

// Settled returns the type of a column that has no parts, and how its values are written; kind is that of any column.
func (e *Evidence) Settled(nulls []string) (t Type, notation Notation, kind Kind) {
	seen := e.Seen
	if e.onlyNulls(nulls) {
		seen &^= ClassToken
	}
	kind = Resolve(seen)
	t.Kind = kind
	switch kind {
	case Unknown, Struct, List:
		return t, notation, kind
	case Boolean:
		switch {
		case seen&ClassYesNo != 0:
			notation.Format = "yes/no"
		case seen&ClassLetter != 0 && e.Style&(styleTrue|styleFalse) != styleTrue|styleFalse:
			t.Kind = String
		case seen&ClassLetter != 0:
			notation.Format = "t/f"
		}
	case Date:
		switch {
		case seen&ClassNamed != 0:
			t.Kind, notation.Format = e.namedType()
		case seen&ClassDate == 0:
			t.Kind, notation.Format = e.otherDate()
		}
	case Decimal:
		t.Precision, t.Scale = max(e.Whole+e.Fraction, 1), e.Fraction
		if t.Precision > lexical.MaxPrecision {
			t = Type{Kind: String}
		}
	}
	if t.Kind != String {
		notation.Nulls = e.tokens()
	}
	return t, notation, t.Kind
}

// onlyNulls reports whether all null tokens that occurred are stated to be nulls.
func (e *Evidence) onlyNulls(stated []string) bool {
	for token := range e.Tokens {
		if !slices.Contains(stated, token) {
			return false
		}
	}
	return len(stated) > 0
}

// tokens lists the null tokens that occurred, in order.
func (e *Evidence) tokens() []string {
	out := keys(e.Tokens)
	slices.Sort(out)
	if len(out) == 0 {
		return nil
	}
	return out
}

// otherDate returns the type and the pattern of dates in other orders than that of ISO 8601.
func (e *Evidence) otherDate() (Kind, string) {
	order := ClassYearFirst
	if e.Seen&ClassDayFirst != 0 {
		order = ClassDayFirst
	} else if e.Seen&ClassMonthFirst != 0 {
		order = ClassMonthFirst
	}
	pattern, clock, ok := e.Style.pattern(order)
	switch {
	case !ok:
		return String, ""
	case clock:
		return Timestamp, pattern
	}
	return Date, pattern
}

// Undecided reports whether more records could make a column's type narrower than these do, so that a sample does not settle it.
func (o *Observed) Undecided() bool {
	return slices.ContainsFunc(o.Root.Fields, (*Node).undecided)
}

// manyMembers is from how many members on a sample does not tell whether a column of objects is a dictionary.
const manyMembers = 20

func (n *Node) undecided() bool {
	values := n.Seen &^ ClassNull
	switch {
	case values == ClassToken, values&^ClassToken == ClassDayOrMonth, len(n.Fields) >= manyMembers, n.Entries != nil:
		return true
	case values&^ClassToken == ClassLetter && n.Style&(styleTrue|styleFalse) != styleTrue|styleFalse:
		return true
	case n.Element != nil && n.Element.undecided():
		return true
	}
	return slices.ContainsFunc(n.Fields, (*Node).undecided)
}
