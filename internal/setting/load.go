package setting

import (
	"strings"

	"trevak/internal/amend"
	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/table"
	"trevak/internal/write"
)

// LoadRequest makes of a flow a load into a table.
func (f *Flow) LoadRequest(t write.Task, w *table.Warehouse, fromFeed bool) (l load.Request, err error) {
	l = load.Request{Task: t, Warehouse: w, Partition: f.Partition, Sort: f.Sort, KeyStated: f.Stated("key")}
	if f.Into == "" {
		return l, fault.New(fault.Usage, "--into is missing").Try("name the table, like --into ops.readings")
	}
	if l.Into, err = table.ParseName(f.Into); err != nil {
		return l, err
	}
	if l.Favor, err = f.Favored(fromFeed); err != nil {
		return l, err
	}
	if l.Drift, err = load.ParseDrift(f.Drift); err != nil {
		return l, err
	}
	if l.Changed, err = load.ParseChanged(f.Changed); err != nil {
		return l, err
	}
	l.Again, l.Verify = f.Again, f.Verify
	for _, text := range f.Checks {
		rule, err := check.Parse(text)
		if err != nil {
			return l, err
		}
		l.Checks = append(l.Checks, rule)
	}
	if l.Mode, err = load.ParseMode(f.Mode); err != nil {
		return l, err
	}
	if l.As, err = amend.ParseHow("upsert-as", f.UpsertAs); err != nil {
		return l, err
	}
	l.Touching, l.NewestBy, l.DeleteWhere, l.UpdateOnly = f.Touching, f.NewestBy, f.DeleteWhere, f.UpdateOnly
	if l.Layout, err = f.LayoutOptions(); err != nil {
		return l, err
	}
	if f.Format != "" {
		if l.Format, err = table.ParseFormat(f.Format); err != nil {
			return l, err
		}
	}
	l.Splits, err = parseSplits(f.Split)
	return l, err
}

// parseSplits reads LIST=TABLE.
func parseSplits(texts []string) (out []load.Split, err error) {
	for _, text := range texts {
		list, name, ok := strings.Cut(text, "=")
		if !ok || list == "" {
			return nil, fault.New(fault.Usage, "--split %q does not name a list and a table",
				text).Try("write it like --split readings=ops.readings")
		}
		s := load.Split{List: list}
		if s.Into, err = table.ParseName(name); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}
