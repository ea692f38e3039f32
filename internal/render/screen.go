package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Screen is where text for people goes.
type Screen struct {
	io.Writer
	// Width is how many characters a line has room for.
	Width int
	// Styled says that bold and faint text can be shown.
	Styled bool
	// Sideways shows a table of so many rows part by part, as its reader asks for it; part draws one, and is empty beyond the last. It
	// returns false where it cannot. It is nil where nobody sits.
	Sideways func(rows int, part func(at int) string) bool
}

// Printf writes formatted text, without what a terminal would act on but our own styles. Who runs the program looks after
// errors of the writer.
func (s Screen) Printf(format string, args ...any) {
	io.WriteString(s, Harmless(fmt.Sprintf(format, args...)))
}

// styles are the sequences that style makes.
var styles = []string{"\x1b[0m", "\x1b[1m", "\x1b[2m"}

// Harmless escapes in a text of several lines whatever a terminal would act on, but for our own styles.
func Harmless(text string) string {
	if !strings.ContainsFunc(text, acts) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		if at := slices.IndexFunc(styles, func(style string) bool { return strings.HasPrefix(text[i:], style) }); at >= 0 {
			b.WriteString(styles[at])
			i += len(styles[at])
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if acts(r) {
			fmt.Fprintf(&b, "\\u%04x", r)
		} else {
			b.WriteString(text[i : i+size])
		}
		i += size
	}
	return b.String()
}

// acts reports whether a terminal does something other than to show a character.
func acts(r rune) bool {
	return r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r) && r != '\u200d' && r != '\u200c')
}

// Bold makes text stand out, where that can be shown.
func (s Screen) Bold(text string) string { return s.style("1", text) }

// Faint makes text step back, where that can be shown.
func (s Screen) Faint(text string) string { return s.style("2", text) }

// Alarm makes text red, where that can be shown; what it says is in its words, too.
func (s Screen) Alarm(text string) string { return s.style("31", text) }

func (s Screen) style(code, text string) string {
	if !s.Styled || text == "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

// fact is a name with what is known about it, and why where that is told.
type fact struct{ name, value, why string }

// facts writes names and values in columns. What is too long for the line goes on below, under its beginning.
func (s Screen) facts(facts []fact) {
	names, values := 0, 0
	for _, f := range facts {
		names = max(names, length(f.name))
		if f.why != "" {
			values = max(values, length(f.value)+len(gap))
		}
	}
	indent := 2 + names + len(gap)
	for _, f := range facts {
		text, hang := f.value, 0
		if f.why != "" {
			text, hang = f.why, values
		}
		for i, line := range wrap(text, max(24, s.Width-indent-hang)) {
			name, value := "", ""
			if i == 0 {
				name = f.name
				if f.why != "" {
					value = clean(f.value)
				}
			}
			s.Printf("  %s%*s%s%*s%s\n", s.Faint(name), indent-2-length(name), "", value, hang-length(value), "", line)
		}
	}
}

// Wrap breaks a text at spaces into lines of at most width characters, those after the first indented.
func Wrap(text string, width int) string {
	if length(text) <= width {
		return clean(text)
	}
	return strings.Join(wrap(text, max(24, width-2)), "\n  ")
}

// wrap breaks a text at spaces into lines of at most width characters.
func wrap(text string, width int) []string {
	text = clean(text)
	var lines []string
	for length(text) > width {
		at, used, last := 0, 0, -1
		for i, r := range text {
			if used += runeWidth(r); used > width {
				break
			}
			if r == ' ' {
				last = i
			}
			at = i
		}
		if last <= 0 {
			last = at
		}
		if last <= 0 {
			break
		}
		lines = append(lines, text[:last])
		text = text[last:]
		for len(text) > 0 && text[0] == ' ' {
			text = text[1:]
		}
	}
	return append(lines, text)
}
