package check

import (
	"context"
	"strconv"

	"trevak/internal/scan"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// Kept are the rules that a table keeps.
func Kept(t *table.Table) (out []Rule, err error) {
	for _, text := range t.Checks() {
		r, err := Parse(text)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// Checked is what the rules of a table came to for the rows that it has.
type Checked struct {
	Table   string
	Rows    int64
	Results []Result
}

// Table holds the rows of a table against the rules that it keeps, and more.
func Table(ctx context.Context, w *table.Warehouse, t *table.Table, more []Rule) (*Checked, error) {
	rules, err := Kept(t)
	if err != nil {
		return nil, err
	}
	rules = append(rules, more...)
	out := &Checked{Table: t.Name.String()}
	rows, err := ForRows(ctx, rules, t.Schema, w.Find)
	if err != nil {
		return nil, err
	}
	for _, r := range rows.Rules {
		out.Results = append(out.Results, Result{Rule: r})
	}
	if len(rows.Rules) > 0 {
		if err := eachRow(ctx, t, rows, out); err != nil {
			return nil, err
		}
	} else if n, known := t.Rows(); known {
		out.Rows = n
	}
	for _, r := range rules {
		if r.Unique == nil {
			continue
		}
		result, err := UniqueIn(ctx, r, t)
		if err != nil {
			return nil, err
		}
		out.Results = append(out.Results, result)
	}
	return out, nil
}

// eachRow holds the rows of a table against rules that a row keeps by itself.
func eachRow(ctx context.Context, t *table.Table, rows *Rows, out *Checked) error {
	from, err := scan.OfTable(ctx, t)
	if err != nil {
		return err
	}
	target := scan.Target{Schema: t.Schema.Bare(), Fixed: true}
	for i := range target.Schema.Fields {
		target.Schema.Fields[i].Required = false
	}
	return from.Read(ctx, scan.Request{Target: target, Ranks: true}, func(r *scan.Rows) error {
		out.Rows += r.Batch.NumRows()
		broken, err := rows.Broken(r.Batch)
		for i, list := range broken {
			for _, row := range list {
				out.Results[i].Add(1, func() string {
					return place(t, from.Objects()[r.Block.Object].Location, r.Before+r.Rank(int(row))+1)
				}, func() string { return rows.Values(i, r.Batch, int(row)) })
			}
		}
		return err
	})
}

func place(t *table.Table, uri string, row int64) string {
	if rel, ok := storage.Rel(storage.Path(t.Location()), uri); ok {
		uri = rel
	}
	return uri + " row " + strconv.FormatInt(row, 10)
}
