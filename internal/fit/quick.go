package fit

import (
	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// quick is a short way to read most JSON values of a column: those that are written the way that its values usually are.
type quick uint8

const (
	quickNone quick = iota
	quickText
	quickLong
	quickDouble
	quickBoolean
	quickTimestamp
	quickStruct
	quickList
)

// quickOf returns the short way of a column, which has none where anything was said about how its values are written.
func quickOf(c *column) quick {
	r := &c.reader
	if r.nulls != nil || c.field.Unseen {
		return quickNone
	}
	switch c.field.Type.Kind {
	case schema.Struct:
		return quickStruct
	case schema.List:
		return quickList
	case schema.String:
		return quickText
	case schema.Long:
		if r.usual() {
			return quickLong
		}
	case schema.Double:
		if r.usual() {
			return quickDouble
		}
	case schema.Boolean:
		if r.words == nil && !r.stated {
			return quickBoolean
		}
	case schema.Timestamp, schema.TimestampTz:
		if r.pattern == nil {
			return quickTimestamp
		}
	}
	return quickNone
}

// quickly appends a value the short way. Otherwise it returns false and has passed over nothing.
func (w *walker) quickly(c *column) bool {
	taken := false
	switch c.quick {
	case quickText:
		taken = w.quickText(c)
	case quickTimestamp:
		taken = w.quickTimestamp(c)
	case quickBoolean:
		value, ok := w.PlainBoolean()
		if taken = ok; ok {
			c.mark(true)
			c.bit(value)
		}
	case quickDouble, quickLong:
		taken = w.quickNumber(c)
	case quickStruct:
		if taken = w.Ahead() == '{'; taken {
			w.object(c)
		}
	case quickList:
		if taken = w.Ahead() == '['; taken {
			w.array(c)
		}
	}
	if !taken && w.Ahead() == 'n' && w.PlainNull() {
		c.null()
		return true
	}
	return taken
}

func (w *walker) quickText(c *column) bool {
	text, ok := w.PlainString()
	if ok && !c.take(text) {
		w.Unread(len(text) + 2)
		return false
	}
	return ok
}

func (w *walker) quickTimestamp(c *column) bool {
	text, ok := w.PlainString()
	if !ok {
		return false
	}
	v, ok := timestamp(c.field.Type.Kind == schema.TimestampTz, text)
	if !ok {
		w.Unread(len(text) + 2)
		return false
	}
	c.mark(true)
	c.longs = append(c.longs, v)
	return true
}

func (w *walker) quickNumber(c *column) bool {
	word, n, ok := w.ShortNumber()
	if !ok {
		return false
	}
	digits, scale, ok := lexical.Number(word<<((64-8*n)&63), n)
	switch {
	case !ok || c.quick == quickLong && scale > 0:
		w.Unread(n)
		return false
	case c.quick == quickLong:
		c.mark(true)
		c.longs = append(c.longs, digits)
	default:
		// Both are exact, so their quotient is the double nearest to the number.
		c.mark(true)
		c.doubles = append(c.doubles, float64(digits)/lexical.Units[scale&7])
	}
	return true
}
