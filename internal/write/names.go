package write

import (
	"strings"
	"unicode"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// WithoutControls refuses names of columns with characters that cannot be seen.
func WithoutControls(s schema.Schema) (err error) {
	s.Walk(func(path string, f *schema.Field) {
		if strings.ContainsFunc(f.Name, unicode.IsControl) && err == nil {
			err = fault.New(fault.Usage, "the name of the column %s holds a control character, which tables and columnar files are "+
				"not to have", fault.Quote(path)).
				Try("give it another name with --rename, or leave --names keep out")
		}
	})
	return err
}

// Arrange reads how rows are partitioned and sorted.
func (t Task) Arrange(partition, sort string, o layout.Options, s schema.Schema) (spec layout.Spec, out layout.Options, err error) {
	if partition = t.PartitionWith(partition); partition != "" {
		if spec, err = layout.ParseSpec(partition, s); err != nil {
			return nil, o, err
		}
	}
	if o.Sort, err = layout.ParseSort(sort, s); err != nil {
		return nil, o, err
	}
	o.Columnar, err = o.Columnar.For(s)
	return spec, o, err
}
