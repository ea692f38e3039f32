package render

import (
	"fmt"
	"strings"

	"trevak/internal/inspect"
	"trevak/internal/scan"
	"trevak/internal/sniff"
)

// Preview writes reading rules and first records.
func Preview(s Screen, p *inspect.Preview) {
	name := p.Table
	if name == "" {
		name = p.Objects[0].Location
	}
	name = clean(name)
	s.Printf("%s\n", strings.Replace(Wrap(name+"  "+extent(p), s.Width), name, s.Bold(name), 1))
	var facts []fact
	for _, r := range p.Rules {
		facts = append(facts, ruleFact(r))
	}
	s.facts(facts)
	for _, other := range p.Others {
		for _, r := range other.Rules {
			s.Printf("  %s: %s %s: %s\n", clean(other.Location), r.Rule, r.Value, r.Why)
		}
	}
	if len(p.Columns) > 0 {
		s.Printf("\n")
		t := Table{Header: p.Columns}
		for _, row := range p.Rows {
			cells := make([]string, len(row))
			for i, c := range row {
				cells[i] = cellText(c)
			}
			t.Rows = append(t.Rows, cells)
		}
		t.Write(s)
	}
	for _, trouble := range p.Troubles {
		s.Printf("\n  cannot be read: %s\n", trouble)
	}
}

// longestCell keeps a cell readable even where a line has no end.
const longestCell = 400

// cellText tells null and absent values from empty texts.
func cellText(c scan.Cell) string {
	switch {
	case c.Absent:
		return ""
	case c.Null:
		return "·"
	case c.Text == "":
		return `""`
	}
	return cut(c.Text, longestCell)
}

func extent(p *inspect.Preview) string {
	text := fmt.Sprintf("%s, %s", Count(len(p.Objects), "object", "objects"), Size(p.Bytes))
	if p.Empty > 0 {
		text += fmt.Sprintf("; %s passed over", Count(p.Empty, "empty object", "empty objects"))
	}
	if p.Hidden > 0 {
		text += fmt.Sprintf("; %s passed over", Count(p.Hidden, "hidden object", "hidden objects"))
	}
	for i, p := range p.Passed {
		if i == 3 {
			text += "; …"
			break
		}
		text += fmt.Sprintf("; %s %s passed over", p.What, clean(p.Location))
	}
	return text
}

func ruleFact(r sniff.Reason) fact {
	why := r.Why
	if r.Unsure {
		why += " (unsure)"
	}
	if r.Unsure && r.Instead != "" {
		why += "; " + r.Instead
	}
	return fact{r.Rule, r.Value, why}
}
