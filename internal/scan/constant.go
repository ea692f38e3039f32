package scan

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// constant is a column of n times a value that a partition tells (table.Table.Constants). One that is not of the type is null.
func constant(t arrow.DataType, v any, n int) arrow.Array {
	b := array.NewBuilder(memory.DefaultAllocator, t)
	defer b.Release()
	b.Reserve(n)
	for range n {
		if !appendConstant(b, v) {
			b.AppendNull()
		}
	}
	return b.NewArray()
}

func appendConstant(b array.Builder, v any) (ok bool) {
	switch v := v.(type) {
	case int64:
		return appendWhole(b, v)
	case string:
		ok = into(b, func(b *array.StringBuilder) { b.Append(v) })
	case bool:
		ok = into(b, func(b *array.BooleanBuilder) { b.Append(v) })
	case decimal128.Num:
		ok = into(b, func(b *array.Decimal128Builder) { b.Append(v) })
	case float64:
		ok = into(b, func(b *array.Float64Builder) { b.Append(v) }) || into(b, func(b *array.Float32Builder) { b.Append(float32(v)) })
	case []byte:
		ok = into(b, func(b *array.BinaryBuilder) { b.Append(v) }) || into(b, func(b *array.FixedSizeBinaryBuilder) { b.Append(v) })
	}
	return ok
}

// into appends to a builder that is of some type, and reports whether it is.
func into[T array.Builder](b array.Builder, add func(T)) bool {
	typed, ok := b.(T)
	if ok {
		add(typed)
	}
	return ok
}

func appendWhole(b array.Builder, v int64) bool {
	return into(b, func(b *array.Int64Builder) { b.Append(v) }) || into(b, func(b *array.Int32Builder) { b.Append(int32(v)) }) ||
		into(b, func(b *array.Date32Builder) { b.Append(arrow.Date32(v)) }) ||
		into(b, func(b *array.Time64Builder) { b.Append(arrow.Time64(v)) }) ||
		into(b, func(b *array.TimestampBuilder) { b.Append(arrow.Timestamp(v)) })
}
