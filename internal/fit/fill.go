package fit

import (
	"math"
	"math/bits"
	"slices"

	"trevak/internal/lexical"
	"trevak/internal/parse/cells"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
)

// filler appends texts to columns, many at once where they are short. It belongs to one worker.
type filler struct {
	texts   shortTexts
	scratch []byte
	rows    int  // about how many values a column will have
	share   int  // about how many bytes the texts of a column will have
	strict  bool // numbers and booleans are those of JSON alone
}

// fill appends texts to a column, from one row to another, and returns the first row whose value does not fit, or -1. The loops for
// the common types stand by themselves, so that nothing is decided anew for each value.
func (f *filler) fill(c *column, in *cells.Column, from, to int) int {
	switch kind := c.field.Type.Kind; {
	case c.words != nil:
		return f.fillCodes(c, in, from, to)
	case kind == schema.String:
		return f.fillText(c, in, from, to)
	case kind == schema.Long && c.reader.usual():
		return f.fillWhole(c, in, from, to)
	case kind == schema.Boolean && c.reader.words == nil && !c.reader.shadowed:
		return f.fillBooleans(c, in, from, to)
	case kind == schema.Double && c.reader.usual():
		return f.fillDoubles(c, in, from, to)
	case (kind == schema.Timestamp || kind == schema.TimestampTz) && c.reader.pattern == nil && !c.reader.shadowed:
		return f.fillTimestamps(c, in, from, to, kind == schema.TimestampTz)
	}
	for row := from; row < to; row++ {
		text, quoted := in.Value(row, &f.scratch)
		switch {
		case len(text) == 0 && !quoted:
			c.null()
		case f.strict && c.outlined == outlinedNumber && !json.IsNumber(text):
			return row
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

// oneByOne completes the next n values of a column, of which those with a bit in present are there already: it asks read for
// each of the others, which are fields from a row on. It returns the first whose text is no value, or -1. The values up to that
// one, or all, are marked.
func (f *filler) oneByOne(c *column, in *cells.Column, from, n int, present, others uint64, read func(i int, text []byte) bool) int {
	for ; others != 0; others &= others - 1 {
		i := bits.TrailingZeros64(others)
		text, quoted := in.Value(from+i, &f.scratch)
		switch {
		case len(text) == 0 && !quoted:
		case read(i, text):
			present |= 1 << i
		case c.isNullToken(text):
			c.tokens++
		default:
			c.marks(present&(1<<i-1), i)
			return i
		}
	}
	c.marks(present, n)
	return -1
}

// fillCodes is fill for a column whose texts are numbered. Each is read when it is new.
func (f *filler) fillCodes(c *column, in *cells.Column, from, to int) int {
	for ; from < to; from += lexical.Together {
		n, first := min(lexical.Together, to-from), len(c.codes)
		c.codes = slices.Grow(c.codes, n)[:first+n]
		codes := c.codes[first:]
		present, others := c.words.known(&f.texts, codes, in, from)
		bad := f.oneByOne(c, in, from, n, present, others, func(i int, text []byte) bool {
			id, ok := c.words.number(in, from+i, text)
			codes[i] = max(id, 1) - 1
			return ok
		})
		if bad >= 0 {
			c.codes = c.codes[:first+bad]
			return from + bad
		}
		if looked := c.words.looked + c.n - c.nulls; looked >= c.words.next && c.words.given(looked) {
			*c = *c.uncoded(f.rows)
			return f.fill(c, in, from+n, to)
		}
	}
	return -1
}

func (f *filler) fillText(c *column, in *cells.Column, from, to int) int {
	if c.bytes == nil {
		c.bytes = make([]byte, 0, f.share)
	}
	for row := from; row < to; row++ {
		text, quoted, doubled := in.Text(row)
		if len(text) == 0 && !quoted {
			c.null()
			continue
		}
		if doubled {
			text, _ = in.Value(row, &f.scratch)
		}
		if c.reader.nulls != nil && c.token(text) {
			continue
		}
		if c.field.Unseen || len(c.bytes)+len(text) > math.MaxInt32 {
			return row
		}
		c.setValid(true)
		c.measure(text)
		c.bytes = append(c.bytes, text...)
		c.offsets = append(c.offsets, int32(len(c.bytes)))
	}
	return -1
}

// fillTimestamps is fill for timestamps without a pattern of their own; those of the commonest forms are read many at once.
func (f *filler) fillTimestamps(c *column, in *cells.Column, from, to int, zoned bool) int {
	t := &f.texts
	for ; from < to; from += lexical.Together {
		n, first := min(lexical.Together, to-from), len(c.longs)
		present, others := in.Places(from, n, &t.places)
		read := lexical.Timestamps(&t.values, in.Data, &t.places, n, zoned)
		c.longs = append(c.longs, t.values[:n]...)
		values := c.longs[first:]
		bad := f.oneByOne(c, in, from, n, present&read, others|present&^read, func(i int, text []byte) (ok bool) {
			values[i], ok = timestamp(zoned, text)
			return ok
		})
		if bad >= 0 {
			c.longs = c.longs[:first+bad]
			return from + bad
		}
	}
	return -1
}

// fillWhole is fill for whole numbers; short ones are read many at once.
func (f *filler) fillWhole(c *column, in *cells.Column, from, to int) int {
	t := &f.texts
	for ; from < to; from += lexical.Together {
		n, first := min(lexical.Together, to-from), len(c.longs)
		present, others := in.Keys(from, n, &t.keys, &t.sizes)
		read := lexical.Numbers(&t.values, &t.scales, &t.keys, &t.sizes, n)
		for i, scale := range t.scales[:n] {
			read &^= uint64(-scale) >> 63 << i
		}
		c.longs = append(c.longs, t.values[:n]...)
		values := c.longs[first:]
		bad := f.oneByOne(c, in, from, n, present&read, others|present&^read, func(i int, text []byte) (ok bool) {
			values[i], ok = c.reader.long(schema.Long, text)
			return ok && (!f.strict || json.IsNumber(text))
		})
		if bad >= 0 {
			c.longs = c.longs[:first+bad]
			return from + bad
		}
	}
	return -1
}

// The usual words of booleans, by their lexical.ShortKey.
var trueKey, falseKey = lexical.ShortKey([]byte("true")), lexical.ShortKey([]byte("false"))

// fillBooleans is fill for booleans without words of their own.
func (f *filler) fillBooleans(c *column, in *cells.Column, from, to int) int {
	t := &f.texts
	for ; from < to; from += lexical.Together {
		n, first := min(lexical.Together, to-from), c.n
		present, others := in.Keys(from, n, &t.keys, &t.sizes)
		trues, known := uint64(0), uint64(0)
		for i, key := range t.keys[:n] {
			isTrue, isFalse := uint64(0), uint64(0)
			if key == trueKey && t.sizes[i&63] == 4 {
				isTrue = 1
			}
			if key == falseKey && t.sizes[i&63] == 5 {
				isFalse = 1
			}
			trues |= isTrue << (i & 63)
			known |= (isTrue | isFalse) << (i & 63)
		}
		bad := f.oneByOne(c, in, from, n, present&known, others|present&^known, func(i int, text []byte) bool {
			value, ok := c.reader.boolean(text)
			if ok && value {
				trues |= 1 << i
			}
			return ok && !f.strict
		})
		if bad >= 0 {
			n = bad
		}
		c.bits = appendBits(c.bits, first, trues&(1<<n-1), 0)[:(first+n+7)/8]
		if bad >= 0 {
			return from + bad
		}
	}
	return -1
}

// fillDoubles is fill for floating-point numbers; short ones are read many at once.
func (f *filler) fillDoubles(c *column, in *cells.Column, from, to int) int {
	t := &f.texts
	for ; from < to; from += lexical.Together {
		n, first := min(lexical.Together, to-from), len(c.doubles)
		present, others := in.Keys(from, n, &t.keys, &t.sizes)
		read := lexical.Numbers(&t.values, &t.scales, &t.keys, &t.sizes, n)
		c.doubles = slices.Grow(c.doubles, n)[:first+n]
		values := c.doubles[first:]
		for i := range values {
			// Both are exact, so their quotient is the double nearest to the number.
			values[i] = float64(t.values[i]) / lexical.Units[t.scales[i]&7]
		}
		bad := f.oneByOne(c, in, from, n, present&read, others|present&^read, func(i int, text []byte) (ok bool) {
			if values[i], ok = lexical.Double(text); !ok {
				values[i], ok = lexical.Special(text)
			}
			return ok && (!f.strict || json.IsNumber(text))
		})
		if bad >= 0 {
			c.doubles = c.doubles[:first+bad]
			return from + bad
		}
	}
	return -1
}
