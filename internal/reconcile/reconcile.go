// Package reconcile proves that a table, or files, hold what their source holds: it reads both anew and holds them against each other.
//
// What comes in is a source with what is said of it, as for a load, and a table or files; what goes out is a verdict, with counts and sums
// of both sides by object and column, and the first values that differ.
package reconcile

import (
	"context"
	"fmt"
	"slices"
	"time"

	"trevak/internal/fault"
	"trevak/internal/ledger"
	"trevak/internal/load"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Result is what a reconciliation came to. The source is the left side of what is compared.
type Result struct {
	With  string
	Agree bool
	// Objects are those of the source.
	Objects []Object
	// Rows are how many the source gives, and There how many of the other side came of its objects; Others came of other objects.
	Rows, There, Others int64
	// Unknown says that the ledger knows none of the objects, so that they were held against all rows of the table.
	Unknown bool
	Columns []Column
	// Key is the columns by which rows were told from each other; ByLineage says that their places in the source were used.
	Key       []string
	ByLineage bool
	// The counts are those of prove.Outcome: Missing rows are not there, Surplus ones are not in the source.
	Missing, Surplus, Altered, Elsewhere, Superseded int64
	Examples                                         []Example
	// Left are columns that were not compared, with why.
	Left []LeftOut
	// Source is the account of reading the source.
	Source  *write.Report
	Seconds float64
}

// Object is what became of an object of the source.
type Object struct {
	Location string
	write.Counts
	// Loads is how many times the ledger has the object, LedgerRows how many rows those loads wrote of it and LedgerBad how many records
	// they put into quarantine; There is how many rows that came of it are there, -1 where that cannot be told.
	Loads                        int
	LedgerRows, LedgerBad, There int64
	// Other says that the object is another now than when it was loaded last, and KnownAs is the name that the ledger has it by, where
	// that is another.
	Other   bool
	KnownAs string
}

// Column is what was counted of a column on both sides.
type Column struct {
	Name, Type    string
	Source, There prove.Facts
	Same          bool
}

// LeftOut is a column that was not compared.
type LeftOut struct{ Column, Why string }

// Example is a row that differs, with its places in words.
type Example struct {
	prove.Example
	// Source is object:line, or the number of the row in it; There is the file and the row in it. They are empty for a side that does not
	// have the row.
	Source, There string
}

// Table holds a source against a table, and shows so many rows that differ. l is what a load of the source into it would be asked to do.
func Table(ctx context.Context, l load.Request, t *table.Table, examples int, b run.Budget) (*Result, error) {
	r, err := withTable(ctx, l, t, examples, b)
	return masked(l.Mask, r, err)
}

func withTable(ctx context.Context, l load.Request, t *table.Table, examples int, b run.Budget) (*Result, error) {
	started := time.Now()
	out := &Result{With: t.Name.String()}
	c := &comparing{load: l, table: t, out: out, budget: b, examples: examples}
	if err := c.withTable(ctx); err != nil {
		return nil, err
	}
	out.Seconds = time.Since(started).Seconds()
	return out, nil
}

// comparing is a comparison in the making.
type comparing struct {
	load   load.Request
	table  *table.Table
	out    *Result
	budget run.Budget
	inputs []source.Input
	// examples is how many rows that differ are wanted.
	examples int
	// origins are the numbers of rows that came of the objects of the source, with the place of their object; entries are those of the
	// ledger for them.
	origins map[int64]int
	request prove.Request
	left    *handed
	right   *scanned
}

func (c *comparing) withTable(ctx context.Context) error {
	t := c.table
	if t.Schema.Index(lineageRow) >= 0 {
		c.load.Lineage = true
	}
	key, err := c.load.KeyColumns(t)
	if err != nil {
		return err
	}
	c.left = &handed{comparing: c}
	// What the source gives is known when it was read once.
	sum, err := c.left.first(ctx, key)
	if err != nil {
		return err
	}
	if err := c.ledgered(ctx); err != nil {
		return err
	}
	tasks, err := t.Plan(ctx)
	if err != nil {
		return err
	}
	from, err := scan.OfFiles(ctx, t, tasks)
	if err != nil {
		return err
	}
	c.right = &scanned{from: from, request: c.request, origins: c.origins, ofTable: true, style: c.load.Corrections.Names,
		budget: c.budget, within: storage.Path(t.Location())}
	there, err := prove.Sum(ctx, c.right, c.request)
	if err != nil {
		return err
	}
	if c.request.Latest {
		// A row that is missing may be there as one of another object.
		c.request.AllRight = c.right.withForeign()
	}
	if c.load.DeleteWhere != "" {
		c.request.AllLeft = c.left.withMarks()
	}
	outcome, err := prove.Settle(ctx, c.left, c.right, sum, there, c.request)
	if err != nil {
		return err
	}
	for i := range c.out.Objects {
		if c.out.Objects[i].There = -1; c.origins != nil {
			c.out.Objects[i].There = there.Objects[int64(i)+1]
		}
	}
	if rows, known := t.Rows(); known {
		c.out.Others = rows - there.Rows
	}
	return c.tell(ctx, outcome)
}

// tell puts the outcome into the result.
func (c *comparing) tell(ctx context.Context, o *prove.Outcome) error {
	out := c.out
	out.Rows, out.There = o.Left.Rows, o.Right.Rows
	out.Missing, out.Surplus, out.Altered = o.OnlyLeft, o.OnlyRight, o.Altered
	out.Elsewhere, out.Superseded = o.Elsewhere, o.Superseded
	out.Agree = o.Equal || o.OnlyLeft+o.OnlyRight+o.Altered == 0
	for i, f := range c.request.Fields {
		if f.Name == objectColumn.Name {
			continue
		}
		col := Column{Name: f.Name, Type: f.Type.String(), Source: o.Left.Facts(i), There: o.Right.Facts(i)}
		col.Same = col.Source.Same(col.There)
		out.Columns = append(out.Columns, col)
	}
	for _, f := range c.request.Key {
		out.Key = append(out.Key, c.request.Fields[f].Name)
	}
	lines, err := c.lines(ctx, o.Examples)
	if err != nil {
		return err
	}
	for i, e := range o.Examples {
		shown := Example{Example: e}
		if e.Left != nil {
			shown.Source = lines[i]
		}
		if e.Right != nil {
			shown.There = c.right.place(*e.Right)
		}
		out.Examples = append(out.Examples, shown)
	}
	return nil
}

// ledgered finds what the ledger of the table tells of the objects. One that it knows under another name is known by its content.
func (c *comparing) ledgered(ctx context.Context) error {
	c.origins = map[int64]int{}
	byURI, byHash := map[string]int{}, map[string]int{}
	for i, in := range c.inputs {
		o := c.out.Source.Objects[i]
		c.out.Objects = append(c.out.Objects, Object{Location: in.Location, Counts: o.Counts})
		byURI[load.LedgerURI(in.Object)] = i
		if o.Hash != "" {
			byHash[o.Hash] = i
		}
	}
	var entries, alike []ledger.Entry
	for _, name := range c.table.Ledger() {
		if err := ledger.Read(ctx, c.table.Store(), c.table.LedgerFolder(), name, func(e ledger.Entry) error {
			if _, ok := byURI[e.URI]; ok {
				entries = append(entries, e)
			} else if _, ok := byHash[e.Hash]; ok {
				alike = append(alike, e)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	for _, list := range [][]ledger.Entry{entries, alike} {
		slices.SortStableFunc(list, func(a, b ledger.Entry) int { return b.At.Compare(a.At) })
	}
	told := true
	for _, e := range entries {
		told = c.known(byURI[e.URI], e) && told
	}
	for _, e := range alike {
		if i := byHash[e.Hash]; c.out.Objects[i].Loads == 0 || c.out.Objects[i].KnownAs == e.URI {
			c.out.Objects[i].KnownAs = e.URI
			told = c.known(i, e) && told
		}
	}
	if c.out.Unknown = len(entries)+len(alike) == 0; c.out.Unknown || !told {
		// Which rows came of the objects cannot be told, so all of them are taken for theirs.
		c.origins = nil
	}
	return nil
}

// known notes an entry of the ledger for an object, and reports whether it tells which rows came of it.
func (c *comparing) known(at int, e ledger.Entry) bool {
	o, hash := &c.out.Objects[at], c.out.Source.Objects[at].Hash
	o.Loads++
	o.LedgerRows, o.LedgerBad = o.LedgerRows+e.Rows, o.LedgerBad+e.Quarantined
	// The last load comes first.
	o.Other = o.Other || o.Loads == 1 && e.Hash != "" && hash != "" && e.Hash != hash
	if e.Origin != 0 {
		c.origins[e.Origin] = at
	}
	return e.Origin != 0 || e.Rows == 0
}

// compared chooses the columns that are compared, of those that the source gives.
func (c *comparing) compared(of *write.Output, absent, key []string) error {
	c.out.Left = nil
	leave := map[string]string{loadedAt: "is the time of the load"}
	if c.table != nil {
		leave[lineageFile] = "is how the source was called"
	}
	if !c.load.KeepRaw {
		leave[rawRecord] = "is the record as it was read, which --keep-raw compares"
	}
	if latest := c.latest(key); latest {
		for _, name := range absent {
			leave[name] = "is not in the source, and rows may have kept it"
		}
	}
	update := c.load.UpdateOnly
	c.request = prove.Request{Examples: c.examples, Workers: c.budget.Workers, Latest: c.latest(key)}
	for _, f := range of.Schema.Bare().Fields {
		why := leave[f.Name]
		if len(update) > 0 && !slices.Contains(update, f.Name) && !slices.Contains(update, f.Source()) && !slices.Contains(key, f.Name) {
			why = "is none of those that the load updates"
		}
		if why != "" {
			c.out.Left = append(c.out.Left, LeftOut{f.Name, why})
			continue
		}
		c.request.Fields = append(c.request.Fields, f)
	}
	index := func(name string) int {
		return slices.IndexFunc(c.request.Fields, func(f schema.Field) bool { return f.Name == name })
	}
	c.out.ByLineage = false
	switch {
	case len(key) > 0:
		for _, name := range key {
			at := index(name)
			if at < 0 {
				return fault.New(fault.Usage, "the column %q of the key is not compared", name).Try("name a key that the source has with --key")
			}
			c.request.Key = append(c.request.Key, at)
		}
	case index(lineageRow) >= 0 && c.table == nil:
		c.out.ByLineage = true
		c.request.Key = []int{index(lineageFile), index(lineageRow)}
	case index(lineageRow) >= 0:
		c.out.ByLineage = true
		c.request.Fields = append(c.request.Fields, objectColumn)
		c.request.Key = []int{index(objectColumn.Name), index(lineageRow)}
	}
	return nil
}

// The columns that tell of a row's place, which loads fill.
const (
	lineageFile = "_lineage_file"
	lineageRow  = "_lineage_row"
	loadedAt    = "_loaded_at"
	rawRecord   = "_raw"
)

// objectColumn is the place of a row's object among those of the source.
var objectColumn = schema.Field{Name: "\x00object", Type: schema.Type{Kind: schema.Long}}

// latest reports whether the table has one row of each key, whichever object came last.
func (c *comparing) latest(key []string) bool {
	return len(key) > 0 && (c.load.ByKey() || c.table != nil && len(c.table.MergedBy()) > 0)
}

// lines finds the lines in which the records of the examples begin.
func (c *comparing) lines(ctx context.Context, list []prove.Example) ([]string, error) {
	wanted := map[int64][]int64{}
	for _, e := range list {
		if e.Left != nil {
			wanted[e.Left.Object] = append(wanted[e.Left.Object], e.Left.Record)
		}
	}
	found := map[prove.Place]int64{}
	for object, records := range wanted {
		lines, err := scan.LinesOf(ctx, c.inputs[object], records, c.budget)
		if err != nil {
			return nil, err
		}
		for i, line := range lines {
			found[prove.Place{Object: object, Record: records[i]}] = line
		}
	}
	out := make([]string, len(list))
	for i, e := range list {
		if e.Left == nil {
			continue
		}
		location := c.inputs[e.Left.Object].Location
		if line := found[*e.Left]; line > 0 {
			out[i] = fmt.Sprintf("%s:%d", location, line)
		} else {
			out[i] = fmt.Sprintf("%s row %d", location, e.Left.Record)
		}
	}
	return out, nil
}
