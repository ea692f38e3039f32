package columnar

import (
	"encoding/binary"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// newDecimals encodes decimals as the Iceberg specification wants them in Parquet: in 4 bytes up to 9 digits, in 8 up to 18, and
// in the fewest that hold them beyond.
func newDecimals(precision int32, codec Codec) values {
	switch {
	case precision <= 9:
		return &decimals{values: newFixed[int32](false, codec), narrow: narrowed[int32]}
	case precision <= 18:
		return &decimals{values: newFixed[int64](false, codec), narrow: narrowed[int64]}
	}
	t := newFixedTexts(int(pqarrow.DecimalSize(precision)), true)
	return &wideDecimals{texts: t}
}

// decimals are kept by another encoder once their unscaled values are whole numbers of its width.
type decimals struct {
	values
	narrow func(arrow.Array) arrow.Array
}

func (d *decimals) add(l leaf) {
	l.values = d.narrow(l.values)
	d.values.add(l)
}

// narrowed takes the unscaled values of an array of decimals that are known to fit. What stands at absent values does not matter.
func narrowed[T int32 | int64](a arrow.Array) arrow.Array {
	list := a.(*array.Decimal128)
	out := make([]T, list.Len())
	for i := range out {
		out[i] = T(list.Value(i).LowBits())
	}
	dt := arrow.DataType(arrow.PrimitiveTypes.Int64)
	if sizeOf(*new(T)) == 4 {
		dt = arrow.PrimitiveTypes.Int32
	}
	return array.MakeFromData(array.NewData(dt, len(out), []*memory.Buffer{nil, memory.NewBufferBytes(arrow.GetBytes(out))}, nil, 0, 0))
}

// wideDecimals are kept as fixed byte strings, big-endian in two's complement.
type wideDecimals struct{ *texts }

func (d *wideDecimals) add(l leaf) {
	list := l.values.(*array.Decimal128)
	var scratch [16]byte
	d.each(l, func(i int) []byte {
		v := list.Value(i)
		binary.BigEndian.PutUint64(scratch[:8], uint64(v.HighBits()))
		binary.BigEndian.PutUint64(scratch[8:], v.LowBits())
		return scratch[16-d.width:]
	})
}
