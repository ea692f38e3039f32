package lexical

import (
	"bytes"
	"encoding/binary"
	"math"
)

// Instants and spans are counted as Apache Iceberg stores them: dates in days since 1970-01-01, times in microseconds since
// midnight, timestamps in microseconds since 1970-01-01T00:00:00 (in UTC where a zone was given).

const (
	microsPerSecond = 1_000_000
	microsPerMinute = 60 * microsPerSecond
	microsPerHour   = 60 * microsPerMinute
	// MicrosPerDay is the length of a day in microseconds.
	MicrosPerDay = 24 * microsPerHour
)

// two reads two decimal digits, or returns a number above 99.
func two(b []byte, at int) int {
	hi, lo := b[at]-'0', b[at+1]-'0'
	if hi > 9 || lo > 9 {
		return 1000
	}
	return int(hi)*10 + int(lo)
}

var daysInMonth = [...]int{0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// Date reads YYYY-MM-DD, a day that exists in the Gregorian calendar, years 0001 to 9999.
func Date(b []byte) (int32, bool) {
	if len(b) != 10 {
		return 0, false
	}
	return date(b)
}

// date reads the first ten bytes of b.
func date(b []byte) (int32, bool) {
	if b[4] != '-' || b[7] != '-' {
		return 0, false
	}
	century, rest, month, day := two(b, 0), two(b, 2), two(b, 5), two(b, 8)
	if century > 99 || rest > 99 || month < 1 || month > 12 || day < 1 || day > 31 {
		return 0, false
	}
	year := century*100 + rest
	if year == 0 {
		return 0, false
	}
	if day > lastDay(year, month) {
		return 0, false
	}
	return daysFromCivil(year, month, day), true
}

// lastDay returns the number of days in a month.
func lastDay(year, month int) int {
	if month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0) {
		return 29
	}
	return daysInMonth[month]
}

// daysFromCivil counts days from 1970-01-01 in the proleptic Gregorian calendar, with years that begin in March so that the
// leap day comes last.
func daysFromCivil(year, month, day int) int32 {
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	yearOfEra := year - era*400
	dayOfYear := (153*(month-3)+2)/5 + day - 1
	dayOfEra := yearOfEra*365 + yearOfEra/4 - yearOfEra/100 + dayOfYear
	return int32(era*146097 + dayOfEra - 719468)
}

// Time reads HH:MM, HH:MM:SS or HH:MM:SS with a fraction, after a point or a comma, of which nothing is lost in microseconds.
func Time(b []byte) (int64, bool) {
	micros, n, ok := clock(b)
	return micros, ok && n == len(b)
}

// clock reads a time of day from the front of b and returns how many bytes it took.
func clock(b []byte) (micros int64, n int, ok bool) {
	if len(b) < 5 || b[2] != ':' {
		return 0, 0, false
	}
	hour, minute := two(b, 0), two(b, 3)
	if hour > 23 || minute > 59 {
		return 0, 0, false
	}
	micros = int64(hour)*microsPerHour + int64(minute)*microsPerMinute
	if len(b) < 8 || b[5] != ':' {
		return micros, 5, true
	}
	second := two(b, 6)
	if second > 59 {
		return 0, 0, false
	}
	micros += int64(second) * microsPerSecond
	if len(b) == 8 || b[8] != '.' && b[8] != ',' {
		return micros, 8, true
	}
	fraction, n, ok := secondFraction(b[9:])
	return micros + fraction, 9 + n, ok
}

// secondFraction reads the digits after a second's point, in microseconds, up to nine as long as those beyond the sixth are 0.
func secondFraction(b []byte) (micros int64, n int, ok bool) {
	scale := int64(microsPerSecond)
	for n < len(b) && b[n]-'0' <= 9 {
		scale /= 10
		if scale == 0 && b[n] != '0' || n == 9 {
			return 0, 0, false
		}
		micros += int64(b[n]-'0') * scale
		n++
	}
	return micros, n, n > 0
}

// Timestamp reads a date, a T or a space, and a time of day; or both in the basic form of ISO 8601, 20260131T101500. zoned reports
// whether a zone followed (Z, UTC, ±HH, ±HHMM or ±HH:MM, after a space or not), in which case the result is in UTC.
func Timestamp(b []byte) (micros int64, zoned, ok bool) {
	if len(b) == 19 || len(b) == 20 && b[19] == 'Z' {
		if micros, ok = plainTimestamp((*[19]byte)(b)); ok {
			return micros, len(b) == 20, true
		}
	}
	if len(b) >= 15 && b[8] == 'T' {
		return basicTimestamp(b)
	}
	if len(b) < 16 || (b[10] != 'T' && b[10] != ' ') {
		return 0, false, false
	}
	days, ok := date(b)
	if !ok {
		return 0, false, false
	}
	micros, n, ok := clock(b[11:])
	if !ok {
		return 0, false, false
	}
	return inZone(int64(days)*MicrosPerDay+micros, b[11+n:])
}

