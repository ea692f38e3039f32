// Package fault is the error of the whole program: a kind that decides the exit code, the place the data went wrong, and
// the way out.
package fault

import (
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"trevak/internal/wording"
)

// Kind says what sort of thing went wrong; the command line turns it into an exit code.
type Kind uint8

const (
	// Usage is a command that cannot be carried out as it was written.
	Usage Kind = iota + 1
	// Input is raw data that cannot be read or cannot become rows.
	Input
	// Schema is data that does not agree with the table or with a pinned column.
	Schema
	// Storage is a file, folder or catalog that could not be read or written.
	Storage
	// Conflict is a commit that another writer got ahead of.
	Conflict
)

func (k Kind) String() string {
	switch k {
	case Usage:
		return "usage"
	case Input:
		return "input"
	case Schema:
		return "schema"
	case Storage:
		return "storage"
	case Conflict:
		return "conflict"
	}
	return "unknown"
}

// Error names where something went wrong, what, and what to do about it. Every part but Kind and Reason may be absent.
type Error struct {
	Kind Kind
	// Object is the location of the file, as the user would name it.
	Object string
	// Line is the 1-based line the record begins on; 0 when there is none.
	Line int64
	// Column is the column's name in the source.
	Column string
	// Value is the offending value as it stands in the source; nil when there is none.
	Value *string
	// Reason says what is wrong, as a sentence without its full stop.
	Reason string
	// WayOut says what the user can do. With is something that can be done for it, which the face puts into its own words behind that.
	WayOut string
	With   *Step
	// Cause is the error underneath, if any.
	Cause error
}

// longestValue is how many bytes of an offending value are worth showing.
const longestValue = 80

// Error writes the parts in one line: place, column, value, reason, cause and way out.
func (e *Error) Error() string {
	var b strings.Builder
	if e.Object != "" {
		b.WriteString(Visible(e.Object))
		if e.Line > 0 {
			b.WriteByte(':')
			b.WriteString(strconv.FormatInt(e.Line, 10))
		}
		b.WriteString(": ")
	}
	if e.Column != "" {
		fmt.Fprintf(&b, "column %q: ", e.Column)
	}
	if e.Value != nil {
		b.WriteString(Quote(*e.Value))
		b.WriteByte(' ')
	}
	b.WriteString(e.Reason)
	if e.Cause != nil {
		b.WriteString(": ")
		b.WriteString(e.cause())
	}
	if e.WayOut != "" {
		b.WriteString("; ")
		b.WriteString(e.WayOut)
	}
	return b.String()
}

// cause tells of the error underneath. Of one of the system it leaves out the call, and the path where that was named before.
func (e *Error) cause() string {
	var path *fs.PathError
	if !errors.As(e.Cause, &path) || e.Cause != error(path) {
		return e.Cause.Error()
	}
	text := path.Err.Error()
	if !strings.Contains(e.Object+" "+e.Reason, path.Path) {
		text = path.Path + ": " + text
	}
	return text
}

// Unwrap returns the error underneath.
func (e *Error) Unwrap() error { return e.Cause }

// Quote writes a value between double quotes, with what cannot be seen escaped, cut to a readable length.
func Quote(value string) string {
	if len(value) <= longestValue {
		return strconv.Quote(value)
	}
	cut := longestValue
	for cut > 0 && !utf8.RuneStart(value[cut]) {
		cut--
	}
	return fmt.Sprintf("%s… (%d bytes)", strconv.Quote(value[:cut]), len(value))
}

// Visible writes a location in one line: what cannot be seen in it is escaped.
func Visible(location string) string {
	if !strings.ContainsFunc(location, unicode.IsControl) {
		return location
	}
	quoted := strconv.Quote(location)
	return strings.ReplaceAll(quoted[1:len(quoted)-1], `\"`, `"`)
}

// New makes an error of a kind with a formatted reason.
func New(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, Reason: fmt.Sprintf(format, args...)}
}

// Wrap makes an error of a kind around a cause. It returns nil when cause is nil, and the cause itself when that already
// has a kind, so that context is added once, where it is known.
func Wrap(kind Kind, cause error, format string, args ...any) error {
	if cause == nil {
		return nil
	}
	var known *Error
	if errors.As(cause, &known) {
		return cause
	}
	return &Error{Kind: kind, Reason: fmt.Sprintf(format, args...), Cause: cause}
}

// In adds the object to an error that does not name one yet.
func (e *Error) In(object string) *Error {
	if e.Object == "" {
		e.Object = object
	}
	return e
}

// Step is something that can be done, whatever it is called where it is asked for.
type Step struct {
	Action Action
	// Args are what it is done with, as each action says.
	Args []string
}

// Action names what can be done.
type Action uint8

// The actions, and what they are done with.
const (
	// LookAt shows how an object is read: its location.
	LookAt Action = iota + 1
	// SeeSchema shows the columns of a source.
	SeeSchema
	// RenameColumn gives a column of a table another name: the table, the column, and the name.
	RenameColumn
	// MakeOptional lets a column of a table have no value: the table, and the column.
	MakeOptional
	// DeleteAll deletes all rows of a table: the table.
	DeleteAll
	// DescribeFeeds describes feed files to editors.
	DescribeFeeds
	// WriteFiles writes rows as files that belong to no table.
	WriteFiles
	// TableHistory lists the commits and states of a table: the table.
	TableHistory
)

// By adds what can be done for the way out.
func (e *Error) By(action Action, args ...string) *Error {
	e.With = &Step{action, args}
	return e
}

// Try adds the way out.
func (e *Error) Try(format string, args ...any) *Error {
	e.WayOut = fmt.Sprintf(format, args...)
	return e
}

// KindOf returns the kind of the first Error in the chain, or 0.
func KindOf(err error) Kind {
	var known *Error
	if errors.As(err, &known) {
		return known.Kind
	}
	return 0
}

// Unknown is the error for a word that a flag does not take; words are all that it does. The flag is named without its hyphens.
func Unknown(flag, word string, words ...string) *Error {
	shown := word
	if strings.ContainsFunc(word, func(r rune) bool { return !unicode.IsGraphic(r) || r == ' ' }) || word == "" {
		shown = Quote(word)
	}
	return New(Usage, "--%s %s is not known", flag, shown).Try("%s", wording.Choose(word, words))
}
