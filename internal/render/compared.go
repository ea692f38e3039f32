package render

import (
	"fmt"
	"strings"

	"trevak/internal/reconcile"
)

// Compared tells how two states of a table differ.
func Compared(s Screen, c *reconcile.Compared) {
	s.Printf("%s\n\n", s.Bold(c.Table))
	rows := fmt.Sprintf("%s, and %s after", Number(c.RowsBefore), Number(c.RowsAfter))
	if c.Open {
		rows = "open, as files of deletes of another program are there"
	}
	facts := []fact{{name: "before", value: stateText(c.Before)}, {name: "after", value: stateText(c.After)}, {name: "rows", value: rows}}
	for _, p := range []struct {
		name string
		n    int64
	}{{"added", c.Added}, {"removed", c.Removed}, {"altered", c.Altered}} {
		if p.name != "altered" || len(c.Key) > 0 {
			facts = append(facts, fact{name: p.name, value: Number(p.n)})
		}
	}
	by := strings.Join(c.Key, ", ")
	if by == "" {
		by = "all that they have, so that an altered row is one removed and one added; --key names columns"
	}
	facts = append(facts, fact{name: "told apart by", value: by})
	for i, change := range c.Changes {
		facts = append(facts, fact{name: []string{"columns", ""}[min(i, 1)], value: change})
	}
	facts = append(facts, fact{name: "files", value: fmt.Sprintf("%s read, %s in both states passed over", Number(int64(c.Files)),
		Number(int64(c.Shared)))}, fact{name: "time", value: fmt.Sprintf("%.2f s", c.Seconds)})
	s.facts(facts)
	if len(c.Examples) == 0 {
		return
	}
	s.Printf("\nSome of the rows:\n")
	for _, e := range c.Examples {
		what, place := "added", e.There
		switch {
		case e.Right == nil:
			what, place = "removed", e.Source
		case e.Left != nil && e.Guessed:
			what = "removed and added, alike but for"
		case e.Left != nil:
			what = "altered"
		}
		s.Printf("\n  %s: %s\n", what, place)
		if len(c.Key) > 0 || len(e.Cells) == 0 {
			s.Printf("%s\n", indented(Wrap(provedText(e.Key), max(20, s.Width-4)), "    "))
		}
		for _, cell := range e.Cells {
			s.Printf("    %s: %s before, %s after\n", cell.Column, oneProved(cell.Left), oneProved(cell.Right))
		}
	}
}

// ComparedJSON tells it for programs.
func ComparedJSON(s Screen, c *reconcile.Compared) error {
	type row struct {
		Change string             `json:"change"`
		Before null[string]       `json:"before_place"`
		After  null[string]       `json:"after_place"`
		Key    map[string]*string `json:"key_values"`
		Cells  []cellPairJSON     `json:"cells"`
		Guess  bool               `json:"paired_by_likeness"`
	}
	out := struct {
		Table      string       `json:"table"`
		Before     null[string] `json:"snapshot_id_before"`
		After      null[string] `json:"snapshot_id_after"`
		RowsBefore *int64       `json:"rows_before"`
		RowsAfter  *int64       `json:"rows_after"`
		Added      int64        `json:"rows_added"`
		Removed    int64        `json:"rows_removed"`
		Altered    int64        `json:"rows_altered"`
		Key        []string     `json:"key"`
		Changes    []string     `json:"changes"`
		Files      int          `json:"files_read"`
		Shared     int          `json:"files_shared"`
		Examples   []row        `json:"examples"`
		Seconds    float64      `json:"seconds"`
	}{c.Table, idText(c.Before.ID), idText(c.After.ID), nil, nil, c.Added, c.Removed, c.Altered, orEmpty(c.Key), orEmpty(c.Changes), c.Files,
		c.Shared, []row{}, c.Seconds}
	if !c.Open {
		out.RowsBefore, out.RowsAfter = &c.RowsBefore, &c.RowsAfter
	}
	for _, e := range c.Examples {
		r := row{"added", orNull(e.Source), orNull(e.There), map[string]*string{}, []cellPairJSON{}, e.Guessed}
		switch {
		case e.Right == nil:
			r.Change = "removed"
		case e.Left != nil:
			r.Change = "altered"
		}
		for _, cell := range e.Key {
			r.Key[cell.Column] = textOf(cell)
		}
		for _, cell := range e.Cells {
			r.Cells = append(r.Cells, cellPairJSON{cell.Column, textOf(cell.Left), textOf(cell.Right)})
		}
		out.Examples = append(out.Examples, r)
	}
	return JSON(s, out)
}
