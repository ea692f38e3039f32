package scan

import (
	"bytes"
	"context"
	stdjson "encoding/json"
	"errors"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/rowtext"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/table"
)

// Rows is what a piece of an object gives. There is no batch when a wider schema is needed.
type Rows struct {
	fit.Result
	// Block is the piece of text that the records were in, or tells of the object alone. Its Data is kept while there is
	// something of it to tell.
	Block parse.Block
	// Bytes is how much text that was.
	Bytes int
	// Ranks is the number of each row's record among the piece's records, from 0; nil where each record became a row.
	Ranks []int64
	// Misfit holds for each row its misfits as JSON, empty for none; nil where no row has any.
	Misfit []string
	// Raws are the records that the rows are, as JSON, where they were asked for.
	Raws []string
	// Skipped counts the records that were passed over, Filled those that lacked fields at their end.
	Skipped, Filled int
	// Numbered says that the records are rows of a file, of which Before came before.
	Numbered bool
	Before   int64
	// Records are those that rows were made of, of which a condition kept out Filtered. Elements are how many elements the
	// lists have that were split off.
	Records, Filtered int64
	Elements          []int64

	// Broken are rows that break rules, by rule, as whoever looks at rows before they are in order may note them.
	Broken [][]int32

	astray bool    // a record was taken to begin where none does
	starts []int   // where in the block the records begin that rows are
	ends   []int   // and where they end
	shaped *shaped // what they became in another form, until that is fitted
	counts []int64 // of rows that come of each record, where these were counted
	keep   bool    // something is to be told of the block's text
}

// leave lets go of the block's text, which is the worker's, and keeps a copy where something of it is to be told.
func (r *Rows) leave() {
	if r.keep {
		r.Block.Data = bytes.Clone(r.Block.Data)
	} else {
		r.Block.Data = nil
	}
}

// ErrWider says that the schema is too narrow for the rest of the source.
var ErrWider = errors.New("the schema that was inferred has no room for it")

// Widens reports whether a wider schema would take a value that was met.
func (r *Rows) Widens() bool {
	return r.astray || slices.ContainsFunc(r.Problems, func(p parse.Problem) bool { return p.Widens })
}

// Wider is ErrWider with the value that asks for it, which is told where no wider schema helps.
func (r *Rows) Wider(objects []source.Input) error {
	for _, p := range r.Problems {
		if p.Widens {
			e := ProblemError(objects[r.Block.Object].Location, r.Block.LineAt(p.Start), p)
			e.Cause = ErrWider
			return e
		}
	}
	return ErrWider
}

// ProblemError makes an error of a record that cannot become a row.
func ProblemError(location string, line int64, p parse.Problem) *fault.Error {
	e := &fault.Error{Kind: fault.Input, Object: location, Line: line, Column: p.Column, Reason: p.Reason, WayOut: p.WayOut}
	if p.Column == "" {
		e.Reason = "the record " + p.Reason
		return e
	}
	e.Kind, e.Value = fault.Schema, &p.Value
	return e
}

// Keep has the text of the block kept until the rows are taken.
func (r *Rows) Keep() { r.keep = true }

// Span is where in its block the record of a row lies, where that was asked for; the text is there where it was kept.
func (r *Rows) Span(row int) (start, end int) {
	if r.starts == nil || r.ends == nil {
		return 0, 0
	}
	return r.starts[row], r.ends[row]
}

// LineAt is the line in which the record of a row begins, 0 where there are no lines or that was not asked for.
func (r *Rows) LineAt(row int) int64 {
	if r.Numbered || r.starts == nil || r.Block.Data == nil || r.starts[row] > len(r.Block.Data) {
		return 0
	}
	return r.Block.LineAt(r.starts[row])
}

// Only keeps some rows, by their places in order.
func (r *Rows) Only(ctx context.Context, kept []int32) error { return r.only(ctx, kept) }

// Rank returns the number of a row's record among the piece's, from 0.
func (r *Rows) Rank(row int) int64 {
	if r.Ranks != nil {
		return r.Ranks[row]
	}
	return int64(row)
}

