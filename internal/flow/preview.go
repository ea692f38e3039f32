package flow

import (
	"context"
	"io"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/rowtext"
	"trevak/internal/sniff"
	"trevak/internal/table"
)

// Preview is how a source will be read and its first records.
type Preview struct {
	// Name is the table's, or the first object's location.
	Name string
	// Objects is how many there are, Bytes their size as stored; Empty and Hidden files are not among them.
	Objects       int
	Bytes         int64
	Empty, Hidden int
	Passed        []locate.Passed
	// Rules are the reading rules of the first object with their reasons; Others are the objects that are read differently.
	Rules  []sniff.Reason
	Others []OtherRules
	// Columns are the names in the source.
	Columns []string
	// Rows are the first records, a cell for each column; a record of JSON that lacks a column has an absent cell.
	Rows [][]Cell
	// Troubles are records among the first ones that cannot be read.
	Troubles []string
}

// OtherRules are the rules of an object that differ from the first's.
type OtherRules struct {
	Location string
	Rules    []sniff.Reason
}

// Cell is one field as text.
type Cell struct {
	Text         string
	Null, Absent bool
}

// PreviewSource reads the first n records of a source.
func PreviewSource(ctx context.Context, r Reading, n int) (*Preview, error) {
	r.Looking = true
	source, err := survey(ctx, &r, DefaultBudget())
	if err != nil {
		return nil, err
	}
	first := source.Inputs[0]
	p := &Preview{Name: first.Location, Objects: len(source.Inputs), Bytes: source.Bytes, Empty: source.Empty, Hidden: source.Hidden, Passed: source.Passed,
		Rules: first.Rules.Reasons}
	for _, in := range source.Inputs[1:] {
		if other := differing(first.Rules, in.Rules); len(other) > 0 {
			p.Others = append(p.Others, OtherRules{in.Location, other})
		}
	}
	g := grid{p: p, n: n, index: map[string]int{}}
	if source.reshaped != nil {
		return p, g.formed(ctx, source, r)
	}
	for _, in := range source.Inputs {
		if len(p.Rows) >= n && n > 0 {
			break
		}
		if family(in.Rules.Format) == sniff.Parquet {
			err = g.columnar(ctx, func() (*columnar.File, error) { return in.openColumns(ctx) }, in.Rules.Names, nil)
		} else {
			err = g.object(ctx, in)
		}
		if err != nil {
			return nil, err
		}
	}
	g.square()
	return p, nil
}

// formed takes the first rows in their new form.
func (g *grid) formed(ctx context.Context, source *Source, r Reading) error {
	return source.wholly(ctx, r, DefaultBudget(), func() error {
		g.p.Columns, g.p.Rows, g.index = nil, nil, map[string]int{}
		inferred, err := source.infer(ctx, r, DefaultBudget(), true, false)
		if err == nil {
			err = inferred.allMatched()
		}
		if err != nil {
			return err
		}
		for _, f := range inferred.Schema.Fields {
			g.column(f.Name)
		}
		return source.formedRows(ctx, g.n, func(batch arrow.RecordBatch) error {
			for row := 0; row < int(batch.NumRows()) && !g.full(); row++ {
				g.p.Rows = append(g.p.Rows, nil)
				for c, a := range batch.Columns() {
					cell := Cell{Null: a.IsNull(row)}
					if !cell.Null {
						cell.Text = string(rowtext.AppendText(nil, a, row))
					}
					g.set(c, cell)
				}
			}
			return nil
		})
	})
}

// differing returns the rules of an object whose values are not those of another.
func differing(a, b sniff.Rules) []sniff.Reason {
	var out []sniff.Reason
	for _, reason := range b.Reasons {
		same := false
		for _, other := range a.Reasons {
			same = same || other.Rule == reason.Rule && other.Value == reason.Value
		}
		if !same {
			out = append(out, reason)
		}
	}
	return out
}

// PreviewTable reads the first n rows of a table.
func PreviewTable(ctx context.Context, t *table.Table, n int) (*Preview, error) {
	files, err := t.Files(ctx)
	if err != nil {
		return nil, err
	}
	p := &Preview{Name: t.Name.String(), Objects: len(files)}
	g := grid{p: p, n: n, index: map[string]int{}}
	names := map[int]string{}
	for _, f := range t.Schema.Fields {
		g.column(f.Name)
		names[f.ID] = f.Name
	}
	for _, f := range files {
		p.Bytes += f.Bytes
		if len(p.Rows) < n {
			if err := g.columnar(ctx, func() (*columnar.File, error) { return columnar.Open(ctx, t.Store(), f.URI) }, nil, names); err != nil {
				return nil, err
			}
		}
	}
	g.square()
	for _, row := range p.Rows {
		for c := range row {
			// A file may be older than a column.
			if row[c].Absent {
				row[c] = Cell{Null: true}
			}
		}
	}
	return p, nil
}

// grid collects rows whose columns become known one by one.
type grid struct {
	p     *Preview
	n     int
	index map[string]int
}

// column returns the position of a column, adding it when it is new.
func (g *grid) column(name string) int {
	at, ok := g.index[name]
	if !ok {
		at = len(g.p.Columns)
		g.index[name] = at
		g.p.Columns = append(g.p.Columns, name)
	}
	return at
}