// TimestampNanos reads what Timestamp reads, with up to nine digits of a second's fraction, in nanoseconds: from 1677-09-21 to
// 2262-04-11.
func TimestampNanos(b []byte) (nanos int64, zoned, ok bool) {
	const digits = 6 // of microseconds
	at := bytes.IndexAny(b, ".,")
	end := at + 1
	for at >= 0 && end < len(b) && b[end]-'0' <= 9 {
		end++
	}
	var rest int64
	if at >= 0 && end-at-1 > digits {
		if end-at-1 > 9 {
			return 0, false, false
		}
		scale := int64(100)
		for _, c := range b[at+1+digits : end] {
			rest += int64(c-'0') * scale
			scale /= 10
		}
		b = append(append(make([]byte, 0, len(b)), b[:at+1+digits]...), b[end:]...)
	}
	micros, zoned, ok := Timestamp(b)
	if !ok || micros <= math.MinInt64/1000 || micros >= math.MaxInt64/1000 {
		return 0, false, false
	}
	return micros*1000 + rest, zoned, true
}

// plainTimestamp reads YYYY-MM-DDTHH:MM:SS or the same with a space, of which it takes eight bytes at a time.
func plainTimestamp(b *[19]byte) (micros int64, ok bool) {
	const (
		tops  = 0x8080808080808080
		nines = 0x7676767676767676 // what makes bytes above 9 reach the top bit
		date  = '0' | '0'<<8 | '0'<<16 | '0'<<24 | '-'<<32 | '0'<<40 | '0'<<48 | '-'<<56
		dash  = 0xff<<32 | 0xff<<56
		clock = '0' | '0'<<8 | ':'<<16 | '0'<<24 | '0'<<32 | ':'<<40 | '0'<<48 | '0'<<56
		colon = 0xff<<16 | 0xff<<40
	)
	d, c := binary.LittleEndian.Uint64(b[:])^date, binary.LittleEndian.Uint64(b[11:])^clock
	if (d+nines|d|(c+nines)|c)&tops|d&dash|c&colon != 0 || b[10] != 'T' && b[10] != ' ' {
		return 0, false
	}
	year := (d&0xff*10+d>>8&0xff)*100 + d>>16&0xff*10 + d>>24&0xff
	month, day := d>>40&0xff*10+d>>48&0xff, two(b[:], 8)
	hour, minute, second := c&0xff*10+c>>8&0xff, c>>24&0xff*10+c>>32&0xff, c>>48&0xff*10+c>>56
	if year == 0 || month-1 > 11 || day < 1 || day > 28 && day > lastDay(int(year), int(month)) || hour > 23 || minute > 59 ||
		second > 59 {
		return 0, false
	}
	days := daysFromCivil(int(year), int(month), day)
	return int64(days)*MicrosPerDay + int64(hour*3600+minute*60+second)*microsPerSecond, true
}

// basicTimestamp reads YYYYMMDDTHHMMSS with or without a fraction and a zone.
func basicTimestamp(b []byte) (micros int64, zoned, ok bool) {
	var text [19]byte
	copy(text[:], b[:4])
	text[4], text[7], text[10], text[13], text[16] = '-', '-', 'T', ':', ':'
	copy(text[5:], b[4:6])
	copy(text[8:], b[6:8])
	copy(text[11:], b[9:11])
	copy(text[14:], b[11:13])
	copy(text[17:], b[13:15])
	micros, zoned, ok = Timestamp(text[:])
	if !ok || zoned {
		return 0, false, false
	}
	rest := b[15:]
	if len(rest) > 0 && (rest[0] == '.' || rest[0] == ',') {
		fraction, n, ok := secondFraction(rest[1:])
		if !ok {
			return 0, false, false
		}
		micros, rest = micros+fraction, rest[1+n:]
	}
	return inZone(micros, rest)
}

// inZone moves a local time to UTC where a zone follows it.
func inZone(micros int64, zone []byte) (utc int64, zoned, ok bool) {
	if len(zone) == 0 {
		return micros, false, true
	}
	if zone[0] == ' ' {
		zone = zone[1:]
	}
	if string(zone) == "UTC" {
		return micros, true, true
	}
	offset, ok := offsetFromUTC(zone)
	return micros - offset, true, ok
}

// offsetFromUTC reads a zone designator as ISO 8601 writes it, in microseconds east of Greenwich.
func offsetFromUTC(zone []byte) (int64, bool) {
	if len(zone) == 1 {
		return 0, zone[0] == 'Z' || zone[0] == 'z'
	}
	if len(zone) < 3 || (zone[0] != '+' && zone[0] != '-') {
		return 0, false
	}
	hours, minutes := two(zone, 1), 0
	switch {
	case len(zone) == 3:
	case len(zone) == 5:
		minutes = two(zone, 3)
	case len(zone) == 6 && zone[3] == ':':
		minutes = two(zone, 4)
	default:
		return 0, false
	}
	if hours > 18 || minutes > 59 {
		return 0, false
	}
	offset := int64(hours)*microsPerHour + int64(minutes)*microsPerMinute
	if zone[0] == '-' {
		offset = -offset
	}
	return offset, true
}
