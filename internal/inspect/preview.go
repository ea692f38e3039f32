// Package inspect looks at what is there: the first records of a source, and how tables and columnar files are laid out.
//
// What comes in are sources, tables and locations; what goes out are descriptions for somebody else to show.
package inspect

import (
	"context"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/locate"
	"trevak/internal/mask"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/table"
	"trevak/internal/wording"
)

// Preview is how a source will be read and its first records.
type Preview struct {
	// Table is the name of a table; empty for files.
	Table string
	// Objects are those that there are, Bytes their size as stored; Empty and Hidden files are not among them.
	Objects       []locate.Object
	Bytes         int64
	Empty, Hidden int
	Passed        []locate.Passed
	// Rules are the reading rules of the first object with their reasons; Others are the objects that are read differently.
	Rules  []sniff.Reason
	Others []OtherRules
	// Columns are the names in the source.
	Columns []string
	// Rows are the first records, a cell for each column; a record of JSON that lacks a column has an absent cell.
	Rows [][]scan.Cell
	// Troubles are records among the first ones that cannot be read.
	Troubles []string
}

// OtherRules are the rules of an object that differ from the first's.
type OtherRules struct {
	Location string
	Rules    []sniff.Reason
}

// PreviewSource reads the first n records of a source.
func PreviewSource(ctx context.Context, r infer.Reading, n int) (*Preview, error) {
	p, err := previewSource(ctx, r, n)
	if err == nil && r.Mask.Any() {
		p.mask(r.Mask)
	}
	return p, r.Mask.Error(err)
}

// mask takes values out of what is shown.
func (p *Preview) mask(m mask.Mask) {
	parts := m.Beyond(p.Columns)
	for c, name := range p.Columns {
		for _, row := range p.Rows {
			if c >= len(row) || row[c].Null || row[c].Absent {
				continue
			}
			// What is hidden may be a part of what is nested.
			nested := row[c].Plain && strings.ContainsAny(row[c].Text[:min(1, len(row[c].Text))], "{[")
			if m.Hides(name) || parts && nested {
				row[c] = scan.Cell{Text: mask.Shown}
			}
		}
	}
	for i := range p.Troubles {
		p.Troubles[i] = m.Text(p.Troubles[i])
	}
	for i := range p.Rules {
		p.Rules[i].Why = m.Text(p.Rules[i].Why)
	}
}

func previewSource(ctx context.Context, r infer.Reading, n int) (*Preview, error) {
	r.Looking = true
	budget := run.DefaultBudget()
	d, err := infer.Survey(ctx, &r, budget)
	if err != nil {
		return nil, err
	}
	first := d.Inputs[0]
	p := &Preview{Objects: objects(d.Inputs), Bytes: d.Bytes, Empty: d.Empty, Hidden: d.Hidden, Passed: d.Passed,
		Rules: first.Rules.Reasons}
	for _, in := range d.Inputs[1:] {
		if other := differing(first.Rules, in.Rules); len(other) > 0 {
			p.Others = append(p.Others, OtherRules{in.Location, other})
		}
	}
	return p, infer.Again(func() error {
		p.Columns, p.Rows, p.Troubles = nil, nil, nil
		g := grid{p: p, index: map[string]int{}}
		if d.Shaped() {
			inferred, err := d.All(ctx, r, budget)
			if err == nil {
				err = inferred.Matched()
			}
			if err != nil {
				return err
			}
			for _, f := range inferred.Schema.Fields {
				g.column(f.Name)
			}
			// What is said of the rows' columns gives them other names, in the same places.
			return d.Rows.Texts(ctx, n,
				func(r scan.Record) error { return g.add(scan.Record{Names: p.Columns[:len(r.Cells)], Cells: r.Cells}) })
		}
		err := d.Rows.Texts(ctx, n, g.add)
		g.square()
		return err
	}, d.WiderForm(ctx, budget))
}

// Pick keeps the columns that are named, as wording.Pick takes them.
func (p *Preview) Pick(picks []string) error {
	at, wrong := wording.Pick(picks, p.Columns)
	if wrong != "" {
		return fault.New(fault.Usage, "--columns-shown: there is no column %q", wrong).Try("%s", schema.Choices(wrong, p.Columns))
	}
	columns := make([]string, len(at))
	for to, from := range at {
		columns[to] = p.Columns[from]
	}
	for i, row := range p.Rows {
		cells := make([]scan.Cell, len(at))
		for to, from := range at {
			cells[to] = row[from]
		}
		p.Rows[i] = cells
	}
	p.Columns = columns
	return nil
}

// objects are those of inputs.
func objects(inputs []source.Input) []locate.Object {
	out := make([]locate.Object, len(inputs))
	for i, in := range inputs {
		out[i] = in.Object
	}
	return out
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
func PreviewTable(ctx context.Context, t *table.Table, n int, m mask.Mask) (*Preview, error) {
	rows, err := scan.OfTable(ctx, t)
	if err != nil {
		return nil, err
	}
	p := &Preview{Table: t.Name.String(), Objects: objects(rows.Objects()), Bytes: rows.Bytes()}
	g := grid{p: p, index: map[string]int{}}
	for _, f := range t.Schema.Fields {
		g.column(f.Name)
	}
	err = rows.Texts(ctx, n, g.add)
	p.mask(m)
	return p, err
}

// grid collects rows whose columns become known one by one.
type grid struct {
	p     *Preview
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

// troublesShown bounds how many unreadable records are told of.
const troublesShown = 5

// add takes a record.
func (g *grid) add(r scan.Record) error {
	if r.Trouble != nil {
		if len(g.p.Troubles) < troublesShown {
			g.p.Troubles = append(g.p.Troubles, r.Trouble.Error())
		}
		return nil
	}
	for _, name := range r.Names {
		g.column(name)
	}
	if r.Cells == nil {
		return nil
	}
	row := make([]scan.Cell, len(g.p.Columns))
	for c := range row {
		row[c].Absent = true
	}
	for c, cell := range r.Cells {
		row[g.column(r.Names[c])] = cell
	}
	g.p.Rows = append(g.p.Rows, row)
	return nil
}

// square gives every row a cell for each column.
func (g *grid) square() {
	for i := range g.p.Rows {
		for len(g.p.Rows[i]) < len(g.p.Columns) {
			g.p.Rows[i] = append(g.p.Rows[i], scan.Cell{Absent: true})
		}
	}
}
