package schema

import "trevak/internal/lexical"

// Style is how the dates of a column that are not in the order of ISO 8601 are written, and which letters stand for booleans: bits for
// everything that occurred.
type Style uint16

const (
	styleSlash Style = 1 << iota
	stylePoint
	styleHyphen
	styleDateOnly
	styleMinutes
	styleSeconds
	styleT // a T between date and time of day
	styleSpace
	styleTrue
	styleFalse
)

var styleSeparators = map[byte]Style{'/': styleSlash, '.': stylePoint, '-': styleHyphen}

// dayMonth tells whether a text is a date as day, month and year in either order, or as year, month and day with slashes or
// points, alone or with a time of day after it. The class is 0 when it is none.
func dayMonth(b []byte) (Class, Style) {
	if len(b) < 8 || len(b) > 30 {
		return 0, 0
	}
	first, at := smallNumber(b, 0)
	if at == 4 && (b[4] == '/' || b[4] == '.') {
		return yearFirst(b)
	}
	if at == 0 || at > 2 {
		return 0, 0
	}
	separator := b[at]
	style := styleSeparators[separator]
	second, next := smallNumber(b, at+1)
	if style == 0 || next == at+1 || next > at+3 || next >= len(b) || b[next] != separator {
		return 0, 0
	}
	year, end := smallNumber(b, next+1)
	if end != next+5 || year == 0 {
		return 0, 0
	}
	clock, ok := clockStyle(b[end:])
	if !ok {
		return 0, 0
	}
	dayFirst, monthFirst := exists(year, second, first), exists(year, first, second)
	switch {
	case dayFirst && monthFirst:
		return ClassDayOrMonth, style | clock
	case dayFirst:
		return ClassDayFirst, style | clock
	case monthFirst:
		return ClassMonthFirst, style | clock
	}
	return 0, 0
}

func yearFirst(b []byte) (Class, Style) {
	year, _ := smallNumber(b, 0)
	month, next := smallNumber(b, 5)
	if next == 5 || next > 7 || next >= len(b) || b[next] != b[4] {
		return 0, 0
	}
	day, end := smallNumber(b, next+1)
	if end == next+1 || end > next+3 || !exists(year, month, day) {
		return 0, 0
	}
	clock, ok := clockStyle(b[end:])
	if !ok {
		return 0, 0
	}
	return ClassYearFirst, styleSeparators[b[4]] | clock
}

// smallNumber reads up to four digits from a position on and returns where they end.
func smallNumber(b []byte, at int) (v, end int) {
	for end = at; end < len(b) && end < at+4 && b[end]-'0' <= 9; end++ {
		v = v*10 + int(b[end]-'0')
	}
	return v, end
}

// exists reports whether there is such a day.
func exists(year, month, day int) bool {
	if month < 1 || month > 12 || year < 1 {
		return false
	}
	text := isoDate(year, month, day)
	_, ok := lexical.Date(text[:])
	return ok && day < 100
}

// isoDate writes a date in the order of ISO 8601.
func isoDate(year, month, day int) [10]byte {
	return [10]byte{byte('0' + year/1000), byte('0' + year/100%10), byte('0' + year/10%10), byte('0' + year%10), '-',
		byte('0' + month/10), byte('0' + month%10), '-',
		byte('0' + day/10%10), byte('0' + day%10)}
}

// clockStyle tells how the time of day after a date is written.
func clockStyle(b []byte) (Style, bool) {
	if len(b) == 0 {
		return styleDateOnly, true
	}
	style := styleSpace
	if b[0] == 'T' {
		style = styleT
	} else if b[0] != ' ' {
		return 0, false
	}
	if _, ok := lexical.Time(b[1:]); !ok {
		return 0, false
	}
	for _, c := range b {
		if c == ',' {
			return 0, false
		}
	}
	if len(b) == len(" 10:15") {
		return style | styleMinutes, true
	}
	return style | styleSeconds, true
}

// pattern writes the style of dates of a class as a pattern; ok is false where they are written in more than one way.
func (s Style) pattern(class Class) (pattern string, clock, ok bool) {
	var separator string
	switch s & (styleSlash | stylePoint | styleHyphen) {
	case styleSlash:
		separator = "/"
	case stylePoint:
		separator = "."
	case styleHyphen:
		separator = "-"
	default:
		return "", false, false
	}
	switch class {
	case ClassDayFirst:
		pattern = "%d" + separator + "%m" + separator + "%Y"
	case ClassMonthFirst:
		pattern = "%m" + separator + "%d" + separator + "%Y"
	default:
		pattern = "%Y" + separator + "%m" + separator + "%d"
	}
	switch s & (styleDateOnly | styleMinutes | styleSeconds | styleT | styleSpace) {
	case styleDateOnly:
		return pattern, false, true
	case styleMinutes | styleSpace:
		return pattern + " %H:%M", true, true
	case styleSeconds | styleSpace:
		return pattern + " %H:%M:%S", true, true
	case styleMinutes | styleT:
		return pattern + "T%H:%M", true, true
	case styleSeconds | styleT:
		return pattern + "T%H:%M:%S", true, true
	}
	return "", false, false
}
