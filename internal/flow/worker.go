package flow

import (
	"bytes"
	stdjson "encoding/json"
	"slices"
	"sort"
	"strconv"
	"strings"

	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
	"trevak/internal/sniff"
)

// parser returns the parser of an object of delimited text.
func parser(r sniff.Rules) delimited.Parser {
	p := delimited.Parser{Dialect: r.Dialect, Width: len(r.Names), Pad: r.Pad, Least: r.Least, SkipBlank: r.SkipBlank}
	p.Skip = r.HeaderRows
	if r.HeaderRows == 1 {
		p.Header = strings.TrimRight(r.HeaderText, "\r\n")
	}
	return p
}

// parseJSON finds the records of a block of JSON.
func parseJSON(records *json.Records, in Input, block *parse.Block) {
	records.MaxDepth, records.Lenient = in.Limits.Depth, in.Rules.Lenient
	if in.Rules.Format == sniff.JSONLines || in.Rules.Format == sniff.Sheet {
		records.Parse(block)
	} else {
		records.ParseValues(block)
	}
}

// fitted is what a worker makes of a block. There is no batch when a wider schema is needed.
type fitted struct {
	fit.Result
	// ranks is the number of each row's record among the block's records, from 0; nil where each record became a row.
	ranks []int64
	// misfits holds for each row its misfits as JSON, empty for none; nil where no row has any.
	misfits []string
	// raws are the records that the rows are, as JSON, where they are kept.
	raws []string
	// skipped counts the records that were passed over.
	skipped int
	// filled counts the records that lacked fields at their end.
	filled int
	// raw is the block's data, kept while there is something of it to tell.
	raw []byte
	// rows says that the rows came as such, before how many rows of the object there were before them.
	rows   bool
	before int64
	// formed says that rows were given another form: there were records of them, of which a condition kept out filtered.
	formed            bool
	records, filtered int64
	// elements are how many elements the lists have that were split off.
	elements []int64
	// astray says that a record was taken to begin where none does.
	astray bool
}

// widens reports whether a wider schema would take a value that was met.
func (f *fitted) widens() bool {
	return f.astray || slices.ContainsFunc(f.Problems, func(p parse.Problem) bool { return p.Widens })
}

// fitter is one worker of a writing pass.
type fitter struct {
	source    *Source
	delimited *fit.Delimited
	json      *fit.JSON
	columns   columnFields
	claims    map[int][]int64
	records   delimited.Records
	lines     json.Records
	keepRaw   bool
}

// newFitter prepares a worker.
func newFitter(source *Source, out output, columns columnFields) *fitter {
	f := &fitter{source: source, columns: columns, claims: out.claims, keepRaw: out.keepsRaw()}
	coded := out.straight && len(out.options.Columnar.Bloom) == 0
	if source.Format() != sniff.Delimited {
		f.json = fit.NewJSON(out.schema, out.unknown, !out.fixed, coded)
	} else {
		f.delimited = fit.NewDelimited(out.schema, coded)
	}
	return f
}

// columnFields tells for each object of delimited text where the columns of a schema are.
type columnFields struct {
	// fields are the field of each column, -1 where the object does not have it; kept the fields that no column is read from.
	fields [][]int
	kept   [][]fit.Kept
	// missing are the columns that no object has, folded the names that differ from their columns in letter case.
	missing []int
	folded  map[string]string
}

// newColumnFields finds the columns of a schema in the objects. exact says that names must agree in letter case.
func newColumnFields(source *Source, s schema.Schema, style schema.NameStyle, exact bool) columnFields {
	out := columnFields{folded: map[string]string{}}
	index := schema.NewIndex(s.Fields, style)
	found := make([]bool, len(s.Fields))
	for _, in := range source.Inputs {
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
			case slices.Contains(s.Omit, name):
			case at >= 0 && columns[at] < 0 && !(caseOnly && exact):
				columns[at], found[at] = i, true
				if caseOnly {
					out.folded[s.Fields[at].Name] = name
				}
			case !s.OmitRest:
				kept = append(kept, fit.Kept{Field: i, Name: name})
			}
		}
		out.fields, out.kept = append(out.fields, columns), append(out.kept, kept)
	}
	for i, f := range s.Fields {
		if source.named() && !found[i] && !f.Added && !f.Skip && f.Name != schema.MisfitColumn {
			out.missing = append(out.missing, i)
		}
	}
	return out
}

// unknown reports whether an object has a field that no column is read from.
func (c columnFields) unknown() bool {
	return slices.ContainsFunc(c.kept, func(kept []fit.Kept) bool { return len(kept) > 0 })
}

