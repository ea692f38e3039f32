package orc

import (
	"bytes"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"google.golang.org/protobuf/encoding/protowire"
)

// statistics describe the values of a column in a row group, a stripe or a file ("Column Statistics").
type statistics struct {
	values int64
	null   bool
	// ranged says that there are extremes, of the kind that the column has.
	ranged                bool
	low, high, sum        int64 // whole numbers, dates, timestamps in microseconds; sum also counts bytes and elements
	overflow              bool  // of the sum
	lowFloat, highFloat   float64
	sumFloat              float64
	nan                   bool
	lowText, highText     []byte
	lowNumber, highNumber decimal128.Num
	trues                 int64
}

func (s *statistics) long(v int64) {
	if !s.ranged {
		s.low, s.high, s.ranged = v, v, true
	}
	s.low, s.high = min(s.low, v), max(s.high, v)
	s.add(v)
}

func (s *statistics) add(v int64) {
	if sum := s.sum + v; (sum > s.sum) == (v > 0) {
		s.sum = sum
	} else {
		s.overflow = true
	}
}

func (s *statistics) float(v float64) {
	if v != v {
		s.nan = true
		return
	}
	if !s.ranged {
		s.lowFloat, s.highFloat, s.ranged = v, v, true
	}
	s.lowFloat, s.highFloat = min(s.lowFloat, v), max(s.highFloat, v)
	s.sumFloat += v
}

func (s *statistics) text(v []byte) {
	s.sum += int64(len(v))
	if !s.ranged {
		s.lowText, s.highText, s.ranged = append(s.lowText[:0], v...), append(s.highText[:0], v...), true
		return
	}
	if bytes.Compare(v, s.lowText) < 0 {
		s.lowText = append(s.lowText[:0], v...)
	}
	if bytes.Compare(v, s.highText) > 0 {
		s.highText = append(s.highText[:0], v...)
	}
}

func (s *statistics) decimal(v decimal128.Num) {
	if !s.ranged {
		s.lowNumber, s.highNumber, s.ranged = v, v, true
	}
	if v.Less(s.lowNumber) {
		s.lowNumber = v
	}
	if s.highNumber.Less(v) {
		s.highNumber = v
	}
}

// merge takes in the statistics of other values of the same column.
func (s *statistics) merge(o *statistics) {
	ranged := s.ranged
	s.values += o.values
	s.null = s.null || o.null
	s.nan = s.nan || o.nan
	s.overflow = s.overflow || o.overflow
	s.trues += o.trues
	s.add(o.sum)
	s.sumFloat += o.sumFloat
	switch {
	case !o.ranged:
		return
	case !ranged:
		s.low, s.high, s.lowFloat, s.highFloat, s.lowNumber, s.highNumber = o.low, o.high, o.lowFloat, o.highFloat, o.lowNumber,
			o.highNumber
		s.lowText, s.highText, s.ranged = bytes.Clone(o.lowText), bytes.Clone(o.highText), true
		return
	}
	s.low, s.high = min(s.low, o.low), max(s.high, o.high)
	s.lowFloat, s.highFloat = min(s.lowFloat, o.lowFloat), max(s.highFloat, o.highFloat)
	if o.lowNumber.Less(s.lowNumber) {
		s.lowNumber = o.lowNumber
	}
	if s.highNumber.Less(o.highNumber) {
		s.highNumber = o.highNumber
	}
	if bytes.Compare(o.lowText, s.lowText) < 0 {
		s.lowText = bytes.Clone(o.lowText)
	}
	if bytes.Compare(o.highText, s.highText) > 0 {
		s.highText = bytes.Clone(o.highText)
	}
}

// longestBound is the length of the longest text that statistics hold, in bytes.
const longestBound = 1024

// encode writes the message ColumnStatistics.
func (s *statistics) encode(k kind, scale int) message {
	var out, part message
	out.uint(1, uint64(s.values))
	switch k {
	case kindBoolean:
		part.packed(1, []uint64{uint64(s.trues)})
		out.bytes(5, part)
	case kindInt, kindLong:
		if s.ranged {
			part.sint(1, s.low)
			part.sint(2, s.high)
		}
		if !s.overflow {
			part.sint(3, s.sum)
		}
		out.bytes(2, part)
	case kindFloat, kindDouble:
		if s.ranged && !s.nan {
			part.double(1, s.lowFloat)
			part.double(2, s.highFloat)
			part.double(3, s.sumFloat)
		}
		out.bytes(3, part)
	case kindString:
		if s.ranged && len(s.lowText) <= longestBound && len(s.highText) <= longestBound && utf8.Valid(s.lowText) &&
			utf8.Valid(s.highText) {
			part.bytes(1, s.lowText)
			part.bytes(2, s.highText)
		}
		part.sint(3, s.sum)
		out.bytes(4, part)
	case kindDecimal:
		if s.ranged {
			part.text(1, s.lowNumber.ToString(int32(scale)))
			part.text(2, s.highNumber.ToString(int32(scale)))
		}
		out.bytes(6, part)
	case kindDate:
		if s.ranged {
			part.sint(1, s.low)
			part.sint(2, s.high)
		}
		out.bytes(7, part)
	case kindBinary:
		part.sint(1, s.sum)
		out.bytes(8, part)
	case kindTimestamp, kindTimestampInstant:
		if s.ranged {
			// Milliseconds, and what is left of the nanoseconds plus one. Timestamps are written as of UTC, so both pairs are the same.
			low, lowRest := floorDivide(s.low, 1000)
			high, highRest := floorDivide(s.high, 1000)
			part.sint(1, low)
			part.sint(2, high)
			part.sint(3, low)
			part.sint(4, high)
			part.uint(5, uint64(lowRest*1000+1))
			part.uint(6, uint64(highRest*1000+1))
		}
		out.bytes(9, part)
	}
	null := uint64(0)
	if s.null {
		null = 1
	}
	out.uint(10, null)
	return out
}

func floorDivide(v, by int64) (quotient, rest int64) {
	quotient, rest = v/by, v%by
	if rest < 0 {
		quotient, rest = quotient-1, rest+by
	}
	return quotient, rest
}

// described is what a file says of a column: how many values there are, whether some are null, and the range as text.
type described struct {
	values            int64
	null              bool
	smallest, largest string
}

// describe reads the message ColumnStatistics of a column of type t.
func describe(m []byte, t *node) (out described, err error) {
	err = walk(m, func(field protowire.Number, v value) error {
		switch field {
		case 1:
			out.values = int64(v.number)
		case 10:
			out.null = v.number == 1
		case 2, 3, 4, 6, 7, 9:
			return walk(v.bytes, func(bound protowire.Number, v value) error {
				switch text := boundText(field, v, t); {
				case bound == 1 && field != 9, bound == 3 && field == 9:
					out.smallest = text
				case bound == 2 && field != 9, bound == 4 && field == 9:
					out.largest = text
				}
				return nil
			})
		}
		return nil
	})
	return out, err
}

// boundText writes a bound of the statistics in the field of a number.
func boundText(field protowire.Number, v value, t *node) string {
	switch field {
	case 2:
		if t.attributes[attributeLong] == longTime {
			return time.UnixMicro(v.sint()).UTC().Format("15:04:05.999999")
		}
		return strconv.FormatInt(v.sint(), 10)
	case 3:
		return strconv.FormatFloat(v.double(), 'g', -1, 64)
	case 7:
		return time.Unix(86400*v.sint(), 0).UTC().Format(time.DateOnly)
	case 9:
		return time.UnixMilli(v.sint()).UTC().Format("2006-01-02T15:04:05.999")
	}
	return string(v.bytes)
}
