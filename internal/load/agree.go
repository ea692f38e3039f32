package load

import (
	"fmt"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// sameLayout refuses partition fields and sort orders that are not the table's.
func (l *appending) sameLayout() error {
	sort, err := layout.ParseSort(l.Sort, l.table.Schema)
	if err != nil {
		return err
	}
	if l.Sort != "" && sort.String() != l.table.Sort.String() {
		return fault.New(fault.Usage, "the rows of table %s are sorted by %s, not by %s", l.table.Name, orNothing(l.table.Sort),
			sort).Try("leave --sort out; a table keeps its order")
	}
	partition := l.PartitionWith(l.Partition)
	if l.Partition == "" {
		return nil
	}
	spec, err := layout.ParseSpec(partition, l.table.Schema)
	if err != nil {
		return err
	}
	if spec.String() != l.table.Spec.String() {
		return fault.New(fault.Usage, "the table %s is partitioned by %s, not by %s", l.table.Name, orNothing(l.table.Spec), spec).
			Try("leave --partition out; a table keeps its partitioning")
	}
	return nil
}

func orNothing(s fmt.Stringer) string {
	if s.String() == "" {
		return "nothing"
	}
	return s.String()
}

// sameNames refuses rows whose flattened names would mean other things than those of the table: a column that now has to be
// told apart from another may be the one that the table has under the plain name.
func (l *appending) sameNames() error {
	index := schema.NewIndex(l.table.Schema.Fields, l.Corrections.Names)
	for _, twin := range l.data.Twins() {
		if index.Find(twin.Plain) >= 0 && index.Find(twin.Name) < 0 {
			return fault.New(fault.Usage, "%s and another path both come out as the column %q, and table %s was made of only one of them",
				twin.Path, twin.Plain, l.table.Name).
				Try("leave one of them out with --drop, as in --drop %s", strings.TrimPrefix(twin.Path, "."))
		}
	}
	return nil
}
