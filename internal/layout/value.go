package layout

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/google/uuid"
	"github.com/twmb/murmur3"

	"trevak/internal/fault"
	"trevak/internal/lexical"
)

// Value is one partition value: nil for null, otherwise a bool, an int32 (int, date, and the results of year, month, day, hour
// and bucket), an int64 (long, time, timestamp), a string, a Decimal, a uuid.UUID or Bytes. All of them can be compared.
type Value any

// Bytes is the partition value of a binary column.
type Bytes string

// Decimal is the partition value of a decimal column, with as many digits after the point as its type has.
type Decimal struct {
	Unscaled decimal128.Num
	Scale    int32
}

// apply computes the value for one row of the transform's column. The error is that of a truncated number that its type cannot
// hold.
func (t Transform) apply(l leaf, row int) (Value, error) {
	if l.null(row) {
		return nil, nil
	}
	row = l.at(row)
	switch a := l.values.(type) {
	case *array.Boolean:
		return a.Value(row), nil
	case *array.Int32:
		return t.whole32(a.Value(row))
	case *array.Date32:
		return t.date(int32(a.Value(row))), nil
	case *array.Int64:
		return t.whole64(a.Value(row))
	case *array.Time64:
		return t.whole64(int64(a.Value(row)))
	case *array.Timestamp:
		return t.instant(int64(a.Value(row))), nil
	case *array.String:
		return t.text(a.Value(row)), nil
	case *array.Decimal128:
		return t.decimal(a.Value(row), a.DataType().(*arrow.Decimal128Type))
	case *array.Binary:
		return t.bytes(a.Value(row)), nil
	case *array.FixedSizeBinary:
		if t.Name == "bucket" {
			return t.bucket(a.Value(row)), nil
		}
		return uuid.FromBytes(a.Value(row))
	}
	return nil, nil
}

func (t Transform) whole32(v int32) (Value, error) {
	out, err := t.whole64(int64(v))
	whole, ok := out.(int64)
	if !ok {
		return out, err
	}
	if whole < math.MinInt32 {
		return nil, t.beyond(strconv.Itoa(int(v)), "an int")
	}
	return int32(whole), nil
}

func (t Transform) whole64(v int64) (Value, error) {
	switch t.Name {
	case "bucket":
		return t.bucketLong(v), nil
	case "truncate":
		w := int64(t.Width)
		out := v - ((v%w)+w)%w
		if out > v {
			return nil, t.beyond(strconv.FormatInt(v, 10), "a long")
		}
		return out, nil
	}
	return v, nil
}

// beyond refuses a number that is truncated to one below all that its type can hold. Engines do not agree on what becomes of it,
// and some would not find the row again.
func (t Transform) beyond(value, kind string) error {
	return fault.New(fault.Schema, "column %q has the value %s, and %s of it is less than %s can be", t.Column, value, t, kind).
		Try("partition by bucket(16,%s) instead", t.Column)
}

// decimal works on the unscaled number.
func (t Transform) decimal(v decimal128.Num, dt *arrow.Decimal128Type) (Value, error) {
	switch t.Name {
	case "bucket":
		return t.bucket(shortest(v)), nil
	case "truncate":
		w := decimal128.FromI64(int64(t.Width))
		_, rest := v.Div(w)
		if rest.Sign() < 0 {
			rest = rest.Add(w)
		}
		out := v.Sub(rest)
		if !out.FitsInPrecision(dt.Precision) {
			return nil, t.beyond(v.ToString(dt.Scale), fmt.Sprintf("a decimal(%d,%d)", dt.Precision, dt.Scale))
		}
		v = out
	}
	return Decimal{v, dt.Scale}, nil
}

// shortest is a number in two's complement, big-endian, in as few bytes as there can be.
func shortest(v decimal128.Num) []byte {
	b := binary.BigEndian.AppendUint64(nil, uint64(v.HighBits()))
	b = binary.BigEndian.AppendUint64(b, v.LowBits())
	for len(b) > 1 && (b[0] == 0 && b[1] < 0x80 || b[0] == 0xff && b[1] >= 0x80) {
		b = b[1:]
	}
	return b
}

func (t Transform) bytes(v []byte) Value {
	switch t.Name {
	case "bucket":
		return t.bucket(v)
	case "truncate":
		v = v[:min(len(v), t.Width)]
	}
	return Bytes(v)
}

func (t Transform) date(days int32) Value {
	switch t.Name {
	case "year", "month":
		return t.calendar(int64(days))
	case "bucket":
		return t.bucketLong(int64(days))
	}
	return days
}

