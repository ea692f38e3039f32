package flow

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
	"trevak/internal/sniff"
)

// Inference is a schema and what it rests on.
type Inference struct {
	Source *Source
	Schema schema.Schema
	// Observed holds the evidence, with a node for each column in the order of the source.
	Observed *schema.Observed
	// Records is how many records were looked at.
	Records int64
	// Whole is set when all records were.
	Whole bool
	// Own says that the schema is that of columnar files.
	Own bool
	// Advice is what the evidence suggests, for a whole inference that was asked for as such.
	Advice Advice

	unmatched []schema.Unmatched
	sample    *sample
}

// Infer settles the schema of the source, from all records or, where sampled is set, from some of them.
func Infer(ctx context.Context, r Reading, b Budget) (*Inference, error) {
	source, err := survey(ctx, &r, b)
	if err != nil {
		return nil, err
	}
	if source.mayWiden() {
		if err := source.reshape(ctx, r, b, true); err != nil {
			return nil, err
		}
	}
	i, err := source.infer(ctx, r, b, r.Scan != ScanSample, true)
	if err != nil {
		return nil, err
	}
	if err := i.allMatched(); err != nil {
		return nil, err
	}
	if source.columnar() {
		return i, i.sampleColumns(ctx, r, b)
	}
	if err := source.mustGive(i.Records + i.Observed.Problems); err != nil {
		return nil, err
	}
	return i, i.advise(ctx, r, b)
}

// Scan says how much of a source is looked at before its schema is settled.
type Scan uint8

// ScanUsual leaves it to the command; ScanSample looks at records spread over the source, ScanFull at all.
const (
	ScanUsual Scan = iota
	ScanSample
	ScanFull
)

// inferFirst settles a schema from a sample where that is enough to begin with, otherwise from everything.
func (s *Source) inferFirst(ctx context.Context, r Reading, b Budget) (*Inference, error) {
	i, err := s.infer(ctx, r, b, r.Scan == ScanFull, false)
	if err != nil || i.Whole {
		return i, err
	}
	// What more than half of the values are shows only when all are seen.
	if i.Observed.Undecided() || len(i.unmatched) > 0 || r.Corrections.Outvote {
		return s.infer(ctx, r, b, true, false)
	}
	return i, nil
}

// infer settles the schema of the source, from all of it or, where the outcome will be put to the test anyway, from records spread over
// it. keys asks for what tells whether values repeat.
func (s *Source) infer(ctx context.Context, r Reading, b Budget, whole, keys bool) (*Inference, error) {
	if s.columnar() {
		return s.inferColumns(r)
	}
	if r.Corrections.DecimalMark != "" && s.Format() != sniff.Delimited {
		return nil, fault.New(fault.Usage, "--decimal-mark is for delimited text; numbers in %s always have a point", s.Format()).Try("leave it out")
	}
	p := s.pass("inferring", b)
	if whole = whole || s.Bytes <= sampleBytes; !whole {
		p.sample = newSample(s.Bytes)
	}
	total, err := s.observe(ctx, p, r, keys)
	if err != nil {
		return nil, err
	}
	settled, unmatched := total.Settle(r.Corrections)
	unmatched = slices.DeleteFunc(unmatched, func(u schema.Unmatched) bool {
		// A record of JSON need not have every member, so one that is missing is a mistake only where there is one of a like name.
		return u.Flag == schema.DeclaredFlag && !u.Near && !s.named()
	})
	if err := distinctNames("", settled.Fields); err != nil {
		return nil, err
	}
	if len(settled.Fields) == 0 && len(settled.Omit) > 0 && len(unmatched) == 0 && whole {
		return nil, fault.New(fault.Usage, "--only and --drop leave no column").Try("keep one of %s", strings.Join(settled.Omit[:min(len(settled.Omit), 10)], ", "))
	}
	columns := 0
	settled.Walk(func(string, *schema.Field) { columns++ })
	if err := r.Limits.checkColumns(columns, s.Inputs[0].Location); err != nil {
		return nil, err
	}
	return &Inference{Source: s, Schema: settled, Observed: total, Records: total.Records(), Whole: whole, unmatched: unmatched, sample: p.sample}, nil
}

