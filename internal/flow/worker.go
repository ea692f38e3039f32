package flow

import (
	"bytes"
	stdjson "encoding/json"
	"slices"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/fit"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
	"trevak/internal/sniff"
)

// parser returns the parser of an object of delimited text.
func parser(r sniff.Rules) delimited.Parser {
	p := delimited.Parser{Dialect: r.Dialect, Width: len(r.Names), Pad: r.Pad, SkipBlank: r.SkipBlank}
	p.Skip = r.HeaderRows
	if r.HeaderRows == 1 {
		p.Header = strings.TrimRight(r.HeaderText, "\r\n")
	}
	return p
}

// parseJSON finds the records of a block of JSON.
func parseJSON(records *json.Records, in Input, block *parse.Block) {
	records.MaxDepth = in.Limits.Depth
	if in.Rules.Format == sniff.JSONLines {
		records.Parse(block)
	} else {
		records.ParseValues(block)
	}
}

// fitted is what a worker makes of a block: a batch of rows, and the problems of the records that became none. There is no batch
// when a wider schema is needed.
type fitted struct {
	batch    arrow.RecordBatch
	problems []parse.Problem
	// ranks is the number of each row's record among the block's records, from 0; nil where each record became a row.
	ranks []int64
	// misfits holds for each row its surplus fields as JSON, empty for none; nil where no row has any.
	misfits []string
	// skipped counts the records that were passed over.
	skipped int
	// raw is the block's data, kept while there are problems to tell of.
	raw []byte
}

// widens reports whether a wider schema would take a value that was met.
func (f *fitted) widens() bool {
	return slices.ContainsFunc(f.problems, func(p parse.Problem) bool { return p.Widens })
}

// fitter is one worker of a writing pass.
type fitter struct {
	source    *Source
	delimited *fit.Delimited
	json      *fit.JSON
	fields    [][]int // per object: the field of each column
	records   delimited.Records
	lines     json.Records
}

// newFitter prepares a worker. fields comes from columnFields; grows says whether the schema may.
func newFitter(source *Source, s schema.Schema, fields [][]int, grows bool) *fitter {
	f := &fitter{source: source, fields: fields}
	if source.Format() != sniff.Delimited {
		f.json = fit.NewJSON(s, grows)
	} else {
		f.delimited = fit.NewDelimited(s, grows)
	}
	return f
}

// columnFields finds for each object of delimited text the field that each column of the schema is read from, -1 where the
// object does not have it, and the names in the objects that no column is read from.
func columnFields(source *Source, s schema.Schema) (fields [][]int, surplus []string) {
	seen := map[string]bool{}
	index := newColumnIndex(s)
	for _, in := range source.Inputs {
		columns := make([]int, len(s.Fields))
		for i := range columns {
			columns[i] = -1
		}
		for i, name := range in.Rules.Names {
			if at := index.find(name); at >= 0 && columns[at] < 0 {
				columns[at] = i
			} else if !seen[name] {
				seen[name] = true
				surplus = append(surplus, name)
			}
		}
		fields = append(fields, columns)
	}
	return fields, surplus
}

// columnIndex finds the column that a name in the source means.
type columnIndex struct {
	origins, names, plain, folded map[string]int
}

func newColumnIndex(s schema.Schema) columnIndex {
	x := columnIndex{map[string]int{}, map[string]int{}, map[string]int{}, map[string]int{}}
	// The first column of several that a name could mean is taken, so they are put in from the last to the first.
	for i := len(s.Fields) - 1; i >= 0; i-- {
		f := &s.Fields[i]
		x.names[f.Name], x.folded[strings.ToLower(f.Name)] = i, i
		if f.Origin != "" {
			x.origins[f.Origin] = i
		} else {
			x.plain[f.Name] = i
		}
	}
	return x
}

// find looks for the column that had the name in its source, then for the one that is called so, for the one that is called
// what the name becomes when made legal, and last for one in another letter case. It returns -1 where there is none.
func (x columnIndex) find(name string) int {
	legal := schema.SafeNames([]string{name})[0]
	for _, try := range []struct {
		in   map[string]int
		name string
	}{{x.origins, name}, {x.names, name}, {x.plain, legal}, {x.folded, strings.ToLower(name)}, {x.folded, strings.ToLower(legal)}} {
		if i, ok := try.in[try.name]; ok {
			return i
		}
	}
	return -1
}

// work fits one block.
func (f *fitter) work(block *parse.Block) (fitted, error) {
	var out fitted
	var unread []parse.Problem
	if f.json != nil {
		parseJSON(&f.lines, f.source.Inputs[block.Object], block)
		unread = f.lines.Problems
		out.batch, out.problems = f.json.Fit(&f.lines)
	} else {
		p := parser(f.source.Inputs[block.Object].Rules)
		p.Parse(block, &f.records)
		unread, out.skipped = f.records.Problems, f.records.Repeated
		out.batch, out.problems = f.delimited.Fit(&f.records, f.fields[block.Object])
	}
	if len(unread) > 0 {
		out.problems = append(out.problems, unread...)
		slices.SortStableFunc(out.problems, func(a, b parse.Problem) int { return a.Start - b.Start })
	}
	if out.batch != nil && len(out.problems)+out.skipped > 0 {
		out.ranks = f.ranks(out)
	}
	if out.batch != nil && f.json == nil && len(f.records.Surplus) > 0 {
		out.misfits = f.misfits(out)
	}
	if len(out.problems) > 0 {
		out.raw = bytes.Clone(block.Data)
	}
	return out, nil
}

// ranks tells which of the block's records the rows are: those that have no problem, in order.
func (f *fitter) ranks(out fitted) []int64 {
	ranks := make([]int64, 0, out.batch.NumRows())
	problem, rank := 0, int64(0)
	for row := range f.recordCount() {
		start := f.recordStart(row)
		for problem < len(out.problems) && out.problems[problem].Start < start {
			problem++
			rank++
		}
		if problem < len(out.problems) && out.problems[problem].Start == start {
			continue
		}
		ranks = append(ranks, rank)
		rank++
	}
	return ranks
}

// misfits writes the surplus fields of each row.
func (f *fitter) misfits(out fitted) []string {
	texts := make([]string, 0, out.batch.NumRows())
	problem, surplus := 0, 0
	for row := range f.records.Rows {
		start := f.records.Start(row)
		for problem < len(out.problems) && out.problems[problem].Start < start {
			problem++
		}
		var text string
		for surplus < len(f.records.Surplus) && f.records.Surplus[surplus].Start <= start {
			if s := f.records.Surplus[surplus]; s.Start == start {
				text = surplusJSON(f.records.Width, s.Texts)
			}
			surplus++
		}
		if problem == len(out.problems) || out.problems[problem].Start != start {
			texts = append(texts, text)
		}
	}
	return texts
}

// surplusJSON writes surplus fields as an object, by the names that columns at their positions would have.
func surplusJSON(width int, fields []string) string {
	members := make(map[string]string, len(fields))
	for i, text := range fields {
		members["c"+strconv.Itoa(width+i+1)] = text
	}
	// Texts can always be encoded; keys come out sorted.
	text, _ := stdjson.Marshal(members)
	return string(text)
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
