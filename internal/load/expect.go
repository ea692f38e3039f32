package load

import (
	"context"
	"slices"
	"time"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Expect goes through a load without writing anything. It returns the account, or a *write.DriftError where the source differs in any
// way from the table, which has to be there.
func Expect(ctx context.Context, l Request, b run.Budget) (*write.Report, error) {
	if _, err := l.Warehouse.Find(ctx, l.Into); err != nil {
		return nil, err
	}
	return l.expect(ctx, b, l.Into.String(), nil)
}

// ExpectColumns does so with columns in the place of a table; expected is what they are called in messages.
func ExpectColumns(ctx context.Context, l Request, columns []schema.Field, expected string, b run.Budget) (*write.Report, error) {
	s := schema.Schema{Key: l.Corrections.Key}
	var untold []string
	for _, f := range columns {
		if f.Type.Kind == schema.Unknown {
			// What lies in its texts tells its type, which is no difference whatever it is.
			untold = append(untold, f.Name, f.Source())
			continue
		}
		s.Fields = append(s.Fields, f)
	}
	if len(s.Fields) == 0 {
		return nil, fault.New(fault.Usage, "%s describes no columns, so nothing can differ from them", expected).
			Try("have a feed file written that does, with --emit feed")
	}
	// The table is there in memory alone.
	var err error
	if l.Warehouse, err = table.OpenWarehouse(storage.NewMemory(), "memory://expected"); err != nil {
		return nil, err
	}
	if l.Into, err = table.ParseName("expected.columns"); err != nil {
		return nil, err
	}
	made, err := l.Warehouse.Create(l.Into, s, layout.Spec{}, layout.Sort{}, "")
	if err != nil {
		return nil, err
	}
	if _, err := made.Commit(ctx, nil); err != nil {
		return nil, err
	}
	l.Corrections.Columns, l.KeyStated = nil, false
	return l.expect(ctx, b, expected, untold)
}

// expect goes through the load. Columns that are untold differ in nothing.
func (l Request) expect(ctx context.Context, b run.Budget, expected string, untold []string) (*write.Report, error) {
	l.DryRun, l.Again, l.Drift, l.Splits, l.Partition, l.Sort = true, true, Grow, nil, "", ""
	started := time.Now()
	report, err := Load(ctx, l, b)
	if err != nil {
		return nil, err
	}
	report.Seconds, report.Table = time.Since(started).Seconds(), ""
	report.Drift = slices.DeleteFunc(report.Drift, func(d schema.Difference) bool { return slices.Contains(untold, d.Column) })
	if len(report.Drift) > 0 {
		return report, &write.DriftError{Table: expected, Differences: report.Drift, Expected: true}
	}
	return report, nil
}
