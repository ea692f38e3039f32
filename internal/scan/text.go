package scan

import (
	"context"
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
	"trevak/internal/source"
)

// Parser returns the parser of an object of delimited text.
func Parser(r sniff.Rules) delimited.Parser {
	p := delimited.Parser{Dialect: r.Dialect, Width: len(r.Names), Pad: r.Pad, Least: r.Least, SkipBlank: r.SkipBlank}
	p.Skip = r.HeaderRows
	if r.HeaderRows == 1 {
		p.Header = strings.TrimRight(r.HeaderText, "\r\n")
	}
	return p
}

// parseJSON finds the records of a block of JSON.
func parseJSON(records *json.Records, in source.Input, block *parse.Block) {
	records.MaxDepth, records.Lenient = in.Limits.Depth, in.Rules.Lenient
	if in.Rules.Format == sniff.JSONLines || in.Rules.Format == sniff.Sheet {
		records.Parse(block)
	} else {
		records.ParseValues(block)
	}
}

// text is the rows of text: delimited, JSON, XML or sheets.
type text struct{ source *source.Source }

func (t *text) Declared() ([]schema.Field, bool) { return nil, false }

func (t *text) Named() bool { return t.source.Format() == sniff.Delimited }

func (t *text) Objects() []source.Input { return t.source.Inputs }

func (t *text) Bytes() int64 { return t.source.Bytes }

func (t *text) Read(ctx context.Context, r Request, take func(*Rows) error) error {
	take = r.limited(ctx, take)
	columns := r.columns(t)
	p := pass{source: t.source, budget: r.Budget, stage: r.Stage, sample: r.Sample, hashes: r.Hashes, splits: r.Splits}
	return ended(process(ctx, p, func() func(*parse.Block) (*Rows, error) {
		f, each := newFitter(t.source, r, columns), r.each(ctx)
		return func(block *parse.Block) (*Rows, error) {
			rows := f.fit(block)
			var err error
			if rows.Batch != nil {
				err = each(rows)
			}
			rows.leave()
			return rows, err
		}
	}, func(_ parse.Block, rows *Rows) error { return take(rows) }))
}

// fitter is one worker that makes rows of text.
type fitter struct {
	source    *source.Source
	delimited *fit.Delimited
	json      *fit.JSON
	columns   *Columns
	assumed   map[int][]int64
	records   delimited.Records
	lines     json.Records
	keepRaw   bool
	starts    bool
	keepText  bool
}

// newFitter prepares a worker.
func newFitter(from *source.Source, r Request, columns *Columns) *fitter {
	f := &fitter{source: from, columns: columns, assumed: r.Target.AssumedStarts, keepRaw: r.Raw, starts: r.starts || r.Spans,
		keepText: r.text}
	if from.Format() != sniff.Delimited {
		f.json = fit.NewJSON(r.Target.Schema, r.Target.Unknown, !r.Target.Fixed, r.coded())
	} else {
		f.delimited = fit.NewDelimited(r.Target.Schema, r.coded())
	}
	return f
}

// fit makes rows of one block.
func (f *fitter) fit(block *parse.Block) *Rows {
	out := &Rows{Block: *block, Bytes: len(block.Data)}
	var unread []parse.Problem
	if f.json != nil {
		parseJSON(&f.lines, f.source.Inputs[block.Object], block)
		unread = f.lines.Problems
		out.Result = f.json.Fit(&f.lines)
	} else {
		p := Parser(f.source.Inputs[block.Object].Rules)
		p.Begin(block, &f.records)
		out.Result = f.delimited.Fit(&f.records, f.columns.Fields[block.Object], f.columns.Kept[block.Object])
		unread, out.Skipped, out.Filled = f.records.Problems, f.records.Repeated, f.records.Padded
		out.astray = f.astray(block)
	}
	if len(unread) > 0 {
		out.Problems = append(out.Problems, unread...)
		slices.SortStableFunc(out.Problems, func(a, b parse.Problem) int { return a.Start - b.Start })
	}
	if out.Batch == nil {
		out.keep = true
		return out
	}
	out.Records = out.Batch.NumRows()
	if len(out.Problems)+out.Skipped > 0 {
		out.Ranks = f.ranks(out)
	}
	if f.keepRaw {
		out.Raws = f.raws(block.Object, out)
	}
	if f.starts {
		out.starts, out.ends = make([]int, out.Records), make([]int, out.Records)
		for row := range out.starts {
			out.starts[row], out.ends[row] = f.recordSpan(int(out.Rank(row)))
		}
	}
	if f.json == nil && len(f.records.Surplus) > 0 {
		out.Misfits = append(out.Misfits, f.surplus(out)...)
	}
	out.tellMisfits(out.Misfits)
	out.keep = f.keepText || len(out.Problems)+len(out.Misfits) > 0
	return out
}

// raws writes the records that the rows are as JSON: those of JSON as they stand, fields of delimited text by their names.
func (f *fitter) raws(object int, out *Rows) []string {
	raws := make([]string, out.Batch.NumRows())
	for row := range raws {
		record := row
		if out.Ranks != nil {
			record = int(out.Ranks[row])
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
	for _, claim := range f.assumed[block.Object] {
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
func (f *fitter) ranks(out *Rows) []int64 {
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
func (f *fitter) surplus(out *Rows) []fit.Misfit {
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

func (f *fitter) recordSpan(row int) (start, end int) {
	if f.json != nil {
		return f.lines.Span(row)
	}
	return f.records.Span(row)
}