func (g *grid) full() bool { return len(g.p.Rows) >= g.n }

// set puts a cell into the last row.
func (g *grid) set(at int, c Cell) {
	row := &g.p.Rows[len(g.p.Rows)-1]
	for len(*row) <= at {
		*row = append(*row, Cell{Absent: true})
	}
	(*row)[at] = c
}

// square gives every row a cell for each column.
func (g *grid) square() {
	for i := range g.p.Rows {
		for len(g.p.Rows[i]) < len(g.p.Columns) {
			g.p.Rows[i] = append(g.p.Rows[i], Cell{Absent: true})
		}
	}
}

// object reads records of text until there are enough.
func (g *grid) object(ctx context.Context, in Input) error {
	limits := in.Limits.parse()
	stream, text, err := in.open(ctx, &limits)
	if err != nil {
		return err
	}
	defer stream.Close()
	for _, name := range in.Rules.Names {
		g.column(name)
	}
	alloc := func(n int) ([]byte, error) { return make([]byte, 0, n), nil }
	limits.BlockBytes = min(limits.BlockBytes, 64<<10)
	err = parse.Blocks(ctx, text, cutter(in.Rules), limits, alloc, func(b parse.Block) error {
		if g.full() {
			return io.EOF
		}
		if in.Rules.Format != sniff.Delimited {
			g.lines(in, &b)
		} else {
			g.records(in, &b)
		}
		return nil
	})
	if err == io.EOF {
		return nil
	}
	return locateError(err, in.Location)
}

// records takes records of delimited text.
func (g *grid) records(in Input, b *parse.Block) {
	var r delimited.Records
	p := parser(in.Rules)
	p.Parse(b, &r)
	for row := 0; row < r.Rows && !g.full(); row++ {
		g.p.Rows = append(g.p.Rows, nil)
		for c, f := range r.Row(row) {
			g.set(g.index[in.Rules.Names[c]], Cell{Text: f.Text, Null: f.Text == "" && !f.Quoted})
		}
	}
	g.trouble(in, b, r.Problems)
}

// troublesShown bounds how many unreadable records are told of.
const troublesShown = 5

func (g *grid) trouble(in Input, b *parse.Block, problems []parse.Problem) {
	for _, p := range problems {
		if len(g.p.Troubles) < troublesShown {
			g.p.Troubles = append(g.p.Troubles, problemFault(in.Location, b.LineAt(p.Start), p).Error())
		}
	}
}

// lines takes JSON records, their members as text.
func (g *grid) lines(in Input, b *parse.Block) {
	var r json.Records
	var s json.Scanner
	parseJSON(&r, in, b)
	s.Limit(in.Limits.Depth)
	s.Lenient(in.Rules.Lenient)
	problems := r.Problems
	for row := 0; row < r.Rows() && !g.full(); row++ {
		g.p.Rows = append(g.p.Rows, nil)
		s.Reset(r.Text(row))
		if s.Peek() != json.Object {
			s.Fail("a record is an object, which this is not")
		}
		s.Open()
		for n := 0; ; n++ {
			key, escaped, ok := s.NextKey(n)
			if !ok {
				break
			}
			key = s.Name(key, escaped)
			g.set(g.column(string(key)), g.member(&s))
		}
		s.End()
		if err := s.Err(); err != nil {
			g.p.Rows = g.p.Rows[:len(g.p.Rows)-1]
			start, end := r.Span(row)
			problems = append(problems, parse.Problem{Start: start, End: end, Code: parse.BadJSON, Reason: "cannot be read: " + err.Error(), WayOut: "mend the record"})
		}
	}
	g.trouble(in, b, problems)
}

// member reads one value as text.
func (g *grid) member(s *json.Scanner) Cell {
	switch s.Peek() {
	case json.Null:
		s.Literal()
		return Cell{Null: true}
	case json.String:
		text, escaped := s.String()
		if escaped {
			text = s.Unescape(nil, text)
		}
		return Cell{Text: string(text)}
	}
	return Cell{Text: string(s.Skip())}
}

// columnar takes rows of a columnar file. Its columns go by names, one for each of its fields, or where it is a table's by ids, the names of the
// table's columns by field id.
func (g *grid) columnar(ctx context.Context, open func() (*columnar.File, error), names []string, ids map[int]string) error {
	f, err := open()
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Batches(ctx, func(batch arrow.RecordBatch) error {
		for row := 0; row < int(batch.NumRows()); row++ {
			if g.full() {
				return io.EOF
			}
			g.p.Rows = append(g.p.Rows, nil)
			for c, field := range f.Schema.Fields {
				cell := Cell{Null: batch.Column(c).IsNull(row)}
				if !cell.Null {
					cell.Text = string(rowtext.AppendText(nil, batch.Column(c), row))
				}
				if names != nil {
					g.set(g.column(names[c]), cell)
				} else if name := ids[field.ID]; name != "" {
					// A column may have had another name when the file was written, or be gone.
					g.set(g.column(name), cell)
				}
			}
		}
		return nil
	})
}
