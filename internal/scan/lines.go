package scan

import (
	"context"
	"io"
	"slices"

	"trevak/internal/fit"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
)

// LinesOf returns the lines in which some records of an object begin, by their numbers from 1, in the order of the list; 0 for those of an
// object that has no lines.
func LinesOf(ctx context.Context, in source.Input, records []int64, b run.Budget) ([]int64, error) {
	out := make([]int64, len(records))
	if in.Rules.Format.Columnar() {
		return out, nil
	}
	last := slices.Max(records)
	from := &text{&source.Source{Inputs: []source.Input{in}, Bytes: in.Size}}
	target := Target{Schema: schema.Schema{Fields: []schema.Field{{Name: "\x00none", Type: schema.Type{Kind: schema.String}}},
		Omission: schema.Omission{OmitRest: true}}, Unknown: fit.UnknownKept}
	var before int64
	err := from.Read(ctx, Request{Target: target, Ranks: true, starts: true, text: true, Budget: b}, func(r *Rows) error {
		for row, start := range r.starts {
			n := before + r.Rank(row) + 1
			for i, wanted := range records {
				if wanted == n {
					out[i] = r.Block.LineAt(start)
				}
			}
		}
		if before += r.Records + int64(len(r.Problems)); before >= last {
			return io.EOF
		}
		return nil
	})
	return out, ended(err)
}
