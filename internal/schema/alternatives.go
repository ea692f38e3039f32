package schema

import (
	"math"
	"strings"
	"unicode"

	"trevak/internal/lexical"
)

// Alternative is another way to read the values of a column that are texts as they stand. It was tried on all of them.
type Alternative struct {
	// Stated is the type by which they are read so.
	Stated Stated
	// Low and High are the smallest and the largest number then; they are 0 for uuids.
	Low, High float64
}

// The ways that are tried, each as long as it reads every text.
const (
	decimalComma = iota // 1.234,5
	decimalPoint        // 1,234.5
	withUnit            // 12 m
	withUnitComma
	withUnitPoint
	anyUUID
	wholeNumber // with leading zeros or a plus sign, or in a JSON string
	anyNumber
	jsonText
	nanoseconds
	zonedNanoseconds
	ways
)

// alternatives keeps what came of trying. The zero value is ready.
type alternatives struct {
	tried         bool
	before, after string // around the numbers of the first text
	alive         [ways]bool
	ranges        [ways]numbers
	scratch       []byte
}

// numbers are the extremes of numbers, and whether all are whole.
type numbers struct {
	low, high float64
	fraction  bool
}

// longestTried is the length in bytes from which a text is no number with something around it.
const longestTried = 48

// try holds a text against the ways that read all texts so far.
func (a *alternatives) try(text []byte) {
	if a.tried && !a.any() {
		return
	}
	if !a.tried {
		a.tried = true
		for i := range a.alive {
			a.alive[i] = len(text) <= longestTried
		}
		a.alive[jsonText] = true
		for i := range a.ranges {
			a.ranges[i] = numbers{low: math.Inf(1), high: math.Inf(-1)}
		}
		_, a.before, a.after = aroundNumber(string(text))
	}
	inside, around := text, false
	if a.before+a.after != "" {
		inside, around = lexical.Inside(text, a.before+"#"+a.after)
	}
	a.number(decimalComma, text, ',')
	a.number(decimalPoint, text, '.')
	for _, unit := range [...]struct {
		way  int
		mark byte
	}{{withUnit, 0}, {withUnitComma, ','}, {withUnitPoint, '.'}} {
		if a.alive[unit.way] = a.alive[unit.way] && around; around {
			a.number(unit.way, inside, unit.mark)
		}
	}
	if a.alive[anyUUID] {
		_, a.alive[anyUUID] = lexical.StatedUUID(text)
	}
	if a.alive[jsonText] {
		a.alive[jsonText] = isJSONText(text)
	}
	if a.alive[nanoseconds] || a.alive[zonedNanoseconds] {
		_, zoned, ok := lexical.TimestampNanos(text)
		a.alive[nanoseconds], a.alive[zonedNanoseconds] = a.alive[nanoseconds] && ok && !zoned, a.alive[zonedNanoseconds] && ok && zoned
	}
	if v, ok := lexical.StatedLong(text); a.alive[wholeNumber] {
		a.take(wholeNumber, float64(v), ok)
	}
	if v, ok := lexical.StatedDouble(text); a.alive[anyNumber] {
		a.take(anyNumber, v, ok)
	}
}

// number tries a number with a decimal mark, 0 for the usual notation.
func (a *alternatives) number(way int, text []byte, mark byte) {
	if !a.alive[way] {
		return
	}
	if mark != 0 {
		var ok bool
		if text, ok = lexical.Plain(text, mark, &a.scratch); !ok {
			a.alive[way] = false
			return
		}
	}
	v, ok := lexical.StatedDouble(text)
	a.take(way, v, ok)
}

func (a *alternatives) take(way int, v float64, ok bool) {
	if a.alive[way] = ok && !math.IsNaN(v); a.alive[way] {
		r := &a.ranges[way]
		r.low, r.high, r.fraction = min(r.low, v), max(r.high, v), r.fraction || v != math.Trunc(v) || math.Abs(v) > 1<<53
	}
}

func (a *alternatives) any() bool {
	for _, alive := range a.alive {
		if alive {
			return true
		}
	}
	return false
}

// merge adds what came of trying on other texts.
func (a *alternatives) merge(o *alternatives) {
	if !o.tried {
		return
	}
	if !a.tried {
		scratch := a.scratch
		*a = *o
		a.scratch = scratch
		return
	}
	for way := range a.alive {
		unit := way == withUnit || way == withUnitComma || way == withUnitPoint
		a.alive[way] = a.alive[way] && o.alive[way] && (!unit || a.before == o.before && a.after == o.after)
		r, s := &a.ranges[way], o.ranges[way]
		r.low, r.high, r.fraction = min(r.low, s.low), max(r.high, s.high), r.fraction || s.fraction
	}
}

