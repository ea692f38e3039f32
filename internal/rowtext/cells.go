package rowtext

import (
	"encoding/base64"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
)

// cell appends the value of a row that has one.
type cell func(dst []byte, row int) []byte

// scalars returns what writes the values of a column without parts. quoted says that they are strings in JSON; plain that the text
// never holds what must be escaped or put in quotes.
func scalars(a arrow.Array) (c cell, quoted, plain bool) {
	switch a := a.(type) {
	case *array.Boolean:
		return func(dst []byte, row int) []byte { return strconv.AppendBool(dst, a.Value(row)) }, false, true
	case *array.Int32:
		list := a.Int32Values()
		return func(dst []byte, row int) []byte { return strconv.AppendInt(dst, int64(list[row]), 10) }, false, true
	case *array.Int64:
		list := a.Int64Values()
		return func(dst []byte, row int) []byte { return strconv.AppendInt(dst, list[row], 10) }, false, true
	case *array.Date32:
		list := a.Date32Values()
		return func(dst []byte, row int) []byte { return appendDay(dst, int64(list[row])) }, true, true
	case *array.Time64:
		list := a.Time64Values()
		return func(dst []byte, row int) []byte { return appendTime(dst, int64(list[row])) }, true, true
	case *array.Timestamp:
		list, t := a.TimestampValues(), a.DataType().(*arrow.TimestampType)
		return func(dst []byte, row int) []byte { return appendTimestamp(dst, int64(list[row]), t) }, true, true
	case *array.String:
		return func(dst []byte, row int) []byte { return append(dst, a.Value(row)...) }, true, false
	case *array.FixedSizeBinary:
		return func(dst []byte, row int) []byte { return AppendUUID(dst, a.Value(row)) }, true, true
	case *array.Binary:
		return func(dst []byte, row int) []byte { return base64.StdEncoding.AppendEncode(dst, a.Value(row)) }, true, true
	case *array.Decimal128:
		return func(dst []byte, row int) []byte {
			dst, _ = appendScalar(dst, a, row)
			return dst
		}, false, true
	case array.ExtensionArray:
		return scalars(a.Storage())
	}
	return func(dst []byte, row int) []byte {
		dst, _ = appendScalar(dst, a, row)
		return dst
	}, true, false
}

// remembered writes the values of a dictionary, each of which is written once and then copied.
type remembered struct {
	values cell
	texts  []byte
	ends   []span // by number, of what was written
}

type span struct{ start, end int }

func newRemembered(values int, c cell) *remembered {
	return &remembered{values: c, ends: make([]span, values)}
}

func (r *remembered) append(dst []byte, code int) []byte {
	s := &r.ends[code]
	if s.end == 0 {
		start := len(r.texts)
		r.texts = r.values(r.texts, code)
		*s = span{start, len(r.texts)}
		if s.end == 0 {
			return dst
		}
	}
	return append(dst, r.texts[s.start:s.end]...)
}

// numbered returns what writes a column that comes with a dictionary, given what writes the values of that.
func numbered(d *array.Dictionary, values cell) cell {
	r := newRemembered(d.Dictionary().Len(), values)
	if codes, ok := d.Indices().(*array.Uint32); ok {
		list := codes.Uint32Values()
		return func(dst []byte, row int) []byte { return r.append(dst, int(list[row])) }
	}
	return func(dst []byte, row int) []byte { return r.append(dst, d.GetValueIndex(row)) }
}

// present wraps what writes values with what is written where there is none.
func present(a arrow.Array, c cell, absent string) cell {
	if a.NullN() == 0 {
		return c
	}
	return func(dst []byte, row int) []byte {
		if a.IsNull(row) {
			return append(dst, absent...)
		}
		return c(dst, row)
	}
}

// fields returns what writes a column as fields of delimited text.
func fields(a arrow.Array, delimiter byte) cell {
	return present(a, fieldValues(a, delimiter), "")
}

func fieldValues(a arrow.Array, delimiter byte) cell {
	if e, ok := a.(array.ExtensionArray); ok {
		return fieldValues(e.Storage(), delimiter)
	}
	var text []byte
	inQuotes := func(c cell) cell {
		return func(dst []byte, row int) []byte {
			text = c(text[:0], row)
			return appendField(dst, text, delimiter)
		}
	}
	switch a := a.(type) {
	case *array.Dictionary:
		return numbered(a, fieldValues(a.Dictionary(), delimiter))
	case *array.Float64:
		var p places
		list := a.Float64Values()
		return func(dst []byte, row int) []byte {
			dst, _ = p.append(dst, list[row])
			return dst
		}
	case *array.String:
		return func(dst []byte, row int) []byte { return appendField(dst, a.Value(row), delimiter) }
	}
	if _, nested := a.DataType().(arrow.NestedType); nested {
		return inQuotes(objects(a))
	}
	c, _, plain := scalars(a)
	if plain {
		return c
	}
	return inQuotes(c)
}

// objects returns what writes a column as values of JSON: structs as objects with all their members, maps as objects by their keys.
func objects(a arrow.Array) cell { return present(a, objectValues(a), "null") }

func objectValues(a arrow.Array) cell {
	switch a := a.(type) {
	case *array.Dictionary:
		return numbered(a, objectValues(a.Dictionary()))
	case *array.Struct:
		return members(a.DataType().(*arrow.StructType).Fields(), a.Field, "}")
	case *array.List:
		element := objects(a.ListValues())
		return func(dst []byte, row int) []byte {
			start, end := a.ValueOffsets(row)
			dst = append(dst, '[')
			for i := int(start); i < int(end); i++ {
				if i > int(start) {
					dst = append(dst, ',')
				}
				dst = element(dst, i)
			}
			return append(dst, ']')
		}
	case *array.Float64:
		var p places
		list := a.Float64Values()
		return func(dst []byte, row int) []byte {
			at := len(dst)
			dst, quoted := p.append(dst, list[row])
			if quoted {
				return appendString(dst[:at], string(dst[at:]))
			}
			return dst
		}
	case *array.String:
		return func(dst []byte, row int) []byte { return appendString(dst, a.Value(row)) }
	case *array.Map, *array.Float32:
		return func(dst []byte, row int) []byte { return AppendJSON(dst, a, row) }
	}
	c, quoted, plain := scalars(a)
	switch {
	case !quoted:
		return c
	case plain:
		return func(dst []byte, row int) []byte { return append(c(append(dst, '"'), row), '"') }
	}
	var text []byte
	return func(dst []byte, row int) []byte {
		text = c(text[:0], row)
		return appendString(dst, string(text))
	}
}

// members returns what writes an object with a member for each column, and what ends it.
func members(fields []arrow.Field, column func(int) arrow.Array, end string) cell {
	names, values := make([][]byte, len(fields)), make([]cell, len(fields))
	for i, f := range fields {
		begin := byte(',')
		if i == 0 {
			begin = '{'
		}
		names[i] = append(appendString([]byte{begin}, f.Name), ':')
		values[i] = objects(column(i))
	}
	return func(dst []byte, row int) []byte {
		if len(names) == 0 {
			dst = append(dst, '{')
		}
		for i, name := range names {
			dst = values[i](append(dst, name...), row)
		}
		return append(dst, end...)
	}
}
