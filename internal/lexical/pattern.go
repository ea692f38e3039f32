package lexical

import (
	"fmt"
	"math"
	"strings"
)

// Pattern reads dates, times and timestamps that are written in a stated way. The directives are those of strftime (ISO C and
// POSIX): %Y %y %m %d %e %j %b %B %a %A %H %I %M %S %f %p %z %Z %T %F %s %%. Month and weekday names are the English ones. %S
// takes a fraction along, %f is a fraction alone; a number may have fewer digits than usual where no digit follows it. The
// words epoch, epoch_ms and epoch_us stand for seconds, milliseconds and microseconds since 1970-01-01T00:00:00Z.
type Pattern struct {
	text  string
	steps []step
	epoch int64 // microseconds of one unit, 0 for a pattern of directives
}

// step is a directive, or the character itself where directive is 0.
type step struct {
	directive byte
	literal   byte
	exact     bool // a digit follows, so every place must be filled
}

// epochs are the words for counts of time.
var epochs = map[string]int64{"epoch": microsPerSecond, "epoch_ms": 1000, "epoch_us": 1}

// numeric are the directives that are numbers, with how many digits they have.
var numeric = map[byte]int{'Y': 4, 'y': 2, 'm': 2, 'd': 2, 'e': 2, 'j': 3, 'H': 2, 'I': 2, 'M': 2, 'S': 2, 'f': 9}

// CompilePattern prepares a pattern.
func CompilePattern(text string) (*Pattern, error) {
	if unit, ok := epochs[text]; ok {
		return &Pattern{text: text, epoch: unit}, nil
	}
	expanded := strings.NewReplacer("%%", "%%", "%T", "%H:%M:%S", "%F", "%Y-%m-%d", "%s", "%s").Replace(text)
	p := &Pattern{text: text}
	directives := 0
	for i := 0; i < len(expanded); i++ {
		if expanded[i] != '%' {
			p.steps = append(p.steps, step{literal: expanded[i]})
			continue
		}
		i++
		if i == len(expanded) {
			return nil, fmt.Errorf("the pattern %q ends in %%", text)
		}
		d := expanded[i]
		switch {
		case d == '%':
			p.steps = append(p.steps, step{literal: '%'})
			continue
		case numeric[d] == 0 && !strings.ContainsRune("bBaApzZs", rune(d)):
			return nil, fmt.Errorf("the pattern %q has %%%c, which is not known; there are %%Y %%y %%m %%d %%e %%j %%b %%B %%a %%A "+
				"%%H %%I %%M %%S %%f %%p %%z %%Z %%T %%F %%s", text, d)
		}
		directives++
		p.steps = append(p.steps, step{directive: d})
	}
	if directives == 0 {
		return nil, fmt.Errorf("the pattern %q has no directive; write it like %%d.%%m.%%Y, or epoch, epoch_ms or epoch_us", text)
	}
	for i := range p.steps[:len(p.steps)-1] {
		next := p.steps[i+1]
		p.steps[i].exact = numeric[next.directive] > 0 || next.directive == 's' || next.literal >= '0' && next.literal <= '9'
	}
	return p, nil
}

// String returns the pattern as it was stated.
func (p *Pattern) String() string { return p.text }

// Day and Clock report whether the pattern has what makes a date, and what makes a time of day. A year and the name of a month
// make the first day of that.
func (p *Pattern) Day() bool {
	return p.epoch > 0 || p.has("s") || p.has("Yy") && (p.has("j") || p.has("mbB") && p.has("de") || p.has("bB"))
}

// Clock is described at Day.
func (p *Pattern) Clock() bool { return p.epoch > 0 || p.has("s") || p.has("HI") }

// Zone reports whether the pattern tells how far from UTC its values are.
func (p *Pattern) Zone() bool { return p.epoch > 0 || p.has("szZ") }

func (p *Pattern) has(directives string) bool {
	for _, s := range p.steps {
		if s.directive > 0 && strings.IndexByte(directives, s.directive) >= 0 {
			return true
		}
	}
	return false
}

