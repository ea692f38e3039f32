package fit

import (
	"encoding/base64"
	"encoding/hex"
	"math"
	"slices"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// reader is how the texts of one column are read.
type reader struct {
	stated  bool             // every spelling of the type is taken
	held    bool             // a table's column takes the usual notation besides its own
	pattern *lexical.Pattern // of dates, times and timestamps, nil for ISO 8601
	words   *lexical.Words   // of booleans, nil for true and false
	around  string           // text around numbers, with # in their place
	mark    byte             // decimal mark of numbers, 0 for the usual one
	decode  func([]byte) ([]byte, error)
	nulls   []string
	// shadowed says that a text that stands for no value could be read as one.
	shadowed bool
	scratch  []byte
}

// newReader prepares for a field, whose format was checked when it was stated.
func newReader(f schema.Field) reader {
	n := f.Notation
	r := reader{stated: f.Pinned, held: f.Held, nulls: n.Nulls}
	if n.DecimalMark != "" {
		r.mark = n.DecimalMark[0]
	}
	switch f.Type.Kind {
	case schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		if n.Format != "" {
			// A pattern that does not compile reads nothing, and its column is full of misfits.
			if r.pattern, _ = lexical.CompilePattern(n.Format); r.pattern == nil {
				r.pattern = &lexical.Pattern{}
			}
		}
	case schema.Boolean:
		if words, ok := schema.BooleanWords(n.Format); ok {
			r.words = &words
		}
	case schema.Binary:
		switch n.Format {
		case "hex":
			r.decode = func(b []byte) ([]byte, error) { return hex.DecodeString(string(b)) }
		case "base64":
			r.decode = func(b []byte) ([]byte, error) { return base64.StdEncoding.DecodeString(string(b)) }
		}
	default:
		var mark byte
		if r.around, mark = schema.NumberFormat(n.Format); mark != 0 {
			r.mark = mark
		}
	}
	r.shadowed = f.Type.Kind != schema.String && slices.ContainsFunc(n.Nulls, func(null string) bool {
		return null != "" && (n.Format != "" || schema.Classify([]byte(null))&(schema.ClassText|schema.ClassToken) == 0)
	})
	return r
}

// usual reports whether numbers are written the usual way, without leeway, and none of them stands for no value.
func (r *reader) usual() bool { return !r.stated && r.around == "" && r.mark == 0 && !r.shadowed }

// isNull reports whether a text stands for no value in a column that could not read it.
func (c *column) isNullToken(b []byte) bool {
	if c.field.Type.Kind == schema.String || c.field.Type.Nested() {
		return c.statedNull(b)
	}
	return c.statedNull(b) || (c.field.Pinned || c.field.Held) && schema.IsToken(b)
}

// statedNull reports whether a text is one of the column's null tokens.
func (c *column) statedNull(b []byte) bool {
	return len(c.reader.nulls) > 0 && slices.ContainsFunc(c.reader.nulls, func(null string) bool { return null == string(b) })
}

// scalar appends a value of the column's type from its text, and reports whether it fits. A text that is stated to be no value
// fits no column but those of texts, of which the caller looks for it first.
func (c *column) scalar(b []byte) bool {
	if c.reader.shadowed && c.statedNull(b) {
		return false
	}
	switch c.field.Type.Kind {
	case schema.String:
		return c.text(b)
	case schema.Long, schema.Time, schema.Timestamp, schema.TimestampTz, schema.TimestampNs, schema.TimestampTzNs:
		v, ok := c.reader.long(c.field.Type.Kind, b)
		if ok {
			c.setValid(true)
			c.longs = append(c.longs, v)
		}
		return ok
	case schema.Int, schema.Date:
		v, ok := c.reader.int(c.field.Type.Kind, b)
		if ok {
			c.setValid(true)
			c.ints = append(c.ints, v)
		}
		return ok
	case schema.Double:
		v, ok := c.reader.double(b)
		if ok {
			c.setValid(true)
			c.doubles = append(c.doubles, v)
		}
		return ok
	case schema.Float:
		v, ok := c.reader.float(b)
		if ok {
			c.setValid(true)
			c.floats = append(c.floats, v)
		}
		return ok
	case schema.Decimal:
		v, ok := c.reader.decimal(b, c.field.Type.Precision, c.field.Type.Scale)
		if ok {
			c.setValid(true)
			c.decimals = append(c.decimals, decimal128.New(v.High, v.Low))
		}
		return ok
	case schema.Boolean:
		v, ok := c.reader.boolean(b)
		if ok {
			c.setValid(true)
			c.bit(v)
		}
		return ok
	case schema.UUID:
		v, ok := c.reader.uuid(b)
		if ok {
			c.setValid(true)
			c.bytes = append(c.bytes, v[:]...)
		}
		return ok
	case schema.Binary:
		if c.reader.decode != nil {
			decoded, err := c.reader.decode(b)
			return err == nil && c.text(decoded)
		}
		return c.text(b)
	}
	return false
}

// number returns the number in a text, in the usual notation.
func (r *reader) number(b []byte) ([]byte, bool) {
	ok := true
	if r.around != "" {
		if b, ok = lexical.Inside(b, r.around); !ok {
			return nil, false
		}
	}
	if r.mark != 0 {
		return lexical.Plain(b, r.mark, &r.scratch)
	}
	return b, len(b) > 0
}

// long reads a value that is kept in 64 bits.
func (r *reader) long(kind schema.Kind, b []byte) (int64, bool) {
	switch kind {
	case schema.Time:
		if r.pattern != nil {
			if v, ok := r.pattern.Time(b); ok || !r.held {
				return v, ok
			}
		}
		return lexical.Time(b)
	case schema.Timestamp, schema.TimestampTz:
		if r.pattern != nil {
			if v, ok := r.pattern.Timestamp(b); ok || !r.held {
				return v, ok
			}
		}
		return timestamp(kind == schema.TimestampTz, b)
	case schema.TimestampNs, schema.TimestampTzNs:
		v, zoned, ok := lexical.TimestampNanos(b)
		return v, ok && zoned == (kind == schema.TimestampTzNs)
	}
	b, ok := r.number(b)
	switch {
	case !ok:
		return 0, false
	case r.stated:
		return lexical.StatedLong(b)
	case r.held:
		// What a table's column holds is known: 12.0 is the 12 that it takes.
		return lexical.WholeLong(b)
	}
	return lexical.Long(b)
}

// timestamp reads a timestamp with or without a zone as the column wants it; a date alone is its midnight where no zone
// is wanted.
func timestamp(zoned bool, b []byte) (int64, bool) {
	v, hasZone, ok := lexical.Timestamp(b)
	if ok {
		return v, hasZone == zoned
	}
	if zoned {
		return 0, false
	}
	days, ok := lexical.Date(b)
	return int64(days) * lexical.MicrosPerDay, ok
}

// int reads a value that is kept in 32 bits.
func (r *reader) int(kind schema.Kind, b []byte) (int32, bool) {
	if kind == schema.Date {
		if r.pattern != nil {
			if v, ok := r.pattern.Date(b); ok || !r.held {
				return v, ok
			}
		}
		return lexical.Date(b)
	}
	v, ok := r.long(schema.Long, b)
	return int32(v), ok && v >= math.MinInt32 && v <= math.MaxInt32
}

func (r *reader) double(b []byte) (float64, bool) {
	plain, ok := r.number(b)
	switch {
	case !ok:
		return lexical.Special(b)
	case r.stated:
		return lexical.StatedDouble(plain)
	}
	if v, ok := lexical.Double(plain); ok {
		return v, true
	}
	return lexical.Special(b)
}

// float reads a number into 32 bits. Where the type was not stated, nothing of its digits may be lost.
func (r *reader) float(b []byte) (float32, bool) {
	v, ok := r.double(b)
	narrow := float32(v)
	switch {
	case !ok:
		return 0, false
	case r.stated:
		return narrow, math.IsInf(v, 0) || !math.IsInf(float64(narrow), 0)
	}
	back, err := strconv.ParseFloat(strconv.FormatFloat(float64(narrow), 'g', -1, 32), 64)
	return narrow, err == nil && (back == v || v != v)
}

func (r *reader) decimal(b []byte, precision, scale int) (lexical.Unscaled, bool) {
	b, ok := r.number(b)
	switch {
	case !ok:
		return lexical.Unscaled{}, false
	case r.stated:
		return lexical.StatedDecimal(b, precision, scale)
	}
	return lexical.Decimal(b, precision, scale)
}

func (r *reader) boolean(b []byte) (value, ok bool) {
	if r.words != nil {
		if value, ok := r.words.Read(b); ok || !r.held {
			return value, ok
		}
	}
	switch {
	case r.stated:
		return lexical.StatedBoolean(b)
	}
	return lexical.Boolean(b)
}

func (r *reader) uuid(b []byte) ([16]byte, bool) {
	if r.stated {
		return lexical.StatedUUID(b)
	}
	return lexical.UUID(b)
}

// asksWider reports whether a value that does not fit calls for a wider type, rather than being a misfit.
func (c *column) asksWider(b []byte) bool {
	f := &c.field
	if !f.Widens {
		return !f.Pinned && !f.Held
	}
	switch f.Type.Kind {
	case schema.Int:
		_, ok := c.reader.long(schema.Long, b)
		return ok
	case schema.Float:
		_, ok := c.reader.double(b)
		return ok
	case schema.Decimal:
		_, ok := c.reader.decimal(b, lexical.MaxPrecision, f.Type.Scale)
		return ok
	}
	return false
}
