// Package render writes results for people and for programs: aligned tables that fit the terminal, and JSON. It only formats;
// what it is given was computed elsewhere.
package render

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Table is rows of cells under a header.
type Table struct {
	Header []string
	Rows   [][]string
	// Right marks the columns whose cells stand to the right, numbers mostly.
	Right []bool
	// Indent is how many spaces stand before each line.
	Indent int
	// Keep says that no column is left out, however narrow the terminal.
	Keep bool
}

// gap stands between columns.
const gap = "  "

// widest is how wide a column may be when there is not room for all.
const widest = 32

// Write writes the table in at most the screen's width. Columns that have no room are left out and counted in a last line; cells
// that are too long are cut and end in an ellipsis.
func (t Table) Write(s Screen) {
	width := s.Width
	widths := make([]int, len(t.Header))
	for c, h := range t.Header {
		widths[c] = length(h)
		for _, row := range t.Rows {
			widths[c] = max(widths[c], length(clean(row[c])))
		}
	}
	shown := t.fit(widths, width)
	t.line(s, t.Header, widths[:shown], s.Bold)
	rule := make([]string, shown)
	for c := range rule {
		rule[c] = strings.Repeat("─", widths[c])
	}
	t.line(s, rule, widths[:shown], s.Faint)
	for _, row := range t.Rows {
		t.line(s, row, widths[:shown], plain)
	}
	if hidden := t.Header[shown:]; len(hidden) > 0 {
		text := fmt.Sprintf("%s not shown: %s", Count(len(hidden), "more column", "more columns"), strings.Join(hidden, ", "))
		s.Printf("%s%s\n", strings.Repeat(" ", t.Indent), cut(text, max(20, width-t.Indent)))
	}
}

// withoutEmpty leaves out columns that have no text in any row.
func (t Table) withoutEmpty() Table {
	out := Table{Rows: make([][]string, len(t.Rows)), Indent: t.Indent, Keep: t.Keep}
	for c, h := range t.Header {
		if !slices.ContainsFunc(t.Rows, func(row []string) bool { return row[c] != "" }) {
			continue
		}
		out.Header = append(out.Header, h)
		out.Right = append(out.Right, c < len(t.Right) && t.Right[c])
		for i, row := range t.Rows {
			out.Rows[i] = append(out.Rows[i], row[c])
		}
	}
	return out
}

// fit narrows the columns to the width and returns how many have room.
func (t Table) fit(widths []int, width int) int {
	total := func() int {
		n := t.Indent - len(gap)
		for _, w := range widths {
			n += w + len(gap)
		}
		return n
	}
	for total() > width {
		broadest := 0
		for c := range widths {
			if widths[c] > widths[broadest] {
				broadest = c
			}
		}
		if widths[broadest] <= widest/2 {
			break
		}
		widths[broadest]--
	}
	if t.Keep {
		return len(widths)
	}
	used := t.Indent
	for c, w := range widths {
		if used += w; used > width && c > 0 {
			return c
		}
		used += len(gap)
	}
	return len(widths)
}

func plain(text string) string { return text }

func (t Table) line(s Screen, cells []string, widths []int, style func(string) string) {
	var b strings.Builder
	b.WriteString(strings.Repeat(" ", t.Indent))
	for c, width := range widths {
		if c > 0 {
			b.WriteString(gap)
		}
		text := cut(clean(cells[c]), width)
		pad := strings.Repeat(" ", max(0, width-length(text)))
		if c < len(t.Right) && t.Right[c] {
			b.WriteString(pad + text)
		} else {
			b.WriteString(text + pad)
		}
	}
	s.Printf("%s\n", style(strings.TrimRight(b.String(), " ")))
}

// clean makes a cell one line without anything that a terminal would act on.
func clean(text string) string {
	if !strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) }) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case r == '\n':
			b.WriteString("⏎")
		case r == '\t':
			b.WriteString("⇥")
		case unicode.IsPrint(r):
			b.WriteRune(r)
		default:
			fmt.Fprintf(&b, "\\u%04x", r)
		}
	}
	return b.String()
}

// length counts the characters that a text takes on a line; those of East Asian scripts take two.
func length(text string) int {
	n := 0
	for _, r := range text {
		n += runeWidth(r)
	}
	return n
}

func runeWidth(r rune) int {
	switch {
	case unicode.In(r, unicode.Mn, unicode.Me):
		return 0
	case r >= 0x1100 && unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Hangul), r >= 0x1F300 && r <= 0x1FAFF,
		r >= 0xFF01 && r <= 0xFF60:
		return 2
	}
	return 1
}

// cut shortens a text to a width.
func cut(text string, width int) string {
	if length(text) <= width {
		return text
	}
	n, used := 0, 0
	for n < len(text) {
		r, size := utf8.DecodeRuneInString(text[n:])
		if used += runeWidth(r); used > width-1 {
			break
		}
		n += size
	}
	return text[:n] + "…"
}
