package render

import (
	"fmt"
	"strings"

	"trevak/internal/prove"
	"trevak/internal/reconcile"
)

// Reconciled tells what came of holding a source against what is there.
func Reconciled(s Screen, r *reconcile.Result) {
	s.Printf("%s\n", s.Bold(Wrap(verdict(r), s.Width)))
	s.Printf("\n")
	objects := Table{Header: []string{"object", "read", "quarantined", "skipped", "gives rows", "in the ledger", "there", ""},
		Right: []bool{false, true, true, true, true, true, true}, Ends: []bool{true}, Indent: 2, Keep: true}
	for i, o := range r.Objects {
		if i == objectsShown {
			objects.Rows = append(objects.Rows, []string{fmt.Sprintf("… %d more", len(r.Objects)-i), "", "", "", "", "", "", ""})
			break
		}
		objects.Rows = append(objects.Rows, objectCells(o))
	}
	objects.Write(s)
	s.Printf("\n")
	var facts []fact
	add := func(name string, n int64, what string) {
		if n > 0 {
			facts = append(facts, fact{name: name, value: Number(n) + what})
		}
	}
	facts = append(facts, fact{name: "rows", value: fmt.Sprintf("%s in the source, %s there", Number(r.Rows), Number(r.There))})
	add("missing", r.Missing, " of the source are not there")
	add("surplus", r.Surplus, " are there that the source does not have")
	add("altered", r.Altered, " are there with other values")
	add("elsewhere", r.Elsewhere, " are there already as rows of other objects, with the same values")
	add("superseded", r.Superseded, " gave way to later rows of their key")
	add("others", r.Others, " of other objects, which were not compared")
	if len(r.Key) > 0 && !r.ByLineage {
		facts = append(facts, fact{name: "told apart by", value: strings.Join(r.Key, ", ")})
	}
	if r.Unknown {
		facts = append(facts, fact{name: "ledger", value: "knows none of these objects, so they were held against all rows of the table"})
	}
	for _, l := range r.Left {
		facts = append(facts, fact{name: "not compared", value: l.Column + ", which " + l.Why})
	}
	facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s", r.Seconds)})
	s.facts(facts)
	s.Printf("\n")
	columnsTable(r).Write(s)
	examplesText(s, r)
}

// verdict says in one line whether both sides agree.
func verdict(r *reconcile.Result) string {
	if r.Agree {
		text := fmt.Sprintf("%s agrees with its source: %s and %s", r.With, Count(int(r.Rows), "row", "rows"),
			Count(len(r.Columns), "column", "columns"))
		if n := r.Elsewhere + r.Superseded; n > 0 {
			text += fmt.Sprintf(", of which %s made way for others of their key", Number(n))
		}
		return text
	}
	var parts []string
	for _, p := range []struct {
		n    int64
		what string
	}{{r.Missing, "missing"}, {r.Surplus, "surplus"}, {r.Altered, "altered"}} {
		if p.n > 0 {
			parts = append(parts, Number(p.n)+" "+p.what)
		}
	}
	return fmt.Sprintf("%s DIFFERS from its source: of %s, %s", r.With, Count(int(r.Rows), "row", "rows"), strings.Join(parts, ", "))
}

func objectCells(o reconcile.Object) []string {
	ledger, there, note := "-", "-", ""
	if o.Loads > 0 {
		ledger = Number(o.LedgerRows)
	}
	if o.There >= 0 {
		there = Number(o.There)
	}
	switch {
	case o.KnownAs != "":
		note = "was loaded as " + o.KnownAs
	case o.Other:
		note = "is another now than when it was loaded"
	case o.Loads > 1:
		note = fmt.Sprintf("was loaded %d times", o.Loads)
	case o.Loads == 1 && o.LedgerBad != o.RecordsQuarantined:
		note = fmt.Sprintf("%s were quarantined when it was loaded", Number(o.LedgerBad))
	}
	return []string{o.Location, Number(o.RecordsRead), Number(o.RecordsQuarantined), Number(o.RecordsSkipped + o.RecordsFiltered),
		Number(o.RowsWritten), ledger, there, note}
}

