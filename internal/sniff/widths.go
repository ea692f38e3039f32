package sniff

import (
	"bytes"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Lines tell of fixed widths when there are so many, and so many columns line up.
const (
	fewLines   = 5
	fewColumns = 2
)

// proposeWidths returns the widths of fields in whose places blanks line up through all lines looked at, as --widths takes
// them; it is empty where none do.
func (t *trial) proposeWidths() string {
	var lines [][]rune
	longest := 0
	for line := range bytes.Lines(t.head) {
		line = bytes.TrimRight(line, "\r\n")
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		if bytes.IndexByte(line, '\t') >= 0 || !utf8.Valid(line) || len(lines) == enoughRows {
			break
		}
		lines = append(lines, bytes.Runes(line))
		longest = max(longest, len(lines[len(lines)-1]))
	}
	if len(lines) < fewLines {
		return ""
	}
	blank := make([]bool, longest) // in all lines
	for i := range blank {
		blank[i] = true
		for _, line := range lines {
			blank[i] = blank[i] && (i >= len(line) || line[i] == ' ')
		}
	}
	var widths []string
	start := 0
	for i := 1; i <= longest; i++ {
		// A field goes on to where the next begins.
		if i < longest && (blank[i] || !blank[i-1]) {
			continue
		}
		if !mostHave(lines, start, i) {
			return ""
		}
		widths = append(widths, strconv.Itoa(i-start))
		start = i
	}
	if len(widths) < fewColumns {
		return ""
	}
	return strings.Join(widths, ",")
}

// mostHave reports whether most lines have something between two places.
func mostHave(lines [][]rune, from, to int) bool {
	n := 0
	for _, line := range lines {
		if strings.TrimSpace(string(line[min(from, len(line)):min(to, len(line))])) != "" {
			n++
		}
	}
	return 2*n >= len(lines)
}
