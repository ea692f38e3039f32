package sniff

import (
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// lack is what records lack of the fields that there are.
type lack struct {
	// all is how many fields there are, least how many a record has at least, records how many have fewer than all.
	all, least, records int
}

// short reports whether records lack optional fields at their end: several do, or some below a header that names more; nothing
// that they have is out of place, and none has more. named is how many fields the header names, 0 without one.
func (t *trial) short(from, named int) (lack, bool) {
	widths := map[int]int{}
	for _, row := range t.rows[from:] {
		widths[len(row)]++
	}
	n := len(t.rows) - from
	l := lack{all: named}
	for w, count := range widths {
		if named == 0 && w > l.all && count >= min(2, n) {
			l.all = w
		}
	}
	for w, count := range widths {
		switch {
		case w > l.all:
			return l, false
		case w < l.all:
			l.records += count
			if l.least == 0 || w < l.least {
				l.least = w
			}
		}
	}
	if l.records == 0 || l.all < 3 || named == 0 && (l.records < 2 || 50*l.records < n) {
		return l, false
	}
	many := 10*l.records >= n
	if !many {
		l.least = max(l.least, l.all/2+1)
	}
	return l, t.inPlace(t.rows[from:], l, many)
}

// inPlace reports whether short records could lack the last fields and no others: none has a text where there are numbers or
// dates in the column, and each has most of the fields or, where many are short, a number or a date in its place.
func (t *trial) inPlace(rows [][]delimited.Field, l lack, many bool) bool {
	typed := make([]bool, l.all)
	for c := range typed {
		typed[c] = t.typed(rows, c)
	}
	for _, row := range rows {
		if len(row) == l.all {
			continue
		}
		told := 2*len(row) > l.all
		for c, f := range row {
			if !typed[c] || f.Text == "" {
				continue
			}
			switch class := schema.Classify([]byte(f.Text)); {
			case class == schema.ClassText:
				return false
			case class&schema.Word == 0 && many && len(row) > 1:
				told = true
			}
		}
		if !told {
			return false
		}
	}
	return true
}
