// Package schema holds what a table's columns are: types and their text form, the classes of values inference saw and the
// type they lead to, the evidence for it, and the names columns may have.
//
// What comes in are records cut into fields (package parse); what goes out is a Schema whose columns know where they came
// from. Type names and their meaning are those of the Apache Iceberg specification, "Schemas and Data Types".
package schema

import (
	"fmt"
	"slices"
	"strings"
)

// Kind is a type without its parameters.
type Kind uint8

// Unknown is the kind of a column in which no value was seen; it is never written.
const (
	Unknown Kind = iota
	Boolean
	Int
	Long
	Float
	Double
	Decimal
	Date
	Time
	Timestamp
	TimestampTz
	// TimestampNs and TimestampTzNs count nanoseconds. They are only ever stated.
	TimestampNs
	TimestampTzNs
	String
	UUID
	Binary
	Struct
	List
	Map
)

var kindNames = [...]string{"unknown", "boolean", "int", "long", "float", "double", "decimal", "date", "time", "timestamp",
	"timestamptz", "timestamp_ns", "timestamptz_ns", "string", "uuid", "binary", "struct", "list", "map"}

func (k Kind) String() string { return kindNames[k] }

// Type is a column's type. Fields is set for Struct; Element for List and for the values of a Map, whose Key is set too and required;
// Precision and Scale for Decimal.
// Omission is for the members of a Struct.
type Type struct {
	Kind             Kind
	Precision, Scale int
	Fields           []Field
	Key, Element     *Field
	Omission
}

// Omission is what a run leaves out of a source; it is no part of what columns are.
type Omission struct {
	// Omit are the names in the source of columns that are not wanted, and OmitRest says that none is wanted besides those that
	// there are.
	Omit     []string
	OmitRest bool
}

// Demand is what a run wants of a column, besides what the column is.
type Demand struct {
	// Held is set when the type is a table's: a value beyond it is a misfit. Widens says that the type may still widen as the
	// table format allows.
	Held, Widens bool
	// Alias is the name in the source of this run, where that is yet another.
	Alias string
	// Demanded says that a record without a value is bad in this run; Skip that the source's values are passed over in it.
	Demanded, Skip bool
	// Added is set for a column that the run adds to those of the source.
	Added bool
}

// Field is a column or a part of a nested one: what it is, what is known of its values, and apart from that what a run wants of it.
type Field struct {
	// ID is the field id of the table, 0 while there is none.
	ID int
	// Name is the legal name.
	Name string
	// Origin is the name in the source when it had to be changed, otherwise empty.
	Origin   string
	Type     Type
	Required bool
	// Doc is the comment kept with the table.
	Doc string
	// Notation is how the column's values are written in the source.
	Notation Notation
	// Pinned is set when the user fixed the type: every spelling of it is taken, and what is none is a misfit.
	Pinned bool
	// Opened says that the values come as texts of JSON, and that what is in these is the column's.
	Opened bool
	// Others counts the values of other types than the column's, which are misfits because the user asked for that (Corrections.Outvote).
	Others int64
	// Demand is what a run wants of the column.
	Demand
	// Unseen is set when no value led to the type: it is string for want of evidence.
	Unseen bool
	// Untyped is set for a column of which no value was ever seen, so that it is string for want of a type. The first values settle it.
	Untyped bool
	// Digits is the most that a number seen has before its point, 0 where that is not known.
	Digits int
	// FitsInt says that all numbers seen are whole ones of 32 bits.
	FitsInt bool
	// Longest is the length of the longest text seen, in characters, 0 where it is not known.
	Longest int
}

// Notation is how values are written in the source, where that is not the usual way.
type Notation struct {
	// Format is a pattern of strftime, or epoch, epoch_ms or epoch_us, for dates, times and timestamps; a text with # in the
	// number's place for numbers; yes/no or t/f for booleans; hex or base64 for binary.
	Format string `json:"format,omitempty"`
	// DecimalMark is the character before the fraction of numbers, where thousands may be set apart.
	DecimalMark string `json:"decimal_mark,omitempty"`
	// Nulls are the texts that stand for no value.
	Nulls []string `json:"nulls,omitempty"`
}

// Usual reports whether nothing is out of the ordinary.
func (n Notation) Usual() bool { return n.Format == "" && n.DecimalMark == "" && len(n.Nulls) == 0 }

// Source returns the field's name in the source.
func (f Field) Source() string {
	if f.Origin != "" {
		return f.Origin
	}
	return f.Name
}

// Schema is the ordered columns of a table or of a source.
type Schema struct {
	Fields []Field
	// Key holds the names of the columns that tell one record from all others.
	Key []string
	// Omission is what a run leaves out.
	Omission
}