// wideNames is from how many columns on a source is too wide for much to be kept of each.
const wideNames = 2000

// wide reports whether the source has very many columns, as far as their names tell.
func (s *Source) wide() bool {
	return slices.ContainsFunc(s.Inputs, func(in Input) bool { return len(in.Rules.Names) > wideNames })
}

// mostExactly is how many different values of all columns together are counted exactly, in 128 MiB, and how many values are held against each other
// to tell whether all differ, in 128 MiB more; beyond it the number is estimated, and whether all differ stays open.
const mostExactly = 16 << 20

// observe gathers the evidence of a pass.
func (s *Source) observe(ctx context.Context, p pass, r Reading, keys bool) (*schema.Observed, error) {
	var mark byte
	if r.Corrections.DecimalMark != "" {
		mark = r.Corrections.DecimalMark[0]
	}
	var room, hashRoom *schema.Room
	if keys {
		most := int64(mostExactly)
		if s.wide() {
			most /= 8
		}
		room, hashRoom = schema.NewRoom(most), schema.NewRoom(most)
	}
	var merging sync.Mutex
	var kept []*schema.Observed
	err := process(ctx, p, func() func(*parse.Block) (struct{}, error) {
		o := &observer{source: p.source, limits: r.Limits, seen: &schema.Observed{Mark: mark, Keys: keys, Nulls: r.Corrections.Nulls, Room: room, HashRoom: hashRoom, Openings: r.Corrections.OpeningsOf(), MostFields: r.Limits.mostColumns(), Lean: s.wide()}}
		merging.Lock()
		kept = append(kept, o.seen)
		merging.Unlock()
		return o.work
	}, func(parse.Block, struct{}) error { return nil })
	if err != nil {
		return nil, err
	}
	total := kept[0]
	for _, seen := range kept[1:] {
		total.Merge(seen)
	}
	return total, nil
}

// distinctNames refuses columns of one name, which only renaming can bring about.
func distinctNames(path string, fields []schema.Field) error {
	seen := map[string]string{}
	for _, f := range fields {
		if other, ok := seen[strings.ToLower(f.Name)]; ok {
			return fault.New(fault.Usage, "the columns %q and %q would both be called %q", path+other, path+f.Source(), f.Name).Try("give one of them another name with --rename")
		}
		seen[strings.ToLower(f.Name)] = f.Source()
		if err := distinctNames(path+f.Source()+".", f.Type.Fields); err != nil {
			return err
		}
	}
	return nil
}

// allMatched explains corrections that name no column.
func (i *Inference) allMatched() error {
	if len(i.unmatched) == 0 {
		return nil
	}
	u := i.unmatched[0]
	var names []string
	i.Observed.Root.Walk(func(path string) { names = append(names, path) })
	return fault.New(fault.Usage, "%s names a column %q that the source does not have", u.Flag, u.Name).Try("%s", schema.Choices(u.Name, names))
}

// observer is one worker of an inferring pass.
type observer struct {
	source  *Source
	limits  Limits
	seen    *schema.Observed
	records delimited.Records
	lines   json.Records
}

func (o *observer) work(block *parse.Block) (struct{}, error) {
	in := o.source.Inputs[block.Object]
	if in.Rules.Format != sniff.Delimited {
		parseJSON(&o.lines, in, block)
		if o.seen.JSON(&o.lines); o.seen.Exceeded {
			return struct{}{}, o.limits.tooMany(o.seen.MostFields, in)
		}
	} else {
		p := parser(in.Rules)
		p.Parse(block, &o.records)
		o.seen.Delimited(&o.records, in.Rules.Names)
	}
	return struct{}{}, nil
}

// Problem describes the records that could not be read, nil when all could.
func (i *Inference) Problem() *fault.Error {
	p := i.Observed.Problem
	if p == nil {
		return nil
	}
	return problemFault(i.Source.Inputs[p.Place.Object].Location, p.Place.Line, p.Problem)
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

func walkPairs(prefix string, fields []schema.Field, parent *schema.Node, depth int, visit func(string, *schema.Field, *schema.Node, int)) {
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
