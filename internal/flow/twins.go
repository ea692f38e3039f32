package flow

import (
	"strings"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// sameNames refuses rows whose flattened names would mean other things than those of the table: a column that now has to be told apart from another may be
// the one that the table has under the plain name.
func (l *further) sameNames() error {
	if l.source.reshaped == nil {
		return nil
	}
	index := schema.NewIndex(l.table.Schema.Fields, l.Corrections.Names)
	for _, twin := range l.source.reshaped.plan.Twins() {
		if index.Find(twin.Plain) >= 0 && index.Find(twin.Name) < 0 {
			return fault.New(fault.Usage, "%s and another path both come out as the column %q, and table %s was made of only one of them", twin.Path, twin.Plain, l.table.Name).
				Try("leave one of them out with --drop, as in --drop %s", strings.TrimPrefix(twin.Path, "."))
		}
	}
	return nil
}