// columnsTable has a line for each column, and one below for the other side where it differs.
func columnsTable(r *reconcile.Result) Table {
	t := Table{Header: []string{"column", "", "values", "nulls", "distinct", "sum", "length", "smallest", "largest", "hash"},
		Right: []bool{false, false, true, true, true, true, true}, Keep: true, Indent: 2}
	for _, c := range r.Columns {
		if c.Same {
			t.Rows = append(t.Rows, factCells(c.Name, "same", c.Source))
			continue
		}
		t.Rows = append(t.Rows, factCells(c.Name, "source", c.Source), factCells("", "there", c.There))
	}
	return t
}

func factCells(name, side string, f prove.Facts) []string {
	distinct := Number(f.Distinct)
	if !f.Exact {
		distinct = "~" + distinct
	}
	return []string{name, side, Number(f.Values), Number(f.Nulls), distinct, f.Sum, count(f.Length), cut(f.Smallest, longestExtreme),
		cut(f.Largest, longestExtreme), fmt.Sprintf("%016x", f.High)[:8] + fmt.Sprintf("%016x", f.Low)[:4]}
}

// examplesText writes the first rows that differ.
func examplesText(s Screen, r *reconcile.Result) {
	if len(r.Examples) == 0 {
		return
	}
	s.Printf("\nThe first rows that differ:\n")
	shown := int64(0)
	for _, e := range r.Examples {
		places := e.Source
		switch {
		case e.Source == "":
			places = e.There + ", not in the source"
		case e.There == "":
			places += ", not there"
		case e.Guessed:
			places += " and " + e.There + ", taken for the same row, as they are alike but for"
			shown++
		default:
			places += " and " + e.There
		}
		shown++
		s.Printf("\n  %s\n", places)
		if len(r.Key) > 0 && !r.ByLineage {
			s.Printf("  %s\n", provedText(e.Key))
		}
		for _, c := range e.Cells {
			s.Printf("    %s: %s in the source, %s there\n", c.Column, oneProved(c.Left), oneProved(c.Right))
		}
		if len(e.Cells) == 0 && len(r.Key) == 0 {
			s.Printf("%s\n", indented(Wrap(provedText(e.Key), max(20, s.Width-4)), "    "))
		}
	}
	if all := r.Missing + r.Surplus + r.Altered; all > shown {
		s.Printf("\n  and more: %s differ in all\n", Count(int(all), "row", "rows"))
	}
}

func indented(text, by string) string { return by + strings.ReplaceAll(text, "\n", "\n"+by) }

func provedText(cells []prove.Cell) string {
	var parts []string
	for _, c := range cells {
		if !strings.HasPrefix(c.Column, "\x00") {
			parts = append(parts, c.Column+" "+oneProved(c))
		}
	}
	return strings.Join(parts, ", ")
}

func oneProved(c prove.Cell) string {
	if c.Null {
		return "null"
	}
	if strings.HasPrefix(c.Text, "{") || strings.HasPrefix(c.Text, "[") {
		return cut(c.Text, longestProved)
	}
	return fmt.Sprintf("%q", cut(c.Text, longestProved))
}

// longestProved is how much of a value that differs is shown.
const longestProved = 60

type factsJSON struct {
	Values   int64        `json:"values"`
	Nulls    int64        `json:"nulls"`
	Distinct int64        `json:"distinct"`
	Exact    bool         `json:"distinct_exact"`
	Sum      null[string] `json:"sum"`
	Length   int64        `json:"length_sum"`
	Smallest null[string] `json:"smallest"`
	Largest  null[string] `json:"largest"`
	Hash     string       `json:"hash"`
}

