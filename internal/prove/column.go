package prove

import (
	"bytes"
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowhash"
	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// Facts are what is counted of a column. What a type has none of is empty.
type Facts struct {
	Values, Nulls, Distinct int64
	// Exact says that Distinct is no estimate.
	Exact bool
	// Sum is exact, of doubles rounded once at the end. Length is that of all texts in bytes, or of all lists in elements.
	Sum               string
	Length            int64
	Smallest, Largest string
	// High and Low are the halves of the hash: the sum of the hashes of all values, in whatever order.
	High, Low uint64
}

// column gathers the facts of a column.
type column struct {
	values      int64
	nulls       int64
	high, low   uint64
	whole       whole
	doubles     doubles
	length      int64
	extremes    extremes
	distinct    schema.Sketch
	highs, lows []uint64 // of the batch at hand
}

// add takes the values of a batch. The hashes of its values are left in highs and lows.
func (c *column) add(a arrow.Array, seed uint64) {
	n := a.Len()
	c.hash(a, seed)
	var carry uint64
	for i, low := range c.lows {
		c.low, carry = bits.Add64(c.low, low, 0)
		c.high, _ = bits.Add64(c.high, c.highs[i], carry)
	}
	if d, ok := a.(*array.Dictionary); ok {
		c.addCoded(d)
		return
	}
	nulls := int64(a.NullN())
	c.nulls, c.values = c.nulls+nulls, c.values+int64(n)-nulls
	for i, low := range c.lows {
		if nulls == 0 || a.IsValid(i) {
			c.distinct.AddHash(low)
		}
	}
	c.measure(a)
}

// addCoded counts each value of a dictionary once.
func (c *column) addCoded(a *array.Dictionary) {
	counts, first := make([]int64, a.Dictionary().Len()), make([]int, a.Dictionary().Len())
	if codes, ok := rowhash.Codes(a); ok {
		for i, code := range codes {
			counts[code]++
			first[code] = i
		}
	} else {
		for i := range a.Len() {
			if !a.IsNull(i) {
				code := a.GetValueIndex(i)
				counts[code]++
				first[code] = i
			}
		}
	}
	there := int64(0)
	texts, isText := a.Dictionary().(*array.String)
	for code, n := range counts {
		if n == 0 || a.Dictionary().IsNull(code) {
			continue
		}
		there += n
		c.distinct.AddHash(c.lows[first[code]])
		if isText {
			c.text([]byte(texts.Value(code)), n)
			continue
		}
		one := array.NewSlice(a.Dictionary(), int64(code), int64(code)+1)
		for range n {
			c.measure(one)
		}
		one.Release()
	}
	c.values, c.nulls = c.values+there, c.nulls+int64(a.Len())-there
}

// merge adds what was gathered of another part of the column.
func (c *column) merge(o *column) {
	var carry uint64
	c.low, carry = bits.Add64(c.low, o.low, 0)
	c.high, _ = bits.Add64(c.high, o.high, carry)
	c.values, c.nulls, c.length = c.values+o.values, c.nulls+o.nulls, c.length+o.length
	c.whole.merge(o.whole)
	c.doubles.merge(&o.doubles)
	c.distinct.Merge(&o.distinct)
	if o.extremes.any {
		c.extremes.merge(o.extremes)
	}
}

// isNull reports whether a value is not there, of columns in the form of a dictionary too.
func isNull(a arrow.Array, row int) bool {
	d, ok := a.(*array.Dictionary)
	return a.IsNull(row) || ok && d.Dictionary().IsNull(d.GetValueIndex(row))
}

// measure adds to sums, lengths and extremes.
func (c *column) measure(a arrow.Array) {
	switch a := a.(type) {
	case *array.Int64:
		numbers(c, a, a.Int64Values())
	case *array.Int32:
		numbers(c, a, a.Int32Values())
	case *array.Date32:
		numbers(c, a, a.Date32Values())
	case *array.Timestamp:
		numbers(c, a, a.TimestampValues())
	case *array.Time64:
		numbers(c, a, a.Time64Values())
	case *array.Float64:
		for i, v := range a.Float64Values() {
			if a.IsValid(i) {
				c.doubles.add(v)
				if v == v {
					c.extremes.double(v)
				}
			}
		}
	case *array.Float32:
		for i, v := range a.Float32Values() {
			if a.IsValid(i) {
				c.doubles.add(float64(v))
				if v == v {
					c.extremes.double(float64(v))
				}
			}
		}
	case *array.Boolean:
		for i := range a.Len() {
			if a.IsValid(i) && a.Value(i) {
				c.whole.add(1)
			}
		}
	case *array.Decimal128:
		for i := range a.Len() {
			if a.IsValid(i) {
				c.whole.addDecimal(a.Value(i))
				c.extremes.decimal(a.Value(i))
			}
		}
	case *array.String:
		for i := range a.Len() {
			if a.IsValid(i) {
				c.text([]byte(a.Value(i)), 1)
			}
		}
	case *array.Binary:
		for i := range a.Len() {
			if a.IsValid(i) {
				c.text(a.Value(i), 1)
			}
		}
	case *array.List:
		for i := range a.Len() {
			if a.IsValid(i) {
				from, to := a.ValueOffsets(i)
				c.length += to - from
			}
		}
	}
}

func (c *column) text(v []byte, n int64) {
	c.length += int64(len(v)) * n
	c.extremes.bytes(v)
}

func numbers[T ~int32 | ~int64](c *column, a arrow.Array, list []T) {
	some := a.NullN() > 0
	low, high, any := int64(0), int64(0), false
	for i, v := range list {
		if some && a.IsNull(i) {
			continue
		}
		n := int64(v)
		if !any {
			low, high, any = n, n, true
		}
		low, high = min(low, n), max(high, n)
		c.whole.add(n)
	}
	if any {
		c.extremes.number(low)
		c.extremes.number(high)
	}
}

// extremes are the smallest and the largest value of a column.
type extremes struct {
	any         bool
	low, high   int64
	from, to    float64
	first, last []byte
	least, most decimal128.Num
}

func (e *extremes) decimal(v decimal128.Num) {
	if !e.any || v.Less(e.least) {
		e.least = v
	}
	if !e.any || e.most.Less(v) {
		e.most = v
	}
	e.any = true
}

func (e *extremes) number(v int64) {
	if !e.any {
		e.low, e.high = v, v
	}
	e.any, e.low, e.high = true, min(e.low, v), max(e.high, v)
}

func (e *extremes) double(v float64) {
	if !e.any {
		e.from, e.to = v, v
	}
	e.any, e.from, e.to = true, min(e.from, v), max(e.to, v)
}

func (e *extremes) bytes(v []byte) {
	if !e.any || bytes.Compare(v, e.first) < 0 {
		e.first = append(e.first[:0], v...)
	}
	if !e.any || bytes.Compare(v, e.last) > 0 {
		e.last = append(e.last[:0], v...)
	}
	e.any = true
}

// merge takes the extremes of another part of the column.
func (e *extremes) merge(o extremes) {
	if !e.any {
		*e = o
		return
	}
	e.low, e.high, e.from, e.to = min(e.low, o.low), max(e.high, o.high), min(e.from, o.from), max(e.to, o.to)
	if bytes.Compare(o.first, e.first) < 0 {
		e.first = o.first
	}
	if bytes.Compare(o.last, e.last) > 0 {
		e.last = o.last
	}
	if o.least.Less(e.least) {
		e.least = o.least
	}
	if e.most.Less(o.most) {
		e.most = o.most
	}
}

// facts tells what was gathered.
func (c *column) facts(f schema.Field) Facts {
	out := Facts{Values: c.values, Nulls: c.nulls, Length: c.length, High: c.high, Low: c.low}
	out.Distinct, out.Exact = c.distinct.Estimate()
	switch f.Type.Kind {
	case schema.Int, schema.Long, schema.Boolean:
		out.Sum = c.whole.text(0)
	case schema.Decimal:
		out.Sum = c.whole.text(f.Type.Scale)
	case schema.Float, schema.Double:
		out.Sum = c.doubles.text()
	}
	out.Smallest, out.Largest = c.ends(f)
	return out
}

// ends writes the smallest and the largest value.
func (c *column) ends(f schema.Field) (smallest, largest string) {
	if !c.extremes.any {
		return "", ""
	}
	e := c.extremes
	write := func(number int64, double float64, text []byte, decimal decimal128.Num) string {
		switch f.Type.Kind {
		case schema.Decimal:
			return decimal.ToString(int32(f.Type.Scale))
		case schema.Float, schema.Double:
			return oneText(f.Type, func(b array.Builder) {
				switch b := b.(type) {
				case *array.Float64Builder:
					b.Append(double)
				case *array.Float32Builder:
					b.Append(float32(double))
				}
			})
		case schema.String:
			return string(text)
		case schema.Binary, schema.UUID:
			return ""
		}
		return oneText(f.Type, func(b array.Builder) {
			switch b := b.(type) {
			case *array.Int64Builder:
				b.Append(number)
			case *array.Int32Builder:
				b.Append(int32(number))
			case *array.Date32Builder:
				b.Append(arrow.Date32(number))
			case *array.TimestampBuilder:
				b.Append(arrow.Timestamp(number))
			case *array.Time64Builder:
				b.Append(arrow.Time64(number))
			}
		})
	}
	return write(e.low, e.from, e.first, e.least), write(e.high, e.to, e.last, e.most)
}

// oneText writes a value of a type as it is written elsewhere.
func oneText(t schema.Type, add func(array.Builder)) string {
	b := array.NewBuilder(memory.DefaultAllocator, t.Arrow())
	add(b)
	a := b.NewArray()
	if a.Len() == 0 {
		return ""
	}
	return string(rowtext.AppendText(nil, a, 0))
}

// Same reports whether what was counted of two columns is the same.
func (f Facts) Same(o Facts) bool {
	return f.Values == o.Values && f.Nulls == o.Nulls && f.High == o.High && f.Low == o.Low &&
		f.Length == o.Length && f.Smallest == o.Smallest && f.Largest == o.Largest && f.Sum == o.Sum
}
