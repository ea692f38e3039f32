// Package rowtext writes record batches as text, for the way back from columns: delimited text and JSON lines.
//
// What comes in are Arrow record batches of one schema; what goes out is a line for each row, that the program's own parsers,
// and others', read back to the same values.
package rowtext

import (
	"encoding/base64"
	"encoding/hex"
	"math"
	"strconv"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
)

// AppendText appends a value that is not null, as delimited text has it: plain where it has no parts, otherwise JSON.
func AppendText(dst []byte, a arrow.Array, row int) []byte {
	if e, ok := a.(array.ExtensionArray); ok {
		a = e.Storage()
	}
	if _, nested := a.DataType().(arrow.NestedType); nested {
		return AppendJSON(dst, a, row)
	}
	dst, _ = appendScalar(dst, a, row)
	return dst
}

// appendScalar appends a value that has no parts, as text. quoted says that it is a string in JSON.
func appendScalar(dst []byte, a arrow.Array, row int) (_ []byte, quoted bool) {
	switch a := a.(type) {
	case *array.Boolean:
		return strconv.AppendBool(dst, a.Value(row)), false
	case *array.Int32:
		return strconv.AppendInt(dst, int64(a.Value(row)), 10), false
	case *array.Int64:
		return strconv.AppendInt(dst, a.Value(row), 10), false
	case *array.Float32:
		return appendFloat(dst, float64(a.Value(row)), 32)
	case *array.Float64:
		return appendFloat(dst, a.Value(row), 64)
	case *array.Decimal128:
		return append(dst, a.Value(row).ToString(a.DataType().(*arrow.Decimal128Type).Scale)...), false
	case *array.Date32:
		return appendDay(dst, int64(a.Value(row))), true
	case *array.Time64:
		return appendTime(dst, int64(a.Value(row))), true
	case *array.Timestamp:
		return appendTimestamp(dst, int64(a.Value(row)), a.DataType().(*arrow.TimestampType)), true
	case *array.String:
		return append(dst, a.Value(row)...), true
	case *array.FixedSizeBinary:
		return AppendUUID(dst, a.Value(row)), true
	case *array.Binary:
		return base64.StdEncoding.AppendEncode(dst, a.Value(row)), true
	case array.ExtensionArray:
		return appendScalar(dst, a.Storage(), row)
	case *array.Dictionary:
		return appendScalar(dst, a.Dictionary(), a.GetValueIndex(row))
	}
	return append(dst, a.ValueStr(row)...), true
}

// appendFloat writes a number so that it reads back the same; what is no number is a string in JSON, which has no such numbers.
func appendFloat(dst []byte, v float64, bits int) ([]byte, bool) {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return strconv.AppendFloat(dst, v, 'g', -1, bits), true
	}
	format := byte('f')
	if abs := math.Abs(v); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(dst, v, format, -1, bits), false
}

// AppendUUID writes 16 bytes as a uuid.
func AppendUUID(dst, id []byte) []byte {
	for i := 0; i < len(id); {
		n := map[int]int{0: 4, 4: 2, 6: 2, 8: 2, 10: 6}[i]
		if n == 0 {
			return hex.AppendEncode(dst, id)
		}
		if i > 0 {
			dst = append(dst, '-')
		}
		dst = hex.AppendEncode(dst, id[i:i+n])
		i += n
	}
	return dst
}

// AppendJSON appends a value of any type as JSON: structs as objects with all their members, maps as objects by their keys.
func AppendJSON(dst []byte, a arrow.Array, row int) []byte {
	if a.IsNull(row) {
		return append(dst, "null"...)
	}
	switch a := a.(type) {
	case *array.Struct:
		fields := a.DataType().(*arrow.StructType).Fields()
		dst = append(dst, '{')
		for i, f := range fields {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(appendString(dst, f.Name), ':')
			dst = AppendJSON(dst, a.Field(i), row)
		}
		return append(dst, '}')
	case *array.Map:
		start, end := a.ValueOffsets(row)
		dst = append(dst, '{')
		for i := int(start); i < int(end); i++ {
			if i > int(start) {
				dst = append(dst, ',')
			}
			key, _ := appendScalar(nil, a.Keys(), i)
			dst = append(appendString(dst, string(key)), ':')
			dst = AppendJSON(dst, a.Items(), i)
		}
		return append(dst, '}')
	case *array.List:
		start, end := a.ValueOffsets(row)
		dst = append(dst, '[')
		for i := int(start); i < int(end); i++ {
			if i > int(start) {
				dst = append(dst, ',')
			}
			dst = AppendJSON(dst, a.ListValues(), i)
		}
		return append(dst, ']')
	case *array.String:
		return appendString(dst, a.Value(row))
	}
	at := len(dst)
	dst, quoted := appendScalar(dst, a, row)
	if !quoted {
		return dst
	}
	text := string(dst[at:])
	return appendString(dst[:at], text)
}

const hexDigits = "0123456789abcdef"

// appendString writes a JSON string (RFC 8259, section 7). Bytes that are no UTF-8 become U+FFFD.
func appendString(dst []byte, s string) []byte {
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(s); {
		if c := s[i]; c < utf8.RuneSelf {
			if c >= ' ' && c != '"' && c != '\\' {
				i++
				continue
			}
			dst = append(dst, s[start:i]...)
			switch c {
			case '"', '\\':
				dst = append(dst, '\\', c)
			case '\n':
				dst = append(dst, '\\', 'n')
			case '\r':
				dst = append(dst, '\\', 'r')
			case '\t':
				dst = append(dst, '\\', 't')
			default:
				dst = append(dst, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
			}
			i++
			start = i
			continue
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		if r == utf8.RuneError && size == 1 {
			dst = append(append(dst, s[start:i]...), "\ufffd"...)
			start = i + size
		}
		i += size
	}
	return append(append(dst, s[start:]...), '"')
}