// work fits one block.
func (f *fitter) work(block *parse.Block) (fitted, error) {
	var out fitted
	var unread []parse.Problem
	if f.json != nil {
		parseJSON(&f.lines, f.source.Inputs[block.Object], block)
		unread = f.lines.Problems
		out.Result = f.json.Fit(&f.lines)
	} else {
		p := parser(f.source.Inputs[block.Object].Rules)
		p.Begin(block, &f.records)
		out.Result = f.delimited.Fit(&f.records, f.columns.fields[block.Object], f.columns.kept[block.Object])
		unread, out.skipped, out.filled = f.records.Problems, f.records.Repeated, f.records.Padded
		out.astray = f.astray(block)
	}
	if len(unread) > 0 {
		out.Problems = append(out.Problems, unread...)
		slices.SortStableFunc(out.Problems, func(a, b parse.Problem) int { return a.Start - b.Start })
	}
	if out.Batch == nil {
		return out, nil
	}
	if len(out.Problems)+out.skipped > 0 {
		out.ranks = f.ranks(out)
	}
	if f.keepRaw {
		out.raws = f.raws(block.Object, out)
	}
	if f.json == nil && len(f.records.Surplus) > 0 {
		out.Misfits = append(out.Misfits, f.surplus(out)...)
	}
	if len(out.Misfits) > 0 {
		slices.SortStableFunc(out.Misfits, func(a, b fit.Misfit) int { return a.Row - b.Row })
		out.misfits = misfitTexts(out.Misfits, int(out.Batch.NumRows()))
	}
	if len(out.Problems)+len(out.Misfits) > 0 {
		out.raw = bytes.Clone(block.Data)
	}
	return out, nil
}

// raws writes the records that the rows are as JSON: those of JSON as they stand, fields of delimited text by their names.
func (f *fitter) raws(object int, out fitted) []string {
	raws := make([]string, out.Batch.NumRows())
	for row := range raws {
		record := row
		if out.ranks != nil {
			record = int(out.ranks[row])
		}
		if f.json != nil {
			raws[row] = string(f.lines.Text(record))
			continue
		}
		names, text := f.source.Inputs[object].Rules.Names, []byte{'{'}
		for i, field := range f.records.Row(record) {
			if i > 0 {
				text = append(text, ',')
			}
			if text = append(append(text, quoted(names[i])...), ':'); field.Text == "" && !field.Quoted {
				text = append(text, "null"...)
			} else {
				text = append(text, quoted(field.Text)...)
			}
		}
		raws[row] = string(append(text, '}'))
	}
	return raws
}

// astray reports whether the sample took a record to begin in the block where none does.
func (f *fitter) astray(block *parse.Block) bool {
	for _, claim := range f.claims[block.Object] {
		at := int(claim - block.Offset)
		if claim < block.Offset || at >= len(block.Data) {
			continue
		}
		row := sort.Search(f.records.Rows, func(i int) bool { return f.records.Start(i) >= at })
		if row == f.records.Rows || f.records.Start(row) != at {
			return true
		}
	}
	return false
}

// ranks tells which of the block's records the rows are: those that have no problem, in order.
func (f *fitter) ranks(out fitted) []int64 {
	ranks := make([]int64, 0, out.Batch.NumRows())
	problem, rank := 0, int64(0)
	for row := range f.recordCount() {
		start := f.recordStart(row)
		for problem < len(out.Problems) && out.Problems[problem].Start < start {
			problem++
			rank++
		}
		if problem < len(out.Problems) && out.Problems[problem].Start == start {
			continue
		}
		ranks = append(ranks, rank)
		rank++
	}
	return ranks
}

// surplus lists the fields that records have beyond the columns, by the names that columns at their positions would have.
func (f *fitter) surplus(out fitted) []fit.Misfit {
	var list []fit.Misfit
	problem, surplus, to := 0, 0, 0
	for row := range f.records.Rows {
		start := f.records.Start(row)
		for problem < len(out.Problems) && out.Problems[problem].Start < start {
			problem++
		}
		bad := problem < len(out.Problems) && out.Problems[problem].Start == start
		for ; surplus < len(f.records.Surplus) && f.records.Surplus[surplus].Start <= start; surplus++ {
			s := f.records.Surplus[surplus]
			for i, text := range s.Texts {
				if name := "c" + strconv.Itoa(f.records.Width+i+1); s.Start == start && !bad {
					list = append(list, fit.Misfit{Row: to, Start: start, Column: name, Of: name, Text: text})
				}
			}
		}
		if !bad {
			to++
		}
	}
	return list
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

func (f *fitter) recordCount() int {
	if f.json != nil {
		return f.lines.Rows()
	}
	return f.records.Rows
}

func (f *fitter) recordStart(row int) int {
	if f.json != nil {
		start, _ := f.lines.Span(row)
		return start
	}
	return f.records.Start(row)
}
