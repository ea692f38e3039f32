package lexical

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
	last := daysInMonth[month]
	if month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0) {
		last = 29
	}
	if day > last {
		return 0, false
	}
	return daysFromCivil(year, month, day), true
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

// Time reads HH:MM, HH:MM:SS or HH:MM:SS with a fraction of 1 to 6 digits.
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
	if len(b) == 8 || b[8] != '.' {
		return micros, 8, true
	}
	i, scale := 9, int64(microsPerSecond)
	for i < len(b) && b[i]-'0' <= 9 {
		scale /= 10
		if scale == 0 {
			return 0, 0, false
		}
		micros += int64(b[i]-'0') * scale
		i++
	}
	return micros, i, i > 9
}

// Timestamp reads a date, a T or a space, and a time of day. zoned reports whether a zone followed (Z, ±HH, ±HHMM or ±HH:MM),
// in which case the result is in UTC.
func Timestamp(b []byte) (micros int64, zoned, ok bool) {
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
	micros += int64(days) * MicrosPerDay
	zone := b[11+n:]
	if len(zone) == 0 {
		return micros, false, true
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
