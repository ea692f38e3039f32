package infer

import (
	"context"

	"trevak/internal/fit"
	"trevak/internal/profile"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
)

// Distribution reads the source once more, and tells how the values of each leaf column are distributed.
func (i *Inference) Distribution(ctx context.Context, b run.Budget) ([]profile.Column, error) {
	s := i.Schema.Clone()
	s.AssignIDs()
	SettleUnseen(&s)
	rows := profile.New(s)
	r := scan.Request{Target: scan.Target{Schema: s, Unknown: fit.UnknownKept, Style: schema.SafeNames}, Budget: b, Stage: run.Inferring}
	err := i.Source.Rows.Read(ctx, r, func(read *scan.Rows) error {
		if read.Batch != nil {
			rows.Add(read.Batch)
		}
		return nil
	})
	return profile.Masked(i.Mask, rows.Columns()), err
}
