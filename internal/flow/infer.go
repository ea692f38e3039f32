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
	// Observed holds the evidence, with a node for each column in the order of the schema.
	Observed *schema.Observed
	// Records is how many records were looked at.
	Records int64
	// Whole is set when all records were.
	Whole bool
}

// Infer reads the whole source and settles its schema.
func Infer(ctx context.Context, r Reading, b Budget) (*Inference, error) {
	source, err := Survey(ctx, r)
	if err != nil {
		return nil, err
	}
	return source.infer(ctx, r, b, true)
}

// sampleObjects is how many objects a sample is taken from.
const sampleObjects = 16

// sampleBytes is the stored size up to which a sample would save nothing.
const sampleBytes = 4 << 20

// infer settles the schema of the source, from all of it or, where the outcome will be put to the test anyway, from the
// first block of objects spread over it.
func (s *Source) infer(ctx context.Context, r Reading, b Budget, whole bool) (*Inference, error) {
	if s.Format() == sniff.Parquet {
		return nil, fault.New(fault.Usage, "brings its schema with it").In(s.Inputs[0].Location).Try("see it with: trevak describe %s", s.Inputs[0].Location)
	}
	p := s.pass("inferring", b)
	if whole = whole || s.Bytes <= sampleBytes; !whole {
		p.blocksOf = 1
		p.source = s.spread(sampleObjects)
	}
	total := &schema.Observed{}
	var merging sync.Mutex
	var kept []*schema.Observed
	err := process(ctx, p, func() func(*parse.Block) (struct{}, error) {
		o := &observer{source: p.source, seen: &schema.Observed{}}
		merging.Lock()
		kept = append(kept, o.seen)
		merging.Unlock()
		return o.work
	}, func(parse.Block, struct{}) error { return nil })
	if err != nil {
		return nil, err
	}
	for _, seen := range kept {
		total.Merge(seen)
	}
	settled, unused := total.Settle(r.Types)
	if len(unused) > 0 && whole {
		return nil, unknownColumn(unused, settled)
	}
	if len(unused) > 0 {
		return s.infer(ctx, r, b, true)
	}
	columns := 0
	settled.Walk(func(string, *schema.Field) { columns++ })
	if err := r.Limits.checkColumns(columns, s.Inputs[0].Location); err != nil {
		return nil, err
	}
	return &Inference{Source: s, Schema: settled, Observed: total, Records: total.Root.Counts[schema.ClassObject.Index()], Whole: whole}, nil
}

// spread returns a source of up to n of the objects, evenly spread, the first and the last among them.
func (s *Source) spread(n int) *Source {
	if len(s.Inputs) <= n {
		return s
	}
	out := *s
	out.Inputs = nil
	for i := range n {
		out.Inputs = append(out.Inputs, s.Inputs[i*(len(s.Inputs)-1)/(n-1)])
	}
	return &out
}

// unknownColumn explains pins that match no column.
func unknownColumn(unused []string, s schema.Schema) error {
	slices.Sort(unused)
	var names []string
	s.Walk(func(path string, f *schema.Field) { names = append(names, path) })
	e := fault.New(fault.Usage, "--type names a column %q that the source does not have", unused[0])
	if near := schema.Nearest(unused[0], names); len(near) > 0 {
		return e.Try("the nearest names are %s", strings.Join(near, ", "))
	}
	return e.Try("the columns are %s", strings.Join(names[:min(len(names), 10)], ", "))
}

// observer is one worker of an inferring pass.
type observer struct {
	source  *Source
	seen    *schema.Observed
	records delimited.Records
	lines   json.Records
}

func (o *observer) work(block *parse.Block) (struct{}, error) {
	in := o.source.Inputs[block.Object]
	if in.Rules.Format != sniff.Delimited {
		parseJSON(&o.lines, in, block)
		o.seen.JSON(&o.lines)
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