// moment is what the directives of a text said.
type moment struct {
	year, month, day, yearDay  int
	hour, minute, second       int
	micros, offset             int64 // of the second; east of Greenwich
	afternoon, twelve, morning bool
	instant                    int64
	counted                    bool
}

// Read reads a text: days since 1970-01-01, and microseconds since midnight, both moved to UTC where there is a zone.
func (p *Pattern) Read(b []byte) (days int32, micros int64, ok bool) {
	if p.epoch > 0 {
		v, ok := countOf(b, p.epoch)
		return split(v, ok)
	}
	m := moment{year: 1970, month: 1, day: 1}
	at := 0
	for _, s := range p.steps {
		n, ok := m.take(s, b[at:])
		if !ok {
			return 0, 0, false
		}
		at += n
	}
	if at != len(b) {
		return 0, 0, false
	}
	return m.settle()
}

// split divides microseconds since 1970 into days and the rest.
func split(v int64, ok bool) (int32, int64, bool) {
	days := v / MicrosPerDay
	if v%MicrosPerDay < 0 {
		days--
	}
	return int32(days), v - days*MicrosPerDay, ok
}

// lastInstant bounds what counts of time may be: the year 9999.
const lastInstant = 253402300800 * microsPerSecond

// countOf reads a count of units, with a fraction for units that have one, in microseconds.
func countOf(b []byte, unit int64) (int64, bool) {
	scale := map[int64]int{microsPerSecond: 6, 1000: 3, 1: 0}[unit]
	u, ok := StatedDecimal(b, 18, scale)
	v := int64(u.Low)
	return v, ok && v <= lastInstant && v >= -lastInstant
}

// take reads one step from the front of b and returns how many bytes it took.
func (m *moment) take(s step, b []byte) (int, bool) {
	if s.directive == 0 {
		return 1, len(b) > 0 && b[0] == s.literal
	}
	if width := numeric[s.directive]; width > 0 {
		return m.number(s, width, b)
	}
	switch s.directive {
	case 'b', 'B':
		n, length := longestWord(b, months[:])
		m.month = n + 1
		return length, length > 0
	case 'a', 'A':
		_, length := longestWord(b, weekdays[:])
		return length, length > 0
	case 'p':
		if len(b) < 2 || b[1]|0x20 != 'm' {
			return 0, false
		}
		m.afternoon, m.morning = b[0]|0x20 == 'p', b[0]|0x20 == 'a'
		return 2, m.afternoon || m.morning
	case 'z':
		return m.zone(b)
	case 'Z':
		for _, name := range [...]string{"UTC", "GMT", "Z"} {
			if len(b) >= len(name) && strings.EqualFold(string(b[:len(name)]), name) {
				return len(name), true
			}
		}
		return 0, false
	}
	n := 0
	for n < len(b) && (b[n]-'0' <= 9 || n == 0 && b[n] == '-') {
		n++
	}
	v, ok := countOf(b[:n], microsPerSecond)
	m.instant, m.counted = v, true
	return n, ok
}

// zone reads the longest offset from UTC that b begins with.
func (m *moment) zone(b []byte) (int, bool) {
	for _, n := range [...]int{6, 5, 3, 1} {
		if len(b) >= n {
			if offset, ok := offsetFromUTC(b[:n]); ok {
				m.offset = offset
				return n, true
			}
		}
	}
	return 0, false
}

