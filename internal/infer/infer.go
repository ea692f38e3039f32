package infer

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"trevak/internal/fault"
	"trevak/internal/mask"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/wording"
)

// Inference is a schema and what it rests on.
type Inference struct {
	Source *Data
	Schema schema.Schema
	// Observed holds the evidence, with a node for each column in the order of the source.
	Observed *schema.Observed
	// Records is how many records were looked at.
	Records int64
	// Whole is set when all records were.
	Whole bool
	// Own says that the schema is that of columnar files.
	Own bool
	// Mask is the columns whose values are not told.
	Mask mask.Mask
	// Advice is what the evidence suggests, for a whole inference that was asked for as such.
	Advice Advice

	// Unmatched are the corrections that name no column.
	Unmatched []schema.Unmatched

	sample *scan.Sample
}

// Infer settles the schema of the source, from all records or, where that is asked for, from some of them.
func Infer(ctx context.Context, r Reading, b run.Budget) (*Inference, error) {
	i, err := inferAll(ctx, r, b)
	if i != nil {
		i.Mask = r.Mask
	}
	return i, r.Mask.Error(err)
}

func inferAll(ctx context.Context, r Reading, b run.Budget) (*Inference, error) {
	d, err := Survey(ctx, &r, b)
	if err != nil {
		return nil, err
	}
	if _, err := d.Learn(ctx, b); err != nil {
		return nil, err
	}
	i, err := d.infer(ctx, r, b, r.Scan != ScanSample, true)
	if err != nil {
		return nil, err
	}
	if err := i.Matched(); err != nil {
		return nil, err
	}
	if i.Own {
		return i, i.measureRows(ctx, b)
	}
	if err := d.MustGive(i.Records + i.Observed.Problems); err != nil {
		return nil, err
	}
	return i, i.advise(ctx, b)
}

// measureRows reads the rows of a source that declares its columns, to know how many there are and how long texts are.
func (i *Inference) measureRows(ctx context.Context, b run.Budget) error {
	err := i.Source.Rows.Read(ctx, scan.Request{Budget: b, Stage: run.Inferring}, func(rows *scan.Rows) error {
		if rows.Widens() || rows.Batch == nil {
			return rows.Wider(i.Source.Inputs)
		}
		i.Records += rows.Batch.NumRows()
		i.Observed.Measure(rows.Batch)
		return nil
	})
	i.Observed.SetLongest(&i.Schema)
	return err
}

// MustGive refuses a source that gave no record although its objects have bytes, unless these are a header or columns alone.
func (d *Data) MustGive(records int64) error {
	if records > 0 {
		return nil
	}
	for _, in := range d.Inputs {
		if !in.Rules.Header && !in.Rules.Format.Columnar() {
			return fault.New(fault.Input, "has %s, but no record", wording.Count(in.Size, true, "byte", "bytes")).In(in.Location).
				Try("look at how it is read").By(fault.LookAt, in.Location)
		}
	}
	return nil
}

// Scan says how much of a source is looked at before its schema is settled.
type Scan uint8

// ScanUsual leaves it to the command; ScanSample looks at records spread over the source, ScanFull at all.
const (
	ScanUsual Scan = iota
	ScanSample
	ScanFull
)

// First settles a schema from a sample where that is enough to begin with, otherwise from everything.
func (d *Data) First(ctx context.Context, r Reading, b run.Budget) (*Inference, error) {
	i, err := d.infer(ctx, r, b, r.Scan == ScanFull, false)
	if err != nil || i.Whole {
		return i, err
	}
	// What more than half of the values are shows only when all are seen.
	if i.Observed.Undecided() || len(i.Unmatched) > 0 || r.Corrections.Outvote {
		return d.All(ctx, r, b)
	}
	return i, nil
}

// All settles a schema from everything.
func (d *Data) All(ctx context.Context, r Reading, b run.Budget) (*Inference, error) {
	return d.infer(ctx, r, b, true, false)
}

