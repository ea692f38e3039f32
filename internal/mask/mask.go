// Package mask keeps values of columns out of what people and programs are told.
//
// What comes in are the names of columns and what is to be told; what goes out is the same without their values.
package mask

import (
	"errors"
	"regexp"
	"strings"
	"unicode"

	"trevak/internal/fault"
)

// Shown stands in the place of a value that is not told.
const Shown = "…"

// All is the word for every column.
const All = "all"

// Mask is the columns whose values are not told. The zero value hides none.
type Mask struct {
	all   bool
	names map[string]bool
}

// Of makes a mask of names of columns, as the source or the table writes them, or of the word all.
func Of(names []string) Mask {
	var m Mask
	for _, name := range names {
		if name == All {
			m.all = true
			continue
		}
		if m.names == nil {
			m.names = map[string]bool{}
		}
		m.names[plain(name)] = true
	}
	return m
}

// plain is a name without what changes when it is made legal.
func plain(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// Any reports whether the values of any column are not told.
func (m Mask) Any() bool { return m.all || len(m.names) > 0 }

// Hides reports whether the values of a column are not told, by its path.
func (m Mask) Hides(path string) bool {
	if m.all {
		return true
	}
	if len(m.names) == 0 {
		return false
	}
	if m.names[plain(path)] {
		return true
	}
	for i, c := range path {
		if c == '.' && (m.names[plain(path[:i])] || m.names[plain(path[i+1:])]) {
			return true
		}
	}
	return m.names[plain(path[strings.LastIndexByte(path, '.')+1:])]
}

// Beyond reports whether the mask names something that none of some columns is: a part of one of them, it may be.
func (m Mask) Beyond(columns []string) bool {
	found := 0
	for _, c := range columns {
		if m.names[plain(c)] {
			found++
		}
	}
	return found < len(m.names)
}

// Value is what is told of a value of a column.
func (m Mask) Value(path, value string) string {
	if value != "" && m.Hides(path) {
		return Shown
	}
	return value
}

var quoted = regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.)*\"|`[^`]*`|'[^']*'")

// Words is a sentence without what is quoted in it, which may be values.
func Words(text string) string { return quoted.ReplaceAllString(text, `"`+Shown+`"`) }

// Text is a sentence that may speak of values of any column: without what is quoted in it, where some are not told.
func (m Mask) Text(text string) string {
	if !m.Any() {
		return text
	}
	return Words(text)
}

// Error is an error without the values that are not told: of one that names a column, those of that column; of one about data that names
// none, all.
func (m Mask) Error(err error) error {
	if !m.Any() || err == nil {
		return err
	}
	var known *fault.Error
	if !errors.As(err, &known) {
		return err
	}
	if known.Column != "" && !m.Hides(known.Column) || known.Column == "" && known.Kind != fault.Input && known.Kind != fault.Schema {
		return err
	}
	hidden := *known
	if hidden.Value != nil {
		hidden.Value = new(Shown)
	}
	hidden.Reason, hidden.WayOut = Words(hidden.Reason), Words(hidden.WayOut)
	if hidden.Cause != nil {
		hidden.Cause = errors.New(Words(hidden.Cause.Error()))
	}
	if err == error(known) {
		return &hidden
	}
	return &around{err, &hidden}
}

// around is an error that is known by what it was, and tells of it without values.
type around struct {
	was    error
	hidden *fault.Error
}

func (a *around) Error() string { return a.hidden.Error() }

// Unwrap returns the error without values, before which none of those that it was is found.
func (a *around) Unwrap() error { return a.hidden }

// Is reports whether the error was another.
func (a *around) Is(target error) bool { return errors.Is(a.was, target) }
