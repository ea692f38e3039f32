package profile

import (
	"math"
	"strconv"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/schema"
)

// number is a value as a place on a line: a number as it is, a date in days, a time in microseconds or nanoseconds. ok is false for
// what has no place.
func number(a arrow.Array, row int) (v float64, ok bool) {
	switch a := a.(type) {
	case *array.Int32:
		v = float64(a.Value(row))
	case *array.Int64:
		v = float64(a.Value(row))
	case *array.Float32:
		v = float64(a.Value(row))
	case *array.Float64:
		v = a.Value(row)
	case *array.Decimal128:
		v = a.Value(row).ToFloat64(a.DataType().(*arrow.Decimal128Type).Scale)
	case *array.Date32:
		v = float64(a.Value(row))
	case *array.Time64:
		v = float64(a.Value(row))
	case *array.Timestamp:
		v = float64(a.Value(row))
	case *array.Dictionary:
		return number(a.Dictionary(), a.GetValueIndex(row))
	default:
		return 0, false
	}
	return v, !math.IsNaN(v) && !math.IsInf(v, 0)
}

// spread counts numbers in ranges of one width. Where a number lies outside of all, the ranges become twice as wide until it does not,
// so that counts stay exact.
type spread struct {
	whole  bool      // values are whole numbers
	first  []float64 // the first values, from which the ranges are made
	low    float64   // where the first range begins
	width  float64
	counts [ranges]int64
	least  float64
	most   float64
}

const (
	ranges = 64
	// firstValues is how many values are seen before the ranges are made.
	firstValues = 1024
	// shownBins is how many bins are told at most.
	shownBins = 24
)

func (s *spread) add(v float64) {
	if s.width == 0 {
		if s.first = append(s.first, v); len(s.first) == firstValues {
			s.begin()
		}
		return
	}
	s.count(v)
}

// begin makes the ranges.
func (s *spread) begin() {
	if len(s.first) == 0 {
		return
	}
	s.least, s.most = s.first[0], s.first[0]
	for _, v := range s.first {
		s.least, s.most = math.Min(s.least, v), math.Max(s.most, v)
	}
	s.width = (s.most - s.least) / (ranges / 2)
	if s.whole {
		s.width = math.Ceil(s.width)
	}
	if s.width <= 0 || math.IsInf(s.width, 0) {
		s.width = math.Max(1, math.Abs(s.least)/ranges)
	}
	s.low = s.least
	for _, v := range s.first {
		s.count(v)
	}
	s.first = nil
}

func (s *spread) count(v float64) {
	s.least, s.most = math.Min(s.least, v), math.Max(s.most, v)
	for v < s.low && !math.IsInf(s.low, 0) {
		// The ranges go on below: what there was moves to the upper half.
		s.low -= ranges * s.width
		s.merge(ranges / 2)
	}
	for v >= s.low+ranges*s.width && !math.IsInf(s.width, 0) {
		s.merge(0)
	}
	at := int((v - s.low) / s.width)
	s.counts[max(0, min(at, ranges-1))]++
}

// merge makes ranges twice as wide; those that there were begin at one of the new ones.
func (s *spread) merge(at int) {
	var wider [ranges]int64
	for i, n := range s.counts {
		wider[at+i/2] += n
	}
	s.counts, s.width = wider, 2*s.width
}

// bins are the ranges that hold values, some of them together.
func (s *spread) bins(t schema.Type) (out []Bin) {
	if s.width == 0 {
		s.begin()
	}
	if s.width == 0 {
		return nil
	}
	from, to := 0, ranges
	for from < to && s.counts[from] == 0 {
		from++
	}
	for to > from && s.counts[to-1] == 0 {
		to--
	}
	each := (to - from + shownBins - 1) / shownBins
	for i := from; i < to; i += each {
		b := Bin{From: written(math.Max(s.least, s.low+float64(i)*s.width), t),
			To: written(math.Min(s.most, s.low+float64(i+each)*s.width), t)}
		for j := i; j < min(i+each, to); j++ {
			b.Count += s.counts[j]
		}
		out = append(out, b)
	}
	return out
}

// written writes a place on the line as a value of a type.
func written(v float64, t schema.Type) string {
	switch t.Kind {
	case schema.Date:
		return time.Unix(int64(v)*86400, 0).UTC().Format("2006-01-02")
	case schema.Time:
		return time.UnixMicro(int64(v)).UTC().Format("15:04:05")
	case schema.Timestamp, schema.TimestampTz:
		return time.UnixMicro(int64(v)).UTC().Format("2006-01-02 15:04:05")
	case schema.TimestampNs, schema.TimestampTzNs:
		return time.Unix(0, int64(v)).UTC().Format("2006-01-02 15:04:05")
	}
	if v == math.Trunc(v) && math.Abs(v) < 1<<53 {
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return strconv.FormatFloat(v, 'g', 6, 64)
}
