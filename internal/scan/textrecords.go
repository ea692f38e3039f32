package scan

import (
	"context"
	"io"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/run"
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// Texts hands over the fields of the first records as they are written.
func (t *text) Texts(ctx context.Context, n int, visit func(Record) error) error {
	g := &glance{left: n, visit: visit}
	for _, in := range t.source.Inputs {
		if g.left <= 0 && n > 0 {
			break
		}
		if err := g.object(ctx, in); err != nil {
			return err
		}
	}
	return nil
}

// glance is a look at the first records.
type glance struct {
	left  int
	visit func(Record) error
}

// give hands over a record; a trouble does not count as one.
func (g *glance) give(r Record) error {
	if r.Trouble == nil {
		if g.left <= 0 {
			return io.EOF
		}
		g.left--
	}
	return g.visit(r)
}

// object reads records of text until there are enough.
func (g *glance) object(ctx context.Context, in source.Input) error {
	limits := in.Limits.Parse()
	stream, text, err := in.Text(ctx, &limits)
	if err != nil {
		return err
	}
	defer stream.Close()
	// The names are known although there may be no record.
	if err := g.visit(Record{Names: in.Rules.Names}); err != nil {
		return err
	}
	alloc := func(n int) ([]byte, error) { return make([]byte, 0, n), nil }
	limits.BlockBytes = min(limits.BlockBytes, 64<<10)
	err = parse.Blocks(ctx, text, in.Cutter(), limits, alloc, func(b parse.Block) error {
		if g.left <= 0 {
			return io.EOF
		}
		if in.Rules.Format != sniff.Delimited {
			return g.lines(in, &b)
		}
		return g.fields(in, &b)
	})
	if err == io.EOF {
		return nil
	}
	return source.Located(err, in.Location)
}

// fields takes records of delimited text.
func (g *glance) fields(in source.Input, b *parse.Block) error {
	var r delimited.Records
	p := Parser(in.Rules)
	p.Parse(b, &r)
	for row := 0; row < r.Rows && g.left > 0; row++ {
		var cells []Cell
		for _, f := range r.Row(row) {
			cells = append(cells, Cell{Text: f.Text, Null: f.Text == "" && !f.Quoted})
		}
		if err := g.give(Record{Names: in.Rules.Names, Cells: cells}); err != nil {
			return err
		}
	}
	return g.troubles(in, b, r.Problems)
}

func (g *glance) troubles(in source.Input, b *parse.Block, problems []parse.Problem) error {
	for _, p := range problems {
		if err := g.give(Record{Trouble: ProblemError(in.Location, b.LineAt(p.Start), p)}); err != nil {
			return err
		}
	}
	return nil
}

// lines takes JSON records, their members as text.
func (g *glance) lines(in source.Input, b *parse.Block) error {
	var r json.Records
	var s json.Scanner
	parseJSON(&r, in, b)
	s.Limit(in.Limits.Depth)
	s.Lenient(in.Rules.Lenient)
	problems := r.Problems
	for row := 0; row < r.Rows() && g.left > 0; row++ {
		var record Record
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
			record.Names = append(record.Names, string(s.Name(key, escaped)))
			record.Cells = append(record.Cells, member(&s))
		}
		s.End()
		if err := s.Err(); err != nil {
			start, end := r.Span(row)
			problems = append(problems, parse.Problem{Start: start, End: end, Code: parse.BadJSON, Reason: "cannot be read: " +
				err.Error(), WayOut: "mend the record"})
			continue
		}
		if err := g.give(record); err != nil {
			return err
		}
	}
	return g.troubles(in, b, problems)
}

// member reads one value as text.
func member(s *json.Scanner) Cell {
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
	return Cell{Text: string(s.Skip()), Plain: true}
}

// Observer looks at the records of blocks, for one worker.
type Observer interface {
	// Fields looks at records of delimited text, whose fields have names; Values at records of JSON.
	Fields(r *delimited.Records, names []string) error
	Values(r *json.Records, in source.Input) error
}

// Observe has all records of text, or those of a sample, looked at as they are, side by side. newObserver is called once for each worker.
func Observe(ctx context.Context, s *source.Source, sample *Sample, b run.Budget, newObserver func() Observer) error {
	p := pass{source: s, budget: b, stage: run.Inferring, sample: sample}
	return process(ctx, p, func() func(*parse.Block) (struct{}, error) {
		o := newObserver()
		var fields delimited.Records
		var values json.Records
		return func(block *parse.Block) (struct{}, error) {
			in := s.Inputs[block.Object]
			if in.Rules.Format != sniff.Delimited {
				parseJSON(&values, in, block)
				return struct{}{}, o.Values(&values, in)
			}
			parser := Parser(in.Rules)
			parser.Parse(block, &fields)
			return struct{}{}, o.Fields(&fields, in.Rules.Names)
		}
	}, func(parse.Block, struct{}) error { return nil })
}