func (t Transform) instant(micros int64) Value {
	switch t.Name {
	case "year", "month":
		return t.calendar(floorDivide(micros, lexical.MicrosPerDay))
	case "day":
		return int32(floorDivide(micros, lexical.MicrosPerDay))
	case "hour":
		return int32(floorDivide(micros, lexical.MicrosPerDay/24))
	case "bucket":
		return t.bucketLong(micros)
	}
	return micros
}

// calendar counts years or months from 1970-01.
func (t Transform) calendar(days int64) Value {
	at := time.Unix(days*86400, 0).UTC()
	years := int32(at.Year() - 1970)
	if t.Name == "year" {
		return years
	}
	return years*12 + int32(at.Month()) - 1
}

func (t Transform) text(v string) Value {
	switch t.Name {
	case "bucket":
		return t.bucket([]byte(v))
	case "truncate":
		for i, n := 0, 0; i < len(v); n++ {
			if n == t.Width {
				return v[:i]
			}
			_, size := utf8.DecodeRuneInString(v[i:])
			i += size
		}
	}
	// The value outlives the batch that the text lies in.
	return strings.Clone(v)
}

// bucketLong hashes a whole number as the specification's appendix B does: as 8 bytes, little-endian, whatever its type.
func (t Transform) bucketLong(v int64) Value { return t.bucketOf(v) }

func (t Transform) bucketOf(v int64) int32 {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], uint64(v))
	return t.hashed(b[:])
}

func (t Transform) bucket(b []byte) Value { return t.hashed(b) }

func (t Transform) hashed(b []byte) int32 { return int32(murmur3.Sum32(b)&0x7fffffff) % int32(t.Width) }

func floorDivide(a, b int64) int64 {
	q := a / b
	if a%b != 0 && a < 0 {
		q--
	}
	return q
}

// folder writes one value for use in a folder's name: numbers and instants so that people can read them, null as "null".
func (t Transform) folder(v Value, dt arrow.DataType) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case bool:
		return strconv.FormatBool(v)
	case string:
		return escape(v)
	case Bytes:
		return hex.EncodeToString([]byte(v))
	case Decimal:
		return v.Unscaled.ToString(v.Scale)
	case int32:
		return t.folder32(v, dt)
	case int64:
		switch dt := dt.(type) {
		case *arrow.TimestampType:
			at := time.UnixMicro(v)
			if dt.Unit == arrow.Nanosecond {
				at = time.Unix(0, v)
			}
			text := at.UTC().Format("2006-01-02T15:04:05.999999999")
			if dt.TimeZone != "" {
				text += "Z"
			}
			return escape(text)
		case *arrow.Time64Type:
			return escape(time.UnixMicro(v).UTC().Format("15:04:05.999999"))
		}
		return strconv.FormatInt(v, 10)
	}
	return escape(fmt.Sprint(v))
}

func (t Transform) folder32(v int32, dt arrow.DataType) string {
	day := func(days int64) time.Time { return time.Unix(days*86400, 0).UTC() }
	switch {
	case t.Name == "year":
		return strconv.Itoa(1970 + int(v))
	case t.Name == "month":
		return time.Date(1970, time.Month(1+v), 1, 0, 0, 0, 0, time.UTC).Format("2006-01")
	case t.Name == "hour":
		return time.Unix(int64(v)*3600, 0).UTC().Format("2006-01-02-15")
	case t.Name == "day", t.Name == "identity" && dt.ID() == arrow.DATE32:
		return day(int64(v)).Format("2006-01-02")
	}
	return strconv.Itoa(int(v))
}

// longestFolder keeps folder names within what file systems allow (255 bytes), the field's name included.
const longestFolder = 160

// escape writes text so that it can be nothing but one part of a path: letters, digits, - and _ stay, and a dot that is not the
// first character; every other byte becomes % and two hexadecimal digits. Long values end in a hash of the whole.
func escape(text string) string {
	var b strings.Builder
	for i := range len(text) {
		c := text[i]
		switch {
		case c|0x20 >= 'a' && c|0x20 <= 'z', c >= '0' && c <= '9', c == '-', c == '_', c == '.' && i > 0:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	out := b.String()
	if len(out) <= longestFolder {
		return out
	}
	return fmt.Sprintf("%s~%08x", out[:longestFolder-16], murmur3.StringSum32(text))
}

// Folder returns the relative folder of a partition: a part for each field, name=value. A value that is the word null or is empty
// is written differently from an absent one.
func (s Spec) Folder(values []Value, types []arrow.DataType) string {
	parts := make([]string, len(s))
	for i, t := range s {
		text := t.folder(values[i], types[i])
		if word, ok := values[i].(string); ok && word == "null" {
			text = "%6Eull"
		}
		parts[i] = escape(t.FieldName()) + "=" + text
	}
	return strings.Join(parts, "/")
}
