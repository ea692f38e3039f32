package fit

import (
	"encoding/binary"
	"math"

	"trevak/internal/lexical"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// fill appends one field of the records from a row to another to a column, and returns the first row whose value does not fit, or -1. The loops for
// the common types stand by themselves, so that nothing is decided anew for each value.
func (d *Delimited) fill(c *column, r *delimited.Records, field, from, to int) int {
	switch kind := c.field.Type.Kind; {
	case c.words != nil:
		return d.fillCodes(c, r, field, from, to)
	case kind == schema.String:
		return d.fillText(c, r, field, from, to)
	case kind == schema.Long && c.reader.usual():
		return fillWhole(c, r, field, from, to)
	case kind == schema.Boolean && c.reader.words == nil:
		return d.fillBooleans(c, r, field, from, to)
	case kind == schema.Double && c.reader.usual():
		return fillDoubles(c, r, field, from, to)
	case (kind == schema.Timestamp || kind == schema.TimestampTz) && c.reader.pattern == nil:
		zoned := kind == schema.TimestampTz
		return fillLongs(c, r, field, from, to, func(b []byte) (int64, bool) { return timestamp(zoned, b) })
	}
	for row := from; row < to; row++ {
		text, quoted := r.Value(row, field, &d.scratch)
		switch {
		case len(text) == 0 && !quoted:
			c.null()
		case !c.scalar(text) && !c.token(text):
			return row
		}
	}
	return -1
}

// token appends a null for a word that stands for one.
func (c *column) token(text []byte) bool {
	if !c.isNullToken(text) {
		return false
	}
	c.null()
	c.tokens++
	return true
}

// fillCodes is fill for a column whose texts are numbered. Each is read when it is new.
func (d *Delimited) fillCodes(c *column, r *delimited.Records, field, from, to int) int {
	for row := from; row < to; row++ {
		if start, end, quoted, _ := r.Place(row, field); start == end && !quoted {
			c.null()
			continue
		}
		known := row
		c.codes, row = c.words.known(c.codes, r, field, row, to)
		if c.present(row - known); row > known {
			row--
			continue
		}
		switch id, ok := c.words.number(r, row, field, &d.scratch); {
		case !ok:
			return row
		case id == noValue:
			c.null()
			c.tokens++
		default:
			c.mark(true)
			c.codes = append(c.codes, id-1)
		}
	}
	return -1
}

func (d *Delimited) fillText(c *column, r *delimited.Records, field, from, to int) int {
	if c.bytes == nil {
		c.bytes = make([]byte, 0, len(r.Block.Data)/max(1, r.Width))
	}
	for row := from; row < to; row++ {
		text, quoted, doubled := r.Text(row, field)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		if doubled {
			text, _ = r.Value(row, field, &d.scratch)
		}
		if c.reader.nulls != nil && c.token(text) {
			continue
		}
		if c.field.Unseen || len(c.bytes)+len(text) > math.MaxInt32 {
			return row
		}
		c.mark(true)
		c.measure(text)
		c.bytes = append(c.bytes, text...)
		c.offsets = append(c.offsets, int32(len(c.bytes)))
	}
	return -1
}

func fillLongs(c *column, r *delimited.Records, field, from, to int, read func([]byte) (int64, bool)) int {
	for row := from; row < to; row++ {
		text, quoted, doubled := r.Text(row, field)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		v, ok := read(text)
		if !ok {
			if !doubled && c.token(text) {
				continue
			}
			return row
		}
		c.mark(true)
		c.longs = append(c.longs, v)
	}
	return -1
}

// fillWhole is fill for whole numbers; short ones are read by eight bytes at once.
func fillWhole(c *column, r *delimited.Records, field, from, to int) int {
	whole, data := lexical.NewDigits(0), r.Block.Data
	for row := from; row < to; row++ {
		start, end, _, _ := r.Place(row, field)
		if n := end - start; n > 0 && n <= shortWord && start+shortWord <= len(data) {
			key := binary.LittleEndian.Uint64(data[start:]) << ((64 - 8*n) & 63)
			if v, ok := whole.Parse(key, n); ok {
				c.mark(true)
				c.longs = append(c.longs, v)
				continue
			}
		}
		if bad := fillLongs(c, r, field, row, row+1, lexical.Long); bad >= 0 {
			return bad
		}
	}
	return -1
}

// fillBooleans is fill for booleans without words of their own.
func (d *Delimited) fillBooleans(c *column, r *delimited.Records, field, from, to int) int {
	data, trueKey, falseKey := r.Block.Data, lexical.ShortKey([]byte("true")), lexical.ShortKey([]byte("false"))
	for row := from; row < to; row++ {
		start, end, quoted, _ := r.Place(row, field)
		if n := end - start; n > 0 && n <= shortWord && start+shortWord <= len(data) {
			key := binary.LittleEndian.Uint64(data[start:]) << ((64 - 8*n) & 63)
			if value := key == trueKey; value || key == falseKey {
				c.mark(true)
				c.bit(value)
				continue
			}
		}
		text, _ := r.Value(row, field, &d.scratch)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		value, ok := c.reader.boolean(text)
		if !ok {
			if c.token(text) {
				continue
			}
			return row
		}
		c.mark(true)
		c.bit(value)
	}
	return -1
}

// fillDoubles is fill for floating-point numbers; short ones are read by eight bytes at once, as long as their digits behind the point are as many.
func fillDoubles(c *column, r *delimited.Records, field, from, to int) int {
	data := r.Block.Data
	for row := from; row < to; row++ {
		start, end, quoted, doubled := r.Place(row, field)
		n := end - start
		if n == 0 && !quoted {
			c.null()
			continue
		}
		if n > 0 && n <= shortWord && start+shortWord <= len(data) {
			key := binary.LittleEndian.Uint64(data[start:]) << ((64 - 8*n) & 63)
			if v, ok := c.short(key, n); ok {
				c.mark(true)
				c.doubles = append(c.doubles, v)
				continue
			}
		}
		text := data[start:end]
		v, ok := lexical.Double(text)
		if !ok {
			if v, ok = lexical.Special(text); !ok {
				if !doubled && c.token(text) {
					continue
				}
				return row
			}
		}
		c.mark(true)
		c.doubles = append(c.doubles, v)
	}
	return -1
}

// short reads a number of up to eight bytes by its lexical.ShortKey. Most have as many digits behind the point as the one before.
func (c *column) short(key uint64, n int) (v float64, ok bool) {
	if v, ok = c.digits.Double(key, n); !ok {
		c.digits = lexical.NewDigits(lexical.ScaleOfKey(key, n))
		v, ok = c.digits.Double(key, n)
	}
	return v, ok
}
