package schema

import (
	"bytes"
	"math/bits"
	"slices"
	"strings"
	"sync"

	"trevak/internal/lexical"
)

// Dates with English names of months, years of two digits and clocks of twelve hours are told by trying: each value drops the
// patterns that do not read it, and a column is of such dates when one pattern is left. So a day stands where no year can
// stand, and a year of two digits is one only where a value shows it.

// Patterns of days. Those from firstMonth on have no day, and so are no dates by themselves; those from firstPart on have no
// year, and only keep others from being the only one.
var dayPatterns = []string{
	"%d %b %Y", "%d-%b-%Y", "%d/%b/%Y", "%b %d %Y", "%b %d, %Y", "%b-%d-%Y", "%Y %b %d", "%Y-%b-%d",
	"%d %b %y", "%d-%b-%y", "%d/%b/%y", "%y-%b-%d", "%y %b %d", "%b %d, %y",
	"%d/%m/%y", "%m/%d/%y", "%y/%m/%d", "%d-%m-%y", "%m-%d-%y", "%y-%m-%d", "%d.%m.%y", "%m.%d.%y", "%y.%m.%d",
	"%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%m-%d-%Y", "%d.%m.%Y", "%Y-%m-%d", "%Y/%m/%d",
	"%b %Y", "%b-%Y", "%Y %b", "%Y-%b", "%b-%y", "%b %y", "%y-%b",
	"%b-%d", "%b %d", "%d-%b", "%d %b",
	"",
}

var (
	firstMonth = slices.Index(dayPatterns, "%b %Y")
	firstPart  = slices.Index(dayPatterns, "%b-%d")
)

// clockPatterns are those of what may follow a day; the first is that of nothing.
var clockPatterns = []string{"", " %H:%M", " %H:%M:%S", " %I:%M %p", " %I:%M:%S %p", " %I:%M%p", " %I:%M:%S%p", "T%H:%M:%S",
	" %H:%M:%S %z", " %H:%M:%S %Z", " %H:%M %z", ", %I:%M %p", ", %I:%M:%S %p"}

// compiledDays and compiledClocks are the patterns, made when they are first needed.
var compiledDays, compiledClocks = sync.OnceValue(func() []*lexical.Pattern { return compiled(dayPatterns, "") }),
	sync.OnceValue(func() []*lexical.Pattern { return compiled(clockPatterns, "%Y-%m-%d") })

// compiled makes patterns, each behind a day where that is wanted.
func compiled(patterns []string, day string) (out []*lexical.Pattern) {
	for _, text := range patterns {
		p, _ := lexical.CompilePattern(day + text)
		out = append(out, p)
	}
	return out
}

// unfit are the patterns that do not read a text, as bits: those of days below those of clocks.
type unfit uint64

var clockShift = len(dayPatterns)

// everything is all patterns.
func everything() unfit {
	return 1<<(clockShift+len(clockPatterns)) - 1
}

// anyDay is a day, for a clock to stand behind.
const anyDay = "2031-05-01"

// namedDate tells whether a text may be such a date, and which patterns do not read it.
func namedDate(b []byte) (unfit, bool) {
	if !couldBeNamed(b) {
		return 0, false
	}
	day, clock := splitClock(b)
	fits := unfit(0)
	days := compiledDays()
	if len(day) == 0 {
		fits |= 1 << (len(dayPatterns) - 1) // a clock alone
	}
	for i, p := range days[:len(days)-1] {
		if len(day) > 0 && paddedAsWritten(dayPatterns[i], day) {
			if _, ok := p.Date(day); ok {
				fits |= 1 << i
			}
		}
	}
	if fits == 0 {
		return 0, false
	}
	var some bool
	text := append([]byte(anyDay), clock...)
	for i, p := range compiledClocks() {
		if len(clock) == 0 && i == 0 {
			fits |= 1 << clockShift
			some = true
		} else if len(clock) > 0 && i > 0 {
			if _, ok := p.Timestamp(text); ok {
				fits |= 1 << (clockShift + i)
				some = true
			}
		}
	}
	return everything() &^ fits, some
}

// paddedAsWritten keeps patterns of numbers alone with points or hyphens to texts with two digits everywhere: 1.2.13 is a
// version, and 1-2-13 anything.
func paddedAsWritten(pattern string, day []byte) bool {
	if !strings.HasSuffix(pattern, "%y") && !strings.HasPrefix(pattern, "%y") || strings.Contains(pattern, "%b") ||
		strings.Contains(pattern, "/") {
		return true
	}
	return len(day) == 8
}