// Index returns the position of the column of that legal name, or -1.
func (s Schema) Index(name string) int {
	for i := range s.Fields {
		if s.Fields[i].Name == name {
			return i
		}
	}
	return -1
}

// IDOf returns the field id of a column or part of one by its legal path, 0 where there is none.
func (s Schema) IDOf(path string) int {
	id := 0
	s.Walk(func(at string, f *Field) {
		if at == path {
			id = f.ID
		}
	})
	return id
}

// String writes the type as the Iceberg specification does: long, decimal(9,2), list<string>, struct<lat: double>.
func (t Type) String() string {
	switch t.Kind {
	case Decimal:
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	case List:
		return "list<" + t.Element.Type.String() + ">"
	case Map:
		return "map<" + t.Key.Type.String() + ", " + t.Element.Type.String() + ">"
	case Struct:
		parts := make([]string, len(t.Fields))
		for i, f := range t.Fields {
			parts[i] = f.Name + ": " + f.Type.String()
		}
		return "struct<" + strings.Join(parts, ", ") + ">"
	}
	return t.Kind.String()
}

// Nested reports whether the type has parts.
func (t Type) Nested() bool { return t.Kind == Struct || t.Kind == List || t.Kind == Map }

// Equal reports whether two types are the same, ids and names in the source aside.
func (t Type) Equal(o Type) bool { return t.String() == o.String() }

// Bare is the schema for rows that are a table's already: without what is demanded of values, and of names in a source.
func (s Schema) Bare() Schema {
	s = s.Clone()
	s.Key, s.Omission = nil, Omission{OmitRest: true}
	s.Walk(func(_ string, f *Field) { f.Required, f.Origin, f.Pinned, f.Demand = false, "", false, Demand{} })
	return s
}

// Walk calls visit for every field of the schema, parents before their parts, with the dotted path of names. List elements
// are named "element", map parts "key" and "value".
func (s Schema) Walk(visit func(path string, f *Field)) {
	for i := range s.Fields {
		walkField("", &s.Fields[i], visit)
	}
}

func walkField(prefix string, f *Field, visit func(string, *Field)) {
	path := f.Name
	if prefix != "" {
		path = prefix + "." + f.Name
	}
	visit(path, f)
	for i := range f.Type.Fields {
		walkField(path, &f.Type.Fields[i], visit)
	}
	if f.Type.Key != nil {
		walkField(path, f.Type.Key, visit)
	}
	if f.Type.Element != nil {
		walkField(path, f.Type.Element, visit)
	}
}

// LastID returns the highest field id.
func (s Schema) LastID() int {
	last := 0
	s.Walk(func(_ string, f *Field) { last = max(last, f.ID) })
	return last
}

// Untyped lists the columns and parts of which no value was ever seen.
func (s Schema) Untyped() []string {
	var out []string
	s.Walk(func(path string, f *Field) {
		if f.Untyped {
			out = append(out, path)
		}
	})
	return out
}

// Clone returns a copy that shares nothing with s.
func (s Schema) Clone() Schema {
	s.Fields = cloneFields(s.Fields)
	s.Key, s.Omit = slices.Clone(s.Key), slices.Clone(s.Omit)
	return s
}

func cloneFields(fields []Field) []Field {
	if fields == nil {
		return nil
	}
	out := make([]Field, len(fields))
	for i, f := range fields {
		out[i] = cloneField(f)
	}
	return out
}

func cloneField(f Field) Field {
	f.Notation.Nulls = slices.Clone(f.Notation.Nulls)
	f.Type.Fields, f.Type.Omit = cloneFields(f.Type.Fields), slices.Clone(f.Type.Omit)
	if f.Type.Key != nil {
		key := cloneField(*f.Type.Key)
		f.Type.Key = &key
	}
	if f.Type.Element != nil {
		element := cloneField(*f.Type.Element)
		f.Type.Element = &element
	}
	return f
}

// AssignIDs numbers the fields from 1 in the order the table library does: a column, then its parts, then the next column; of a
// map first key and value and then the parts of both.
func (s Schema) AssignIDs() {
	next := 1
	for i := range s.Fields {
		assignID(&s.Fields[i], &next)
		assignParts(&s.Fields[i].Type, &next)
	}
}

func assignID(f *Field, next *int) {
	f.ID = *next
	*next++
}

func assignParts(t *Type, next *int) {
	for i := range t.Fields {
		assignID(&t.Fields[i], next)
		assignParts(&t.Fields[i].Type, next)
	}
	if t.Key != nil {
		assignID(t.Key, next)
	}
	if t.Element != nil {
		assignID(t.Element, next)
	}
	if t.Key != nil {
		assignParts(&t.Key.Type, next)
	}
	if t.Element != nil {
		assignParts(&t.Element.Type, next)
	}
}