// number reads a number of up to width digits.
func (m *moment) number(s step, width int, b []byte) (int, bool) {
	n, v := 0, 0
	start := 0
	if s.directive == 'e' && len(b) > 1 && b[0] == ' ' {
		start, width = 1, 1
	}
	for start+n < len(b) && n < width && b[start+n]-'0' <= 9 {
		v = v*10 + int(b[start+n]-'0')
		n++
	}
	if n == 0 || n < width && (s.exact || s.directive == 'Y' || s.directive == 'y') && s.directive != 'f' {
		return 0, false
	}
	length := start + n
	switch s.directive {
	case 'Y':
		m.year = v
	case 'y':
		// POSIX: 69 to 99 are in the 1900s, 00 to 68 in the 2000s.
		if m.year = 2000 + v; v >= 69 {
			m.year = 1900 + v
		}
	case 'm':
		m.month = v
	case 'd', 'e':
		m.day = v
	case 'j':
		m.yearDay = v
		return length, v >= 1
	case 'H':
		m.hour = v
	case 'I':
		m.hour, m.twelve = v, true
		return length, v >= 1 && v <= 12
	case 'M':
		m.minute = v
	case 'S':
		m.second = v
		if length+1 < len(b) && b[length] == '.' && b[length+1]-'0' <= 9 && !s.exact {
			fraction, ok := m.fraction(b[length+1:])
			return length + 1 + fraction, ok
		}
	case 'f':
		return m.fraction(b)
	}
	return length, true
}

// fraction reads the digits after a second's point; those beyond microseconds are cut.
func (m *moment) fraction(b []byte) (int, bool) {
	n, scale := 0, int64(microsPerSecond)
	for n < len(b) && b[n]-'0' <= 9 {
		scale /= 10
		m.micros += int64(b[n]-'0') * scale
		n++
	}
	return n, n > 0 && n <= 9
}

// settle checks that the parts make a moment that exists.
func (m *moment) settle() (int32, int64, bool) {
	if m.counted {
		return split(m.instant, true)
	}
	if m.hour > 23 || m.minute > 59 || m.second > 59 || m.year < 1 || m.month < 1 || m.month > 12 {
		return 0, 0, false
	}
	switch {
	case m.twelve && (m.afternoon || m.morning):
		m.hour %= 12
		if m.afternoon {
			m.hour += 12
		}
	case m.twelve && m.hour == 12:
		return 0, 0, false
	}
	days, ok := dayOf(m.year, m.month, m.day)
	if m.yearDay > 0 {
		first, _ := dayOf(m.year, 1, 1)
		last, _ := dayOf(m.year, 12, 31)
		days = first + int32(m.yearDay) - 1
		ok = days <= last
	}
	micros := int64(m.hour)*microsPerHour + int64(m.minute)*microsPerMinute + int64(m.second)*microsPerSecond + m.micros
	if !ok {
		return 0, 0, false
	}
	if m.offset == 0 {
		return days, micros, true
	}
	return split(int64(days)*MicrosPerDay+micros-m.offset, true)
}

// dayOf counts the days to a date, if it exists.
func dayOf(year, month, day int) (int32, bool) {
	if day < 1 || day > daysIn(year, month) {
		return 0, false
	}
	return daysFromCivil(year, month, day), true
}

func daysIn(year, month int) int {
	if month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0) {
		return 29
	}
	return daysInMonth[month]
}

var months = [...]string{"january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november",
	"december"}

var weekdays = [...]string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}

// longestWord finds the word that b begins with, whole or by its first three letters, and how many bytes of b it takes.
func longestWord(b []byte, words []string) (index, length int) {
	for i, w := range words {
		for _, n := range [...]int{len(w), 3} {
			if len(b) >= n && n > length && equalFold(b[:n], w[:n]) {
				index, length = i, n
			}
		}
	}
	return index, length
}

// Date reads a date.
func (p *Pattern) Date(b []byte) (int32, bool) {
	days, _, ok := p.Read(b)
	return days, ok
}

// Timestamp reads a point in time, in microseconds since 1970.
func (p *Pattern) Timestamp(b []byte) (int64, bool) {
	days, micros, ok := p.Read(b)
	return int64(days)*MicrosPerDay + micros, ok && days > math.MinInt32
}

// Time reads a time of day, in microseconds since midnight.
func (p *Pattern) Time(b []byte) (int64, bool) {
	_, micros, ok := p.Read(b)
	return micros, ok
}