// splitClock divides a text into a day and a time of day, with what stands between at the front of the latter.
func splitClock(b []byte) (day, clock []byte) {
	colon := bytes.IndexByte(b, ':')
	if colon < 0 {
		return b, nil
	}
	at := colon
	for at > 0 && b[at-1]-'0' <= 9 {
		at--
	}
	switch {
	case at == 0:
		return nil, append([]byte{' '}, b...)
	case at > 1 && b[at-1] == ' ' && b[at-2] == ',':
		at -= 2
	default:
		at--
	}
	return b[:at], b[at:]
}

// couldBeNamed looks whether a text has what such dates have: it begins with the name of a month, or with a digit before one,
// before two more short numbers, or before a clock of twelve hours.
func couldBeNamed(b []byte) bool {
	if len(b) < 5 || len(b) > 40 {
		return false
	}
	if b[0]-'0' > 9 {
		return isMonth(b)
	}
	separators, letter := 0, false
	for i, c := range b {
		switch {
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			if !letter && isMonth(b[i:]) {
				return true
			}
			if !letter && c != 'T' {
				return b[len(b)-1]|0x20 == 'm' && bytes.IndexByte(b, ':') > 0
			}
			letter = true
		case c == '/' || c == '-' || c == '.':
			separators++
			letter = false
		default:
			letter = false
		}
	}
	return separators == 2 && len(b) <= 17
}

// monthEnds are what stands behind the first three letters of the names of months.
var monthEnds = map[string]string{"jan": "uary", "feb": "ruary", "mar": "ch", "apr": "il", "may": "", "jun": "e", "jul": "y",
	"aug": "ust", "sep": "tember", "oct": "ober", "nov": "ember", "dec": "ember"}

// isMonth reports whether a text begins with the name of a month, or its first three letters alone.
func isMonth(b []byte) bool {
	if len(b) < 3 {
		return false
	}
	end, ok := monthEnds[string([]byte{b[0] | 0x20, b[1] | 0x20, b[2] | 0x20})]
	letter := func(at int) bool { return len(b) > at && b[at]|0x20 >= 'a' && b[at]|0x20 <= 'z' }
	if !ok || !letter(3) {
		return ok
	}
	return len(b) >= 3+len(end) && strings.EqualFold(string(b[3:3+len(end)]), end) && !letter(3+len(end))
}

// namedPattern returns the only pattern that reads all dates of a column, and what they are; ok is false where there is none,
// or more than one.
func (u unfit) namedPattern() (pattern string, kind Kind, ok bool) {
	fits := everything() &^ u
	days, clocks := uint64(fits)&(1<<clockShift-1), uint64(fits)>>clockShift
	if bits.OnesCount64(days) != 1 || bits.OnesCount64(clocks) != 1 {
		return "", String, false
	}
	day, clock := bits.TrailingZeros64(days), clockPatterns[bits.TrailingZeros64(clocks)]
	switch {
	case day == len(dayPatterns)-1:
		return strings.TrimPrefix(clock, " "), Time, clock != "" && !strings.ContainsAny(clock, "zZ")
	case day >= firstPart, day >= firstMonth && clock != "":
		return "", String, false
	case clock == "":
		return dayPatterns[day], Date, true
	case strings.ContainsAny(clock, "zZ"):
		return dayPatterns[day] + clock, TimestampTz, true
	}
	return dayPatterns[day] + clock, Timestamp, true
}

// namedType is what a column of such dates is: a month has no day, so those stay texts.
func (e *Evidence) namedType() (Kind, string) {
	pattern, kind, ok := e.unfit.namedPattern()
	if !ok || kind == Date && !strings.ContainsAny(pattern, "d") {
		return String, ""
	}
	return kind, pattern
}

// Months returns the pattern of months without a day, by which a column could be read as their first days; it is empty for other columns.
func (e *Evidence) Months() string {
	if e.Seen&^(ClassNull|ClassToken) != ClassNamed {
		return ""
	}
	if pattern, kind, ok := e.unfit.namedPattern(); ok && kind == Date && !strings.ContainsAny(pattern, "d") {
		return pattern
	}
	return ""
}
