package expr

import (
	"fmt"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// vector is the values of an expression for the rows of a batch. Of the slices that of the kind is set: longs for long, date
// (days), time and timestamps (microseconds), decimals for the unscaled values of decimals.
type vector struct {
	kind     schema.Kind
	null     []bool // nil where there is none
	longs    []int64
	doubles  []float64
	decimals []decimal128.Num
	texts    []string
	flags    []bool
}

func newVector(kind schema.Kind, n int) *vector {
	v := &vector{kind: kind}
	switch kind {
	case schema.Double:
		v.doubles = make([]float64, n)
	case schema.Decimal:
		v.decimals = make([]decimal128.Num, n)
	case schema.String:
		v.texts = make([]string, n)
	case schema.Boolean:
		v.flags = make([]bool, n)
	default:
		v.longs = make([]int64, n)
	}
	return v
}

func (v *vector) isNull(i int) bool { return v.null != nil && v.null[i] }

// setNull makes a value of n null.
func (v *vector) setNull(i, n int) {
	if v.null == nil {
		v.null = make([]bool, n)
	}
	v.null[i] = true
}

// set makes a value, of n, that of another vector of the same kind.
func (v *vector) set(i, n int, from *vector, at int) {
	if from.isNull(at) {
		v.setNull(i, n)
		return
	}
	switch v.kind {
	case schema.Double:
		v.doubles[i] = from.doubles[at]
	case schema.Decimal:
		v.decimals[i] = from.decimals[at]
	case schema.String:
		v.texts[i] = from.texts[at]
	case schema.Boolean:
		v.flags[i] = from.flags[at]
	default:
		v.longs[i] = from.longs[at]
	}
}

// kindOf returns the kind that a column's values have in expressions.
func kindOf(t schema.Type) (schema.Kind, bool) {
	switch t.Kind {
	case schema.Int, schema.Long:
		return schema.Long, true
	case schema.Float, schema.Double:
		return schema.Double, true
	case schema.String, schema.UUID:
		return schema.String, true
	case schema.Boolean, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz, schema.Decimal:
		return t.Kind, true
	}
	return 0, false
}

// fromColumn reads the values of a column; above are the nulls of what it is a part of.
func fromColumn(kind schema.Kind, a arrow.Array, above []bool) *vector {
	n := a.Len()
	v := newVector(kind, n)
	for i := range n {
		if a.IsNull(i) || above != nil && above[i] {
			v.setNull(i, n)
		}
	}
	switch a := a.(type) {
	case *array.Int64:
		copy(v.longs, a.Int64Values())
	case *array.Timestamp:
		for i, x := range a.TimestampValues() {
			v.longs[i] = int64(x)
		}
	case *array.Int32:
		for i, x := range a.Int32Values() {
			v.longs[i] = int64(x)
		}
	case *array.Date32:
		for i, x := range a.Date32Values() {
			v.longs[i] = int64(x)
		}
	case *array.Float64:
		copy(v.doubles, a.Float64Values())
	case *array.Float32:
		for i, x := range a.Float32Values() {
			v.doubles[i] = float64(x)
		}
	case *array.Decimal128:
		copy(v.decimals, a.Values())
	case *array.Time64:
		for i, x := range a.Time64Values() {
			v.longs[i] = int64(x)
		}
	case *array.Boolean:
		for i := range n {
			v.flags[i] = a.Value(i)
		}
	default:
		for i := range n {
			if !v.isNull(i) {
				v.texts[i] = string(rowtext.AppendText(nil, a, i))
			}
		}
	}
	return v
}

// Type is the type of a column that holds the values.
func (e *Expression) Type() schema.Type {
	t := schema.Type{Kind: e.root.kind}
	if t.Kind == schema.Decimal {
		t.Precision, t.Scale = e.root.digits.precision, e.root.digits.scale
	}
	return t
}

// toColumn hands over the values of a vector as a column of a type.
func (v *vector) toColumn(n int, t schema.Type) (arrow.Array, error) {
	var valid *memory.Buffer
	nulls := 0
	if v.null != nil {
		bits := make([]byte, bitutil.BytesForBits(int64(n)))
		for i := range n {
			if v.null[i] {
				nulls++
			} else {
				bitutil.SetBit(bits, i)
			}
		}
		valid = memory.NewBufferBytes(bits)
	}
	dt := t.Arrow()
	buffers := []*memory.Buffer{valid}
	switch v.kind {
	case schema.Double:
		buffers = append(buffers, memory.NewBufferBytes(arrow.Float64Traits.CastToBytes(v.doubles)))
	case schema.Decimal:
		buffers = append(buffers, memory.NewBufferBytes(arrow.Decimal128Traits.CastToBytes(v.decimals)))
	case schema.Boolean:
		bits := make([]byte, bitutil.BytesForBits(int64(n)))
		for i, x := range v.flags {
			if x {
				bitutil.SetBit(bits, i)
			}
		}
		buffers = append(buffers, memory.NewBufferBytes(bits))
	case schema.Date:
		days := make([]int32, n)
		for i, x := range v.longs {
			days[i] = int32(x)
		}
		buffers = append(buffers, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(days)))
	case schema.String:
		offsets, data := make([]int32, 1, n+1), []byte(nil)
		for i, x := range v.texts {
			if !v.isNull(i) {
				data = append(data, x...)
			}
			if len(data) > math.MaxInt32 {
				return nil, fmt.Errorf("the texts of a block take more than 2 GiB")
			}
			offsets = append(offsets, int32(len(data)))
		}
		buffers = append(buffers, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets)), memory.NewBufferBytes(data))
	default:
		buffers = append(buffers, memory.NewBufferBytes(arrow.Int64Traits.CastToBytes(v.longs)))
	}
	return array.MakeFromData(array.NewData(dt, n, buffers, nil, nulls, 0)), nil
}
