// Package setting is everything that a flow can be asked to do, in one table: its key in feed files, its flag, what it means,
// and how it is set and read.
//
// What comes in are texts, of a command line or of a feed file; what goes out is a Flow, and of that the tasks that the
// packages before this one carry out. Flags, feed files, what is emitted of them and their JSON Schema all come of the table.
package setting

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Section groups settings that are told of together.
type Section string

// The sections. Those of Source and Load are told of with a command's own flags.
const (
	Source  Section = "source"
	Reading Section = "reading"
	Records Section = "records"
	Columns Section = "columns"
	Form    Section = "form"
	Layout  Section = "layout"
	Load    Section = "load"
)

// Setting is one thing that a flow can be asked.
type Setting struct {
	Section Section
	// Key is where it stands in a feed file, with points between the parts, Flag its name on the command line without hyphens;
	// either may be empty.
	Key, Flag string
	// Usual is what holds where nothing is said, as text.
	Usual string
	// Words are all that it takes, where these are few.
	Words []string
	// Meaning says what it does; a word in backquotes stands for its value.
	Meaning string

	of func(f *Flow) any
}

// Kind is what values a setting takes.
type Kind uint8

// The kinds. A List has its values with commas between them on the command line, a Many is given once for each. Numbers lists
// whole numbers with commas between them.
const (
	Text Kind = iota
	YesNo
	Number
	List
	Many
	Numbers
)

// Repeated is the values of a setting that is given once for each.
type Repeated []string

// Joined is a setting that may be given several times; its values are joined by commas.
type Joined string

func (j *Joined) String() string { return string(*j) }

// Type names the values for those who list flags.
func (j *Joined) Type() string { return "string" }

// Set adds a value.
func (j *Joined) Set(text string) error {
	if *j != "" {
		text = string(*j) + "," + text
	}
	*j = Joined(text)
	return nil
}

// Kind returns what values a setting takes.
func (s Setting) Kind() Kind {
	switch s.of(&Flow{}).(type) {
	case *bool:
		return YesNo
	case *int:
		return Number
	case *[]string:
		return List
	case *Repeated:
		return Many
	}
	if s.Key == "reading.widths" {
		return Numbers
	}
	return Text
}

// Pointer returns where a flow has the setting: a *string, *Joined, *bool, *int, *time.Duration, *[]string or *Repeated.
func (s Setting) Pointer(f *Flow) any { return s.of(f) }

// Set gives a flow values of a setting, in the place of those that it has.
func (s Setting) Set(f *Flow, values []string) (err error) {
	one := strings.Join(values, ",")
	switch p := s.of(f).(type) {
	case *string:
		*p = one
	case *Joined:
		*p = Joined(one)
	case *bool:
		*p, err = strconv.ParseBool(one)
	case *int:
		*p, err = strconv.Atoi(one)
	case *time.Duration:
		*p, err = time.ParseDuration(one)
	case *[]string:
		*p = slices.Clone(values)
	case *Repeated:
		*p = slices.Clone(values)
	}
	if err != nil {
		return fmt.Errorf("%q is not what it takes: %w", one, err)
	}
	return nil
}

// Get returns the values that a flow has of a setting, none where it has none.
func (s Setting) Get(f *Flow) []string {
	text := ""
	switch p := s.of(f).(type) {
	case *string:
		text = *p
	case *Joined:
		text = string(*p)
	case *bool:
		text = strconv.FormatBool(*p)
	case *int:
		text = strconv.Itoa(*p)
	case *time.Duration:
		text = p.String()
	case *[]string:
		return *p
	case *Repeated:
		return *p
	}
	if text == "" {
		return nil
	}
	return []string{text}
}

// ByFlag returns the setting of a flag; ok is false without one.
func ByFlag(name string) (s Setting, ok bool) {
	at := slices.IndexFunc(Table, func(s Setting) bool { return s.Flag == name && name != "" })
	if at < 0 {
		return Setting{}, false
	}
	return Table[at], true
}

// ByKey returns the setting of a key in feed files; ok is false without one.
func ByKey(key string) (s Setting, ok bool) {
	at := slices.IndexFunc(Table, func(s Setting) bool { return s.Key == key && key != "" })
	if at < 0 {
		return Setting{}, false
	}
	return Table[at], true
}

// New returns a flow with what is usual.
func New() *Flow {
	f := &Flow{stated: map[string]bool{}}
	for _, s := range Table {
		if s.Usual != "" {
			// What is usual is what the setting takes: a test holds that.
			_ = s.Set(f, []string{s.Usual})
		}
	}
	return f
}

// State notes that flags were stated.
func (f *Flow) State(flags ...string) {
	for _, name := range flags {
		f.stated[name] = true
	}
}

// Stated reports whether a flag was stated.
func (f *Flow) Stated(flag string) bool { return f.stated[flag] }
