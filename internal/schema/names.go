package schema

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"trevak/internal/wording"
)

// NameStyle is how column names are made from the names of a source.
type NameStyle uint8

// SafeNames keeps letters, digits and _ in the case they have; runs of anything else become one _, none at the end, and a
// leading digit gets a _ before it. KeepNames keeps every name as it is. SnakeNames writes words in lower case with _ between
// them.
const (
	SafeNames NameStyle = iota
	KeepNames
	SnakeNames
)

var nameStyles = [...]string{"safe", "keep", "snake"}

func (n NameStyle) String() string { return nameStyles[n] }

// ParseNameStyle reads safe, keep or snake.
func ParseNameStyle(text string) (NameStyle, bool) {
	for i, s := range nameStyles {
		if s == text {
			return NameStyle(i), true
		}
	}
	return 0, false
}

// one makes one name, which is empty for one that has no legal characters.
func (n NameStyle) one(name string) string {
	switch n {
	case KeepNames:
		return name
	case SnakeNames:
		return snakeName(name)
	}
	return safeName(name)
}

// snakeName puts _ between words, which also begin at a capital letter after a small one, and writes all in lower case.
func snakeName(name string) string {
	var b strings.Builder
	var last rune
	for _, r := range safeName(name) {
		if unicode.IsUpper(r) && (unicode.IsLower(last) || unicode.IsDigit(last)) {
			b.WriteByte('_')
		}
		if r != '_' || last != '_' {
			b.WriteRune(unicode.ToLower(r))
		}
		last = r
	}
	if trimmed := strings.TrimRight(b.String(), "_"); trimmed != "" {
		return trimmed
	}
	return b.String()
}

// Make makes distinct column names from the names of a source, one for one: an empty name becomes cN by its
// position, and names that differ only in letter case are told apart by a number at the end.
func (n NameStyle) Make(raw []string) []string {
	out := make([]string, len(raw))
	// A name that is legal as it stands keeps it; the others make way.
	taken := make(map[string]bool, len(raw))
	for i, name := range raw {
		if folded := strings.ToLower(name); name != "" && n.one(name) == name && !taken[folded] {
			out[i] = name
			taken[folded] = true
		}
	}
	for i, name := range raw {
		if out[i] != "" {
			continue
		}
		base := n.one(name)
		if base == "" {
			base = "c" + strconv.Itoa(i+1)
		}
		candidate := base
		for number := 2; taken[strings.ToLower(candidate)]; number++ {
			candidate = base + "_" + strconv.Itoa(number)
		}
		taken[strings.ToLower(candidate)] = true
		out[i] = candidate
	}
	return out
}

// safeName applies the rule to one name, with white space around it left out. It ends in no _ that was not there before, so the
// result is empty for a name without letters, digits and _.
func safeName(name string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.TrimSpace(name) {
		if r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			gap = true
			continue
		}
		if gap || (b.Len() == 0 && unicode.IsDigit(r)) {
			b.WriteByte('_')
		}
		gap = false
		b.WriteRune(r)
	}
	return b.String()
}

// mostListed is how many names a message lists.
const mostListed = 10

// Choices says which of the names of columns a mistyped one may have meant, or, where none is near, what there are.
func Choices(name string, names []string) string {
	if near := wording.Nearest(name, names); len(near) > 0 {
		return wording.Meant(near)
	}
	return "the columns are " + Some(names)
}

// Some lists names, the first of many.
func Some(names []string) string {
	if more := len(names) - mostListed; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:mostListed], ", "), more)
	}
	return strings.Join(names, ", ")
}