// Alternatives lists the ways by which every value of a column that is string can be read as something else, the likeliest
// first. What of the column is no text is told by its classes: plain numbers beside the texts must keep their value.
func (e *Evidence) Alternatives() []Alternative {
	a := &e.alternatives
	if a.tried && a.alive[anyUUID] && e.Seen&^(ClassNull|ClassToken|ClassText|ClassUUID) == 0 {
		return []Alternative{{Stated: Stated{Type: Type{Kind: UUID}}}}
	}
	for _, way := range []struct {
		way  int
		with Class
		kind Kind
	}{{nanoseconds, ClassTimestamp, TimestampNs}, {zonedNanoseconds, ClassTimestampTz, TimestampTzNs}} {
		if a.tried && a.alive[way.way] && e.Seen&^(ClassNull|ClassToken|ClassText|way.with) == 0 {
			return []Alternative{{Stated: Stated{Type: Type{Kind: way.kind}}}}
		}
	}
	if a.tried && a.alive[jsonText] && e.Seen&^(ClassNull|ClassToken|ClassText) == 0 {
		return []Alternative{{Stated: Stated{Notation: Notation{Format: openedFormat}}}}
	}
	if !a.tried || e.Seen&^(ClassNull|ClassToken|ClassText|Numeric) != 0 || e.Seen&ClassSpecial != 0 {
		return nil
	}
	plain := e.Seen&Numeric != 0
	unit := a.before + "#" + a.after
	var out []Alternative
	add := func(way int, format string) {
		if !a.alive[way] || plain && (way == withUnit || way == withUnitComma || way == withUnitPoint) || plain && e.Fraction > 0 &&
			way == decimalComma {
			return
		}
		r := a.ranges[way]
		if plain {
			r.low, r.high, r.fraction = min(r.low, e.numbers.lowValue), max(r.high, e.numbers.hiValue), r.fraction || e.Fraction > 0
		}
		out = append(out, Alternative{Stated{Type{Kind: kindOfNumbers(r)}, Notation{Format: format}}, r.low, r.high})
	}
	if a.alive[wholeNumber] || a.alive[anyNumber] {
		add(wholeNumber, "")
		if len(out) == 0 {
			add(anyNumber, "")
		}
		return out
	}
	add(withUnit, unit)
	if len(out) > 0 {
		return out
	}
	add(withUnitPoint, strings.Replace(unit, "#", "#,###.#", 1))
	add(withUnitComma, strings.Replace(unit, "#", "#.###,#", 1))
	add(decimalPoint, "#,###.#")
	add(decimalComma, "#.###,#")
	return out
}

func kindOfNumbers(r numbers) Kind {
	if r.fraction {
		return Double
	}
	return Long
}

// aroundNumber splits a text into a number and what stands before or after it: a unit, a currency, a percent sign. number is
// empty where it is none.
func aroundNumber(text string) (number, before, after string) {
	text = strings.TrimSpace(text)
	first := strings.IndexFunc(text, func(r rune) bool { return unicode.IsDigit(r) || r == '-' })
	last := strings.LastIndexFunc(text, unicode.IsDigit)
	if first < 0 || last < first {
		return "", "", ""
	}
	before, number, after = text[:first], text[first:last+1], text[last+1:]
	if before+after == "" || len(before) > 8 || len(after) > 8 || before != "" && after != "" {
		return "", "", ""
	}
	if strings.ContainsFunc(before+after, func(r rune) bool { return strings.ContainsRune("-/:#.(),'\"", r) }) {
		return "", "", ""
	}
	if before != "" && unicode.IsLetter(rune(before[len(before)-1])) {
		return "", "", "" // a code, like B07
	}
	return number, before, after
}

// days are the first and the last of several days, counted from 1970-01-01.
type days struct {
	first, last int32
	some        bool
}

func (d *days) add(day int32) { d.merge(days{day, day, true}) }

func (d *days) merge(o days) {
	switch {
	case !o.some:
	case !d.some:
		*d = o
	default:
		d.first, d.last = min(d.first, o.first), max(d.last, o.last)
	}
}

// addOrders notes a date that may have the day or the month first.
func (e *Evidence) addOrders(text []byte) {
	a, at := smallNumber(text, 0)
	b, next := smallNumber(text, at+1)
	year, _ := smallNumber(text, next+1)
	for i, order := range [2][2]int{{b, a}, {a, b}} {
		iso := isoDate(year, order[0], order[1])
		if day, ok := lexical.Date(iso[:]); ok {
			e.orders[i].add(day)
		}
	}
}

// DateOrder is a way to read dates of which it does not show whether day or month stands first.
type DateOrder struct {
	Stated Stated
	// First and Last are the days from and to which the dates go, counted from 1970-01-01.
	First, Last int32
}

// DateOrders lists the two ways to read a column of such dates; it is empty where they are written in more than one style.
func (e *Evidence) DateOrders() []DateOrder {
	var out []DateOrder
	for i, class := range [2]Class{ClassDayFirst, ClassMonthFirst} {
		pattern, clock, ok := e.Style.pattern(class)
		if !ok || !e.orders[i].some {
			return nil
		}
		kind := Date
		if clock {
			kind = Timestamp
		}
		out = append(out, DateOrder{Stated{Type{Kind: kind}, Notation{Format: pattern}}, e.orders[i].first, e.orders[i].last})
	}
	return out
}
