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
	// Ends marks the columns whose cells lose their beginning where they are too long, not their end: places mostly.
	Ends []bool
	// Indent is how many spaces stand before each line.
	Indent int
	// Keep says that no column is left out, however narrow the terminal: what has no room goes below, behind the first column again.
	Keep bool
}

// gap stands between columns.
const gap = "  "

// Write writes the table in at most the screen's width. Cells that are too long are cut and end in an ellipsis. Columns that have no
// room are left out and counted in a last line, or follow below.
func (t Table) Write(s Screen) {
	widths := make([]int, len(t.Header))
	for c, h := range t.Header {
		widths[c] = length(h)
		for _, row := range t.Rows {
			widths[c] = max(widths[c], length(clean(row[c])))
		}
	}
	wanted := slices.Clone(widths)
	shown := t.fit(widths, s.Width, narrowest)
	if shown < len(widths) && t.Keep {
		// What goes below has more room.
		widths = wanted
		shown = t.fit(widths, s.Width, max(broad, s.Width-t.Indent-widths[0]-len(gap)))
	}
	parts := t.parts(widths, shown, s.Width)
	if len(parts) > 1 && s.Sideways != nil && s.Sideways(len(t.Rows), func(at int) string { return t.drawn(s, widths, parts, at) }) {
		return
	}
	if hidden := t.Header[shown:]; len(hidden) > 0 && !t.Keep {
		t.part(s, widths, 0, shown)
		text := fmt.Sprintf("%s not shown: %s", Count(len(hidden), "more column", "more columns"), strings.Join(hidden, ", "))
		hint := "; --columns-shown picks others"
		if s.Width < 2*len(hint) {
			hint = ""
		}
		s.Printf("%s%s%s\n", strings.Repeat(" ", t.Indent), cut(text, max(20, s.Width-t.Indent-len(hint))), hint)
		return
	}
	for i, part := range parts {
		if i > 0 {
			s.Printf("\n")
		}
		t.part(s, widths, part[0], part[1])
	}
}

// parts divides the columns, of which the first few have room beside each other, into parts that have room each; those after the first
// have the first column before their own.
func (t Table) parts(widths []int, shown, width int) (out [][2]int) {
	for from := 0; from < len(widths); from = shown {
		if from > 0 {
			rest := append([]int{widths[0]}, widths[from:]...)
			shown = max(from+1, from-1+t.room(rest, width))
		}
		out = append(out, [2]int{from, shown})
	}
	return out
}

// drawn is a part as text, with a line below that says which columns these are. It is empty where there is no part.
func (t Table) drawn(s Screen, widths []int, parts [][2]int, at int) string {
	if at < 0 || at >= len(parts) {
		return ""
	}
	var b strings.Builder
	to := s
	to.Writer = &b
	t.part(to, widths, parts[at][0], parts[at][1])
	return b.String() + fmt.Sprintf("columns %d to %d of %d", parts[at][0]+1, parts[at][1], len(widths))
}

// part writes some columns, behind the first one where they are not the first.
func (t Table) part(s Screen, widths []int, from, to int) {
	pick := func(cells []string) []string {
		if from == 0 {
			return cells[:to]
		}
		return append([]string{cells[0]}, cells[from:to]...)
	}
	p := Table{Indent: t.Indent}
	marked := func(list []bool, c int) bool { return c < len(list) && list[c] }
	rule := make([]string, len(widths))
	for c, w := range widths {
		rule[c] = strings.Repeat("─", w)
		if c == 0 || c >= from && c < to {
			p.Right, p.Ends = append(p.Right, marked(t.Right, c)), append(p.Ends, marked(t.Ends, c))
		}
	}
	if from > 0 {
		widths = append([]int{widths[0]}, widths[from:to]...)
	} else {
		widths = widths[:to]
	}
	p.line(s, pick(t.Header), widths, s.Bold)
	p.line(s, pick(rule), widths, s.Faint)
	for _, row := range t.Rows {
		p.line(s, pick(row), widths, plain)
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
		out.Ends = append(out.Ends, c < len(t.Ends) && t.Ends[c])
		for i, row := range t.Rows {
			out.Rows[i] = append(out.Rows[i], row[c])
		}
	}
	return out
}

// narrowest is how narrow a column becomes where there is not room for all, broad where some go below others.
const (
	narrowest = 16
	broad     = 32
)

// fit narrows the broadest columns so that there is room for all, but not below some width, and returns how many have room. The first
// one, which names the rows, stays broad.
func (t Table) fit(widths []int, width, least int) int {
	total := func() int {
		n := t.Indent - len(gap)
		for _, w := range widths {
			n += w + len(gap)
		}
		return n
	}
	for total() > width {
		broadest := -1
		for c := range widths {
			floor := least
			if c == 0 {
				floor = min(broad, width/2)
			}
			if widths[c] > floor && (broadest < 0 || widths[c] > widths[broadest]) {
				broadest = c
			}
		}
		if broadest < 0 {
			break
		}
		widths[broadest]--
	}
	return t.room(widths, width)
}

// room returns how many columns have room beside each other, one at least.
func (t Table) room(widths []int, width int) int {
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
		if c < len(t.Ends) && t.Ends[c] {
			text = cutBefore(clean(cells[c]), width)
		}
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

// cutBefore shortens a text to a width by its beginning.
func cutBefore(text string, width int) string {
	if length(text) <= width {
		return text
	}
	used, at := 1, len(text)
	for at > 0 {
		r, size := utf8.DecodeLastRuneInString(text[:at])
		if used += runeWidth(r); used > width {
			break
		}
		at -= size
	}
	return "…" + text[at:]
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
