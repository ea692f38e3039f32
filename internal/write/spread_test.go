package write

import (
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/mask"
	"trevak/internal/schema"
)

// TestSpreads counts values, nulls and few texts, whether texts have numbers or not.
func TestSpreads(t *testing.T) {
	s := schema.Schema{}
	for _, f := range []struct {
		name string
		kind schema.Kind
	}{{"area", schema.String}, {"coded", schema.String}, {"note", schema.String}, {"many", schema.String}, {"depth", schema.Long}} {
		s.Fields = append(s.Fields, schema.Field{Name: f.name, Type: schema.Type{Kind: f.kind}})
	}
	counted := newSpreads(s, mask.Of([]string{"note"}))
	coded := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Int32, ValueType: arrow.BinaryTypes.String}
	for batch := range 3 {
		text := array.NewStringBuilder(memory.DefaultAllocator)
		numbers := array.NewDictionaryBuilder(memory.DefaultAllocator, coded).(*array.BinaryDictionaryBuilder)
		many := array.NewStringBuilder(memory.DefaultAllocator)
		depths := array.NewInt64Builder(memory.DefaultAllocator)
		for row := range 100 {
			word := []string{"north", "south", "west"}[(batch+row)%3]
			if row%4 == 0 {
				text.AppendNull()
				numbers.AppendNull()
			} else {
				text.Append(word)
				if err := numbers.AppendString(word); err != nil {
					t.Fatal(err)
				}
			}
			many.Append(fmt.Sprint(batch, row))
			depths.Append(int64(row))
		}
		words := text.NewArray()
		columns := []arrow.Array{words, numbers.NewArray(), words, many.NewArray(), depths.NewArray()}
		var fields []arrow.Field
		for i, c := range columns {
			fields = append(fields, arrow.Field{Name: s.Fields[i].Name, Type: c.DataType(), Nullable: true})
		}
		counted.add(array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, 100))
	}
	for _, c := range counted.list() {
		nulls, few := int64(75), c.Path == "area" || c.Path == "coded"
		if c.Path == "many" || c.Path == "depth" {
			nulls = 0
		}
		if c.Nulls != nulls || c.Values != 300-nulls || c.Few != few || few && strings.Join(c.Texts, " ") != "north south west" {
			t.Errorf("%+v", c)
		}
	}
}
