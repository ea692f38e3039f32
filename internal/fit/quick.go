package fit

import (
	"strings"

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

// keyLiteral writes a name as a key of JSON with its colon, where that is the name in quotes.
func keyLiteral(name string) string {
	if strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == '"' || r == '\\' || r == '\ufffd' }) {
		return ""
	}
	return `"` + name + `":`
}

// quickly appends a value the short way. Otherwise it returns false and has passed over nothing.
func (w *walker) quickly(c *column) bool {
	switch w.Ahead() {
	case 'n':
		if !w.PlainNull() {
			return false
		}
		c.null()
		return true
	case '{':
		if c.quick == quickStruct {
			w.object(c)
		}
		return c.quick == quickStruct
	case '[':
		if c.quick == quickList {
			w.array(c)
		}
		return c.quick == quickList
	}
	switch c.quick {
	case quickStruct, quickList:
		return false
	case quickText, quickTimestamp:
		text, ok := w.PlainString()
		if !ok {
			return false
		}
		if c.quick == quickText {
			if c.take(text) {
				return true
			}
			w.Unread(len(text) + 2)
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
	case quickBoolean:
		value, ok := w.PlainBoolean()
		if ok {
			c.mark(true)
			c.bit(value)
		}
		return ok
	}
	word, n, ok := w.ShortNumber()
	if !ok {
		return false
	}
	key := word << ((64 - 8*n) & 63)
	if c.quick == quickDouble {
		v, ok := short(key, n)
		if !ok {
			w.Unread(n)
			return false
		}
		c.mark(true)
		c.doubles = append(c.doubles, v)
		return true
	}
	v, scale, ok := lexical.Number(key, n)
	if !ok || scale > 0 {
		w.Unread(n)
		return false
	}
	c.mark(true)
	c.longs = append(c.longs, v)
	return true
}