// LineOf returns the line of a misfit, or the number of its row where records are rows of a file; numbered tells which.
func (r *Rows) LineOf(m fit.Misfit) (line int64, numbered bool) {
	if r.Numbered {
		return r.Before + int64(m.Row) + 1, true
	}
	return r.Block.LineAt(m.Start), false
}

// Columns tells for each object where the columns of a target are.
type Columns struct {
	// Fields are the field of each column, -1 where the object does not have it; Kept the fields that no column is read from.
	Fields [][]int
	Kept   [][]fit.Kept
	// Missing are the columns that no object has, Folded the names that differ from their columns in letter case.
	Missing []int
	Folded  map[string]string
}

// Find finds the columns of a target in the objects of a source.
func Find(from Source, target Target) *Columns {
	s, exact := target.Schema, !target.Fixed
	out := &Columns{Folded: map[string]string{}}
	index := schema.NewIndex(s.Fields, target.Style)
	found := make([]bool, len(s.Fields))
	for _, in := range from.Objects() {
		columns := make([]int, len(s.Fields))
		for i := range columns {
			columns[i] = -1
		}
		var kept []fit.Kept
		for i, name := range in.Rules.Names {
			at, caseOnly := index.Look(name)
			if at >= 0 && s.Fields[at].Added {
				// What the program fills is no column for what the source has.
				at = -1
			}
			switch {
			case slices.Contains(s.Omit, name), at < 0 && name == table.OriginField.Name:
			case at >= 0 && columns[at] < 0 && !(caseOnly && exact):
				columns[at], found[at] = i, true
				if caseOnly {
					out.Folded[s.Fields[at].Name] = name
				}
			case !s.OmitRest:
				kept = append(kept, fit.Kept{Field: i, Name: name})
			}
		}
		out.Fields, out.Kept = append(out.Fields, columns), append(out.Kept, kept)
	}
	for i, f := range s.Fields {
		if from.Named() && !found[i] && !f.Added && !f.Skip && f.Name != schema.MisfitColumn {
			out.Missing = append(out.Missing, i)
		}
	}
	return out
}

// Unknown reports whether an object has a field that no column is read from.
func (c *Columns) Unknown() bool {
	return slices.ContainsFunc(c.Kept, func(kept []fit.Kept) bool { return len(kept) > 0 })
}

// tellMisfits puts misfits in the order of rows, and writes them for each row.
func (r *Rows) tellMisfits(list []fit.Misfit) {
	if len(list) == 0 {
		return
	}
	slices.SortStableFunc(list, func(a, b fit.Misfit) int { return a.Row - b.Row })
	r.Misfit = misfitTexts(list, int(r.Batch.NumRows()))
}

// misfitTexts writes the misfits of each row as a JSON object of column and raw value. They come in the order of the rows.
func misfitTexts(list []fit.Misfit, rows int) []string {
	texts := make([]string, rows)
	for at := 0; at < len(list); {
		row := list[at].Row
		text := []byte{'{'}
		for ; at < len(list) && list[at].Row == row; at++ {
			if len(text) > 1 {
				text = append(text, ',')
			}
			text = append(append(text, quoted(list[at].Column)...), ':')
			if list[at].JSON {
				text = append(text, list[at].Text...)
			} else {
				text = append(text, quoted(list[at].Text)...)
			}
		}
		texts[row] = string(append(text, '}'))
	}
	return texts
}

// quoted writes a text as JSON.
func quoted(text string) []byte {
	var b bytes.Buffer
	e := stdjson.NewEncoder(&b)
	e.SetEscapeHTML(false)
	// Texts can always be encoded.
	_ = e.Encode(text)
	return bytes.TrimRight(b.Bytes(), "\n")
}

// cellOf writes a value as text.
func cellOf(column arrow.Array, row int) Cell {
	if column.IsNull(row) {
		return Cell{Null: true}
	}
	text := rowtext.AppendText(nil, column, row)
	return Cell{Text: string(text), Plain: string(text) == string(rowtext.AppendJSON(nil, column, row))}
}