// infer settles the schema of the source, from all of it or, where the outcome will be put to the test anyway, from records spread over
// it. keys asks for what tells whether values repeat.
func (d *Data) infer(ctx context.Context, r Reading, b run.Budget, whole, keys bool) (*Inference, error) {
	if declared, ok := d.Rows.Declared(); ok {
		return d.declared(declared, r)
	}
	if r.Corrections.DecimalMark != "" && d.Format() != sniff.Delimited {
		return nil, fault.New(fault.Usage, "--decimal-mark is for delimited text; numbers in %s always have a point",
			d.Format()).Try("leave it out")
	}
	var sample *scan.Sample
	if whole = whole || d.Bytes <= scan.SmallBytes; !whole {
		sample = scan.NewSample(d.Bytes)
	}
	total, err := d.observe(ctx, sample, r, b, keys)
	if err != nil {
		return nil, err
	}
	settled, unmatched := total.Settle(r.Corrections)
	unmatched = slices.DeleteFunc(unmatched, func(u schema.Unmatched) bool {
		// A record of JSON need not have every member, so one that is missing is a mistake only where there is one of a like name.
		return u.Flag == schema.DeclaredFlag && !u.Near && !d.Rows.Named()
	})
	if err := distinctNames("", settled.Fields); err != nil {
		return nil, err
	}
	if len(settled.Fields) == 0 && len(settled.Omit) > 0 && len(unmatched) == 0 && whole {
		return nil, fault.New(fault.Usage, "--only and --drop leave no column").Try("keep one of %s",
			strings.Join(settled.Omit[:min(len(settled.Omit), 10)], ", "))
	}
	columns := 0
	settled.Walk(func(string, *schema.Field) { columns++ })
	if err := r.Limits.CheckColumns(columns, d.Inputs[0].Location); err != nil {
		return nil, err
	}
	return &Inference{Source: d, Schema: settled, Observed: total, Records: total.Records(), Whole: whole, Unmatched: unmatched,
		sample: sample}, nil
}

// declared settles the schema of a source that declares its columns: it is these, with corrections.
func (d *Data) declared(own []schema.Field, r Reading) (*Inference, error) {
	seen := &schema.Observed{}
	for i, in := range d.Rows.Objects() {
		seen.Declare(i, in.Own.Fields)
	}
	c := r.Corrections
	if len(c.Columns) == 0 {
		c.Columns = own
	} else {
		c.Columns = append(slices.Clone(c.Columns), fieldsBesides(own, c.Columns)...)
	}
	settled, unmatched := seen.Settle(c)
	if err := distinctNames("", settled.Fields); err != nil {
		return nil, err
	}
	return &Inference{Source: d, Schema: settled, Observed: seen, Whole: true, Own: true, Unmatched: unmatched}, nil
}

// fieldsBesides returns the fields that others do not declare already.
func fieldsBesides(fields, others []schema.Field) []schema.Field {
	index := schema.NewIndex(others, schema.SafeNames)
	var out []schema.Field
	for _, f := range fields {
		if index.Find(f.Name) < 0 {
			out = append(out, f)
		}
	}
	return out
}

// wideNames is from how many columns on a source is too wide for much to be kept of each.
const wideNames = 2000

// wide reports whether the source has very many columns, as far as their names tell.
func (d *Data) wide() bool {
	return slices.ContainsFunc(d.Inputs, func(in source.Input) bool { return len(in.Rules.Names) > wideNames })
}

// mostExactly is how many different values of all columns together are counted exactly, in 128 MiB, and how many values are
// held against each other to tell whether all differ, in 128 MiB more; beyond it the number is estimated, and whether all
// differ stays open.
const mostExactly = 16 << 20

// observe gathers the evidence of a pass.
func (d *Data) observe(ctx context.Context, sample *scan.Sample, r Reading, b run.Budget, keys bool) (*schema.Observed, error) {
	var mark byte
	if r.Corrections.DecimalMark != "" {
		mark = r.Corrections.DecimalMark[0]
	}
	var room, hashRoom *schema.Room
	if keys {
		most := min(mostExactly, b.Share(mostExactly))
		if d.wide() {
			most /= 8
		}
		room, hashRoom = schema.NewRoom(most), schema.NewRoom(most)
	}
	var merging sync.Mutex
	var kept []*schema.Observed
	err := scan.Observe(ctx, d.Source, sample, b, func() scan.Observer {
		seen := &schema.Observed{Mark: mark, Keys: keys, Nulls: r.Corrections.Nulls, Room: room, HashRoom: hashRoom,
			Openings: r.Corrections.OpeningsOf(), MostFields: r.Limits.MostColumns(), Lean: d.wide()}
		merging.Lock()
		kept = append(kept, seen)
		merging.Unlock()
		return &observer{limits: r.Limits, seen: seen}
	})
	if err != nil {
		return nil, err
	}
	total := kept[0]
	for _, seen := range kept[1:] {
		total.Merge(seen)
	}
	return total, nil
}

// observer is one worker that gathers evidence.
type observer struct {
	limits source.Limits
	seen   *schema.Observed
}

func (o *observer) Fields(r *delimited.Records, names []string) error {
	o.seen.Delimited(r, names)
	return nil
}

func (o *observer) Values(r *json.Records, in source.Input) error {
	if o.seen.JSON(r); o.seen.Exceeded {
		return o.limits.TooMany(o.seen.MostFields, in)
	}
	return nil
}

