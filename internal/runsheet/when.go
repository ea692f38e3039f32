package runsheet

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/schema"
)

// Facts are what conditions of feeds speak of: the objects that the sources name, those of them that the tables do not have yet, and how
// many bytes the latter have.
type Facts struct{ Objects, New, Bytes int64 }

var factFields = []schema.Field{{Name: "objects", Type: schema.Type{Kind: schema.Long}}, {Name: "new",
	Type: schema.Type{Kind: schema.Long}},
	{Name: "bytes", Type: schema.Type{Kind: schema.Long}}}

// Holds works out a condition like objects > 0.
func Holds(condition string, f Facts) (bool, error) {
	e, err := expr.Parse(condition, factFields)
	if err != nil {
		return false, fault.New(fault.Usage, "the condition %s: %s", fault.Quote(condition), err).
			Try("write it like objects > 0; it may speak of objects, new and bytes")
	}
	if e.Type().Kind != schema.Boolean {
		return false, fault.New(fault.Usage, "%s is no condition", fault.Quote(condition)).Try("write it like objects > 0")
	}
	var columns []arrow.Array
	for _, n := range []int64{f.Objects, f.New, f.Bytes} {
		b := array.NewInt64Builder(memory.DefaultAllocator)
		b.Append(n)
		columns = append(columns, b.NewArray())
	}
	rows, err := e.Rows(columns, 1)
	return len(rows) > 0, fault.Wrap(fault.Usage, err, "the condition %s cannot be worked out", fault.Quote(condition))
}