func factsOf(f prove.Facts) factsJSON {
	return factsJSON{f.Values, f.Nulls, f.Distinct, f.Exact, orNull(f.Sum), f.Length, orNull(f.Smallest), orNull(f.Largest),
		fmt.Sprintf("%016x%016x", f.High, f.Low)}
}

type cellPairJSON struct {
	Column string  `json:"column"`
	Source *string `json:"in_source"`
	There  *string `json:"in_target"`
}

type exampleJSON struct {
	Source null[string]       `json:"source"`
	There  null[string]       `json:"target"`
	Key    map[string]*string `json:"key_values"`
	Cells  []cellPairJSON     `json:"cells"`
	Guess  bool               `json:"paired_by_likeness"`
}

// ReconciledJSON tells it for programs.
func ReconciledJSON(s Screen, r *reconcile.Result) error {
	type object struct {
		Location string `json:"location"`
		countsJSON
		Loads      int          `json:"loads"`
		LedgerRows int64        `json:"ledger_rows"`
		LedgerBad  int64        `json:"ledger_quarantined"`
		There      *int64       `json:"rows_there"`
		Other      bool         `json:"changed_since"`
		KnownAs    null[string] `json:"known_as"`
	}
	type column struct {
		Name   string    `json:"name"`
		Type   string    `json:"type"`
		Same   bool      `json:"same"`
		Source factsJSON `json:"source_facts"`
		There  factsJSON `json:"target_facts"`
	}
	type left struct {
		Column string `json:"column"`
		Why    string `json:"why"`
	}
	out := struct {
		With       string        `json:"with"`
		Agree      bool          `json:"agree"`
		Unknown    bool          `json:"objects_unknown"`
		Rows       int64         `json:"rows"`
		There      int64         `json:"rows_there"`
		Others     int64         `json:"rows_of_others"`
		Missing    int64         `json:"rows_missing"`
		Surplus    int64         `json:"rows_surplus"`
		Altered    int64         `json:"rows_altered"`
		Elsewhere  int64         `json:"rows_elsewhere"`
		Superseded int64         `json:"rows_superseded"`
		Key        []string      `json:"key"`
		Objects    []object      `json:"objects"`
		Columns    []column      `json:"columns"`
		Left       []left        `json:"not_compared"`
		Examples   []exampleJSON `json:"examples"`
		Seconds    float64       `json:"seconds"`
	}{r.With, r.Agree, r.Unknown, r.Rows, r.There, r.Others, r.Missing, r.Surplus, r.Altered, r.Elsewhere, r.Superseded,
		[]string{}, []object{},
		[]column{}, []left{}, []exampleJSON{}, r.Seconds}
	if !r.ByLineage {
		out.Key = orEmpty(r.Key)
	}
	for _, o := range r.Objects {
		there := &o.There
		if o.There < 0 {
			there = nil
		}
		out.Objects = append(out.Objects, object{o.Location, countsOf(o.Counts), o.Loads, o.LedgerRows, o.LedgerBad, there, o.Other,
			orNull(o.KnownAs)})
	}
	for _, c := range r.Columns {
		out.Columns = append(out.Columns, column{c.Name, c.Type, c.Same, factsOf(c.Source), factsOf(c.There)})
	}
	for _, l := range r.Left {
		out.Left = append(out.Left, left(l))
	}
	for _, e := range r.Examples {
		x := exampleJSON{orNull(e.Source), orNull(e.There), map[string]*string{}, []cellPairJSON{}, e.Guessed}
		for _, c := range e.Key {
			if !strings.HasPrefix(c.Column, "\x00") {
				x.Key[c.Column] = textOf(c)
			}
		}
		for _, c := range e.Cells {
			x.Cells = append(x.Cells, cellPairJSON{c.Column, textOf(c.Left), textOf(c.Right)})
		}
		out.Examples = append(out.Examples, x)
	}
	return JSON(s, out)
}

func textOf(c prove.Cell) *string {
	if c.Null {
		return nil
	}
	return &c.Text
}
