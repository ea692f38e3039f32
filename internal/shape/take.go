package shape

import (
	"context"
	"fmt"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// takeArray returns the values at positions, null where absent says so.
func takeArray(ctx context.Context, a arrow.Array, rows []int32, absent []bool) (arrow.Array, error) {
	switch a := a.(type) {
	case *array.Int64:
		return takeFixed(a, a.Int64Values(), rows, absent), nil
	case *array.Timestamp:
		return takeFixed(a, a.TimestampValues(), rows, absent), nil
	case *array.Float64:
		return takeFixed(a, a.Float64Values(), rows, absent), nil
	case *array.Int32:
		return takeFixed(a, a.Int32Values(), rows, absent), nil
	case *array.Date32:
		return takeFixed(a, a.Date32Values(), rows, absent), nil
	case *array.Boolean:
		return takeBooleans(a, rows, absent), nil
	case *array.String:
		if out := takeText(a, rows, absent); out != nil {
			return out, nil
		}
	case *array.Dictionary:
		if codes, ok := a.Indices().(*array.Uint32); ok {
			return takeCodes(a, codes.Uint32Values(), rows, absent), nil
		}
	case *array.Struct:
		return takeStruct(ctx, a, rows, absent)
	case *array.List:
		return takeList(ctx, a, rows, absent)
	}
	buffers := []*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(rows))}
	nulls := 0
	if absent != nil {
		bits := newBits(len(rows))
		for i, is := range absent {
			if is {
				nulls++
				bitutil.ClearBit(bits, i)
			}
		}
		buffers[0] = memory.NewBufferBytes(bits)
	}
	indices := array.MakeFromData(array.NewData(arrow.PrimitiveTypes.Int32, len(rows), buffers, nil, nulls, 0))
	return compute.TakeArray(ctx, a, indices)
}

// newBits returns a bitmap of ones.
func newBits(n int) []byte {
	bits := make([]byte, (n+7)/8)
	for i := range bits {
		bits[i] = 0xff
	}
	return bits
}

// takenNulls returns the bitmap of the values that are taken, nil where all are there.
func takenNulls(a arrow.Array, rows []int32, absent []bool) (valid *memory.Buffer, nulls int) {
	if a.NullN() == 0 && absent == nil {
		return nil, 0
	}
	bits := newBits(len(rows))
	known, offset := a.NullBitmapBytes(), a.Data().Offset()
	for i, row := range rows {
		if absent != nil && absent[i] || len(known) > 0 && !bitutil.BitIsSet(known, offset+int(row)) {
			bitutil.ClearBit(bits, i)
			nulls++
		}
	}
	return memory.NewBufferBytes(bits), nulls
}

// takeFixed is takeArray for values of one size.
func takeFixed[T arrow.FixedWidthType](a arrow.Array, values []T, rows []int32, absent []bool) arrow.Array {
	taken := make([]T, len(rows))
	for i, row := range rows {
		taken[i] = values[row]
	}
	valid, nulls := takenNulls(a, rows, absent)
	data := arrow.GetBytes(taken)
	return array.MakeFromData(array.NewData(a.DataType(), len(rows), []*memory.Buffer{valid, memory.NewBufferBytes(data)}, nil, nulls, 0))
}

// takeBooleans is takeArray for booleans, which have a bit each.
func takeBooleans(a *array.Boolean, rows []int32, absent []bool) arrow.Array {
	taken := make([]byte, (len(rows)+7)/8)
	var bits []byte // an array without values may have none
	if buffer := a.Data().Buffers()[1]; buffer != nil {
		bits = buffer.Bytes()
	}
	offset := a.Data().Offset()
	for i, row := range rows {
		at := offset + int(row)
		taken[i>>3] |= bits[at>>3] >> (at & 7) & 1 << (i & 7)
	}
	valid, nulls := takenNulls(a, rows, absent)
	return array.MakeFromData(array.NewData(a.DataType(), len(rows), []*memory.Buffer{valid, memory.NewBufferBytes(taken)}, nil, nulls,
		0))
}

// takeCodes is takeArray for values that are numbers of a dictionary.
func takeCodes(a *array.Dictionary, codes []uint32, rows []int32, absent []bool) arrow.Array {
	taken := make([]uint32, len(rows))
	for i, row := range rows {
		taken[i] = codes[row]
	}
	valid, nulls := takenNulls(a, rows, absent)
	buffers := []*memory.Buffer{valid, memory.NewBufferBytes(arrow.Uint32Traits.CastToBytes(taken))}
	return array.MakeFromData(array.NewDataWithDictionary(a.DataType(), len(rows), buffers, nulls, 0,
		a.Dictionary().Data().(*array.Data)))
}

// takeText is takeArray for texts, nil where they take more than an array of them can.
func takeText(a *array.String, rows []int32, absent []bool) arrow.Array {
	valid, nulls := takenNulls(a, rows, absent)
	offsets, ends, size := make([]int32, len(rows)+1), a.ValueOffsets(), 0
	for i, row := range rows {
		if absent == nil || !absent[i] {
			size += int(ends[row+1] - ends[row])
		}
		if size > math.MaxInt32 {
			return nil
		}
		offsets[i+1] = int32(size)
	}
	// The values begin where the first offset says.
	texts, first, data := a.ValueBytes(), ends[0], make([]byte, 0, size)
	for i, row := range rows {
		if absent == nil || !absent[i] {
			data = append(data, texts[ends[row]-first:ends[row+1]-first]...)
		}
	}
	return array.MakeFromData(array.NewData(a.DataType(), len(rows),
		[]*memory.Buffer{valid, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets)), memory.NewBufferBytes(data)}, nil, nulls,
		0))
}

// takeStruct is takeArray for objects.
func takeStruct(ctx context.Context, a *array.Struct, rows []int32, absent []bool) (arrow.Array, error) {
	fields := a.DataType().(*arrow.StructType).Fields()
	children := make([]arrow.ArrayData, len(fields))
	for i := range fields {
		child, err := takeArray(ctx, a.Field(i), rows, absent)
		if err != nil {
			return nil, err
		}
		children[i] = child.Data()
	}
	valid, nulls := takenNulls(a, rows, absent)
	return array.MakeFromData(array.NewData(a.DataType(), len(rows), []*memory.Buffer{valid}, children, nulls, 0)), nil
}

// takeList is takeArray for lists.
func takeList(ctx context.Context, a *array.List, rows []int32, absent []bool) (arrow.Array, error) {
	offsets := make([]int32, 1, len(rows)+1)
	var elements []int32
	for i, row := range rows {
		if (absent == nil || !absent[i]) && !a.IsNull(int(row)) {
			start, end := a.ValueOffsets(int(row))
			for at := start; at < end; at++ {
				elements = append(elements, int32(at))
			}
		}
		if len(elements) > math.MaxInt32 {
			return nil, fmt.Errorf("the lists of a block have more than %d elements once they are repeated", math.MaxInt32)
		}
		offsets = append(offsets, int32(len(elements)))
	}
	values, err := takeArray(ctx, a.ListValues(), elements, nil)
	if err != nil {
		return nil, err
	}
	valid, nulls := takenNulls(a, rows, absent)
	return array.MakeFromData(array.NewData(a.DataType(), len(rows),
		[]*memory.Buffer{valid, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets))},
		[]arrow.ArrayData{values.Data()}, nulls, 0)), nil
}