// distinctNames refuses columns of one name, which only renaming can bring about.
func distinctNames(path string, fields []schema.Field) error {
	seen := map[string]string{}
	for _, f := range fields {
		if other, ok := seen[strings.ToLower(f.Name)]; ok {
			return fault.New(fault.Usage, "the columns %q and %q would both be called %q", path+other, path+f.Source(),
				f.Name).Try("give one of them another name with --rename")
		}
		seen[strings.ToLower(f.Name)] = f.Source()
		if err := distinctNames(path+f.Source()+".", f.Type.Fields); err != nil {
			return err
		}
	}
	return nil
}

// Matched explains corrections that name no column.
func (i *Inference) Matched() error {
	if len(i.Unmatched) == 0 {
		return nil
	}
	u := i.Unmatched[0]
	var names []string
	i.Observed.Root.Walk(func(path string) { names = append(names, path) })
	return fault.New(fault.Usage, "%s names a column %q that the source does not have", u.Flag, u.Name).Try("%s",
		schema.Choices(u.Name, names))
}

// OfRecords returns the inference of the records that rows of another form come of; without one, the inference itself.
func (i *Inference) OfRecords() *Inference {
	if f := i.Source.form; f != nil {
		return f.inference
	}
	return i
}

// AssumedStarts are the offsets, by object, at which the records of the sample were taken to begin; nil where all records were looked at.
func (i *Inference) AssumedStarts() map[int][]int64 {
	if i.Whole || i.sample == nil {
		return nil
	}
	return i.sample.AssumedStarts
}

// SettleUnseen makes plain strings of the columns in which the whole source has no value. Their type stays open, except that of
// the elements of lists and the keys and values of maps, which a table cannot change.
func SettleUnseen(s *schema.Schema) {
	parts := make(map[*schema.Field]bool)
	s.Walk(func(_ string, f *schema.Field) {
		parts[f.Type.Key], parts[f.Type.Element] = true, true
		f.Untyped = f.Untyped || f.Unseen && !parts[f]
		f.Unseen = false
	})
}

// Problem describes the records that could not be read, nil when all could.
func (i *Inference) Problem() *fault.Error {
	p := i.Observed.Problem
	if p == nil {
		return nil
	}
	e := scan.ProblemError(i.Source.Inputs[p.Place.Object].Location, p.Place.Line, p.Problem)
	if hidden, ok := i.Mask.Error(e).(*fault.Error); ok {
		return hidden
	}
	return e
}

// Where writes a place as file:line.
func (i *Inference) Where(p schema.Place) string {
	return fmt.Sprintf("%s:%d", i.Source.Inputs[p.Object].Location, p.Line)
}

// Column finds the field and the evidence of a column or part by its path.
func (i *Inference) Column(path string) (*schema.Field, *schema.Node, error) {
	var names []string
	var field *schema.Field
	var node *schema.Node
	i.Walk(func(at string, f *schema.Field, n *schema.Node, _ int) {
		names = append(names, at)
		if field == nil && slices.Contains([]string{at, f.Source(), strings.ReplaceAll(at, "."+schema.ElementName, "")}, path) {
			field, node = f, n
		}
	})
	if field == nil {
		return nil, nil, fault.New(fault.Usage, "there is no column %q", path).Try("%s", schema.Choices(path, names))
	}
	return field, node, nil
}

// Walk calls visit for every column and part with its legal path, its evidence and its depth, parents first.
func (i *Inference) Walk(visit func(path string, f *schema.Field, n *schema.Node, depth int)) {
	walkPairs("", i.Schema.Fields, &i.Observed.Root, 0, visit)
}

func walkPairs(prefix string, fields []schema.Field, parent *schema.Node, depth int,
	visit func(string, *schema.Field, *schema.Node, int)) {
	for at := range fields {
		f := &fields[at]
		if node := parent.Member(f.Source()); node != nil {
			walkPair(prefix+f.Name, f, node, depth, visit)
		}
	}
}

func walkPair(path string, f *schema.Field, n *schema.Node, depth int, visit func(string, *schema.Field, *schema.Node, int)) {
	visit(path, f, n, depth)
	switch {
	case f.Type.Kind == schema.Struct:
		walkPairs(path+".", f.Type.Fields, n, depth+1, visit)
	case f.Type.Kind == schema.List && n.Element != nil:
		walkPair(path+"."+schema.ElementName, f.Type.Element, n.Elements(), depth+1, visit)
	case f.Type.Kind == schema.Map:
		if values := n.Dictionary(); values != nil {
			walkPair(path+"."+schema.ValueName, f.Type.Element, values, depth+1, visit)
		}
	}
}
