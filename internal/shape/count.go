package shape

import (
	"context"
	"math"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/schema"
)

// chain is lists within each other that rows are made of. Lists of different chains have nothing to do with each other, so rows multiply.
type chain []*unnest

// chains sorts the lists into chains, each settled by itself.
func chains(fields []schema.Field, spec Spec) ([]chain, error) {
	var names [][]string
	var out []chain
	for _, lists := range spec.Unnest {
		at := -1
		for i, known := range names {
			for _, earlier := range known {
				if lists[0] == earlier || strings.HasPrefix(lists[0], earlier+".") {
					at = i
				}
			}
		}
		if at < 0 {
			at = len(out)
			names, out = append(names, nil), append(out, nil)
		}
		names[at] = append(names[at], lists...)
		out[at] = append(out[at], &unnest{lists: lists, dropEmpty: spec.DropEmpty, flag: "--unnest"})
	}
	for _, c := range out {
		settled := schema.Schema{Fields: fields}.Clone().Fields
		for _, step := range c {
			var err error
			if settled, err = step.settle(settled); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// Multiplies reports whether rows are made of lists that have nothing to do with each other.
func (p *Plan) Multiplies() bool { return len(p.chains) > 1 }

// Count returns for each row of a batch how many Apply makes of it, without making them; -1 for rows that a condition keeps out.
func (p *Plan) Count(ctx context.Context, fields []schema.Field, batch arrow.RecordBatch) ([]int64, error) {
	f := &frame{fields: fields, arrays: batch.Columns(), rows: int(batch.NumRows())}
	for _, step := range p.steps {
		if w, ok := step.(*where); ok {
			if err := w.apply(ctx, f); err != nil {
				return nil, err
			}
		}
	}
	counts := make([]int64, batch.NumRows())
	if f.origin != nil {
		for i := range counts {
			counts[i] = -1
		}
		for _, at := range f.origin {
			counts[at] = 0
		}
	}
	for n, c := range p.chains {
		made, err := c.rows(ctx, f)
		if err != nil {
			return nil, err
		}
		for row, rows := range made {
			at := row
			if f.origin != nil {
				at = int(f.origin[row])
			}
			if n == 0 {
				counts[at] = rows
			} else if counts[at] = counts[at] * rows; rows > 0 && counts[at] > math.MaxInt64/1_000_000_000 {
				counts[at] = math.MaxInt64 / 1_000_000_000
			}
		}
	}
	return counts, nil
}

// rows returns how many rows one chain makes of each.
func (c chain) rows(ctx context.Context, f *frame) ([]int64, error) {
	part := &frame{arrays: f.arrays, rows: f.rows}
	for _, step := range c {
		if err := step.apply(ctx, part); err != nil {
			return nil, err
		}
	}
	out := make([]int64, f.rows)
	for _, at := range part.origin {
		out[at]++
	}
	return out, nil
}
