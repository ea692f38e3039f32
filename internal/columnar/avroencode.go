package columnar

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/rowtext"
)

// avroEncode writes the value of a row (Avro specification, "Binary Encoding").
type avroEncode func(w *avroRow, row int)

// The branches of a union of null and a type, in the order of avroType.
const (
	avroAbsent = iota
	avroThere
)

// encoder returns what writes the values of a column.
func (f *avroField) encoder(a arrow.Array) avroEncode {
	there := f.there(a)
	if f.Required {
		return there
	}
	return func(w *avroRow, row int) {
		if a.IsNull(row) {
			w.long(avroAbsent)
			return
		}
		w.long(avroThere)
		there(w, row)
	}
}

// there is encoder for values that are not null.
func (f *avroField) there(a arrow.Array) avroEncode {
	switch a := a.(type) {
	case *array.Boolean:
		return func(w *avroRow, row int) { w.bool(a.Value(row)) }
	case *array.Int32:
		return func(w *avroRow, row int) { w.long(int64(a.Value(row))) }
	case *array.Int64:
		return func(w *avroRow, row int) { w.long(a.Value(row)) }
	case *array.Float32:
		return func(w *avroRow, row int) { w.float(a.Value(row)) }
	case *array.Float64:
		return func(w *avroRow, row int) { w.double(a.Value(row)) }
	case *array.String:
		return func(w *avroRow, row int) { w.text(a.Value(row)) }
	case *array.Binary:
		return func(w *avroRow, row int) { w.bytes(a.Value(row)) }
	case *array.FixedSizeBinary:
		return func(w *avroRow, row int) { w.bytes(rowtext.AppendUUID(nil, a.Value(row))) }
	case array.ExtensionArray:
		return f.there(a.Storage())
	case *array.Date32:
		return func(w *avroRow, row int) { w.long(int64(a.Value(row))) }
	case *array.Time64:
		return func(w *avroRow, row int) { w.long(int64(a.Value(row))) }
	case *array.Timestamp:
		return func(w *avroRow, row int) { w.long(int64(a.Value(row))) }
	case *array.Decimal128:
		return func(w *avroRow, row int) { w.bytes(shortestDecimal(a.Value(row))) }
	case *array.Struct:
		return f.structEncoder(a)
	case *array.Map:
		return f.mapEncoder(a)
	case *array.List:
		element := f.parts[0].encoder(a.ListValues())
		return listEncoder(a, element)
	}
	return func(w *avroRow, row int) { w.bytes(rowtext.AppendText(nil, a, row)) }
}

func (f *avroField) structEncoder(a *array.Struct) avroEncode {
	members := make([]avroEncode, len(f.parts))
	for i, part := range f.parts {
		members[i] = part.encoder(a.Field(i))
	}
	return func(w *avroRow, row int) {
		for _, encode := range members {
			encode(w, row)
		}
	}
}

func (f *avroField) mapEncoder(a *array.Map) avroEncode {
	key, value := f.parts[0].there(a.Keys()), f.parts[1].encoder(a.Items())
	return listEncoder(a, func(w *avroRow, i int) {
		key(w, i)
		value(w, i)
	})
}

// listEncoder writes elements in one block, after which comes an empty one.
func listEncoder(a array.ListLike, element avroEncode) avroEncode {
	return func(w *avroRow, row int) {
		start, end := a.ValueOffsets(row)
		if end > start {
			w.long(end - start)
			for i := start; i < end; i++ {
				element(w, int(i))
			}
		}
		w.long(0)
	}
}

// shortestDecimal writes an unscaled value as the fewest bytes that keep its sign, the highest first.
func shortestDecimal(v decimal128.Num) []byte {
	var b [16]byte
	for i := range 8 {
		b[i] = byte(v.HighBits() >> (56 - 8*i))
		b[8+i] = byte(v.LowBits() >> (56 - 8*i))
	}
	sign := byte(0)
	if v.Sign() < 0 {
		sign = 0xff
	}
	at := 0
	for at < 15 && b[at] == sign && b[at+1]&0x80 == sign&0x80 {
		at++
	}
	return b[at:]
}
