package schema

import (
	"math/bits"

	"trevak/internal/lexical"
)

// Class is what one value looks like, from its text alone. Classes are bits, so that a column's classes are a set.
type Class uint32

// The classes. A column's type follows from the set of those that occurred, together with how its numbers and dates are written
// (Style).
const (
	// ClassNull is no value.
	ClassNull Class = 1 << iota
	// ClassToken is a word that often stands for no value, or an empty text in quotes.
	ClassToken
	ClassBoolean
	// ClassYesNo is yes or no, ClassLetter the letters t and f.
	ClassYesNo
	ClassLetter
	ClassLong
	// ClassWide is a whole number that a double cannot hold exactly.
	ClassWide
	ClassDouble
	// ClassExponent is a number with an exponent, ClassDecimal one with more digits than a long or a double keeps, ClassSpecial
	// an infinity or not a number.
	ClassExponent
	ClassDecimal
	ClassSpecial
	ClassDate
	ClassTime
	ClassTimestamp
	ClassTimestampTz
	// ClassDayFirst and ClassMonthFirst are dates whose order shows, because one of the numbers is no month; ClassDayOrMonth is
	// a date that could be either. With or without a time of day. ClassYearFirst has slashes or points instead of hyphens.
	ClassDayFirst
	ClassMonthFirst
	ClassDayOrMonth
	ClassYearFirst
	// ClassNamed is a date with the name of a month, a year of two digits or a clock of twelve hours.
	ClassNamed
	ClassUUID
	ClassText
	ClassObject
	ClassArray

	// Classes is how many there are.
	Classes = iota
)

var classNames = [Classes]string{"null", "null token", "boolean", "yes or no", "t or f", "long", "long beyond 2^53", "double",
	"number with exponent",
	"number of many digits", "infinity or NaN", "date", "time", "timestamp", "timestamptz", "day-first date", "month-first date",
	"day-or-month-first date",
	"year-first date", "date with a month's name, short year or 12-hour clock", "uuid", "text", "object", "array"}

// Index returns the number of a single class, 0 to Classes-1.
func (c Class) Index() int { return bits.TrailingZeros32(uint32(c)) }

func (c Class) String() string { return classNames[c.Index()] }

// Numeric are the classes of numbers, and Word those that a name could have as well.
const (
	Numeric = ClassLong | ClassWide | ClassDouble | ClassExponent | ClassDecimal | ClassSpecial
	Word    = ClassText | ClassToken | ClassYesNo | ClassLetter | ClassSpecial
)

// Resolve returns the narrowest type that holds every class of the set without loss: long with fractions is double unless a
// whole number is too wide for one, when all digits are kept in a decimal; dates with timestamps are timestamps, and anything that
// does not go together is string. Null tokens count for nothing beside values of another type.
//
// Dates in other orders resolve to Date, whether or not they have a time of day, which their Style knows.
func Resolve(seen Class) Kind {
	seen &^= ClassNull
	values := seen &^ ClassToken
	only := func(allowed Class) bool { return values&^allowed == 0 }
	switch {
	case seen == 0:
		return Unknown
	case values == 0:
		return String
	case only(ClassBoolean), only(ClassYesNo), only(ClassLetter):
		return Boolean
	case only(ClassLong | ClassWide):
		return Long
	case only(ClassLong | ClassDouble | ClassExponent | ClassSpecial):
		return Double
	case only(ClassLong | ClassWide | ClassDouble | ClassDecimal):
		return Decimal
	case only(ClassDate):
		return Date
	case only(ClassTime):
		return Time
	case only(ClassDate | ClassTimestamp):
		return Timestamp
	case only(ClassTimestampTz):
		return TimestampTz
	case only(ClassYearFirst), only(ClassNamed):
		return Date
	case values&(ClassDayFirst|ClassMonthFirst) != 0 && (only(ClassDayFirst|ClassDayOrMonth) || only(ClassMonthFirst|ClassDayOrMonth)):
		return Date
	case only(ClassUUID):
		return UUID
	case seen == ClassObject:
		return Struct
	case seen == ClassArray:
		return List
	}
	return String
}

// Forced returns the class that made a column leave the type the classes before it led to: the one whose removal would give
// a narrower type. Of several it is the one for which first is smallest.
func Forced(seen Class, first func(Class) Place) (Class, bool) {
	whole := Resolve(seen)
	if seen&^(ClassNull|ClassToken) != 0 {
		// Null tokens decide nothing beside other values.
		seen &^= ClassToken
	}
	var forced Class
	for i := 1; i < Classes; i++ {
		c := Class(1 << i)
		if seen&c == 0 || Resolve(seen&^c) == whole {
			continue
		}
		if forced == 0 || first(c).Before(first(forced)) {
			forced = c
		}
	}
	if forced == 0 {
		// No single class decides: the text of the last class to appear for the first time settled it.
		for i := 1; i < Classes; i++ {
			if c := Class(1 << i); seen&c != 0 && (forced == 0 || first(forced).Before(first(c))) {
				forced = c
			}
		}
	}
	return forced, forced != 0
}

// Classify tells the class of a value's text. Empty text is the caller's affair.
func Classify(b []byte) Class {
	var w weighed
	return w.field(b)
}

// weighed is what the text of a value tells besides its class. Only what belongs to the class is set.
type weighed struct {
	// value is what numbers and instants are ordered by, day the days since 1970-01-01 of dates and instants.
	value float64
	day   int64
	// whole and fraction count the digits of a number before and after its point.
	whole, fraction int
	style           Style
	unfit           unfit
}

// field looks at a field of delimited text.
func (w *weighed) field(b []byte) Class {
	switch c := b[0]; {
	case c-'0' <= 9:
		if len(b) >= 5 && (b[2] == ':' || b[4] == '-' || len(b) >= 15 && b[8] == 'T') {
			if class := w.text(b); class != ClassText {
				return class
			}
		}
		if class := w.number(b); class != ClassText {
			return class
		}
		if class := w.dayMonth(b); class != 0 {
			return class
		}
		return w.named(b, classifyUUID)
	case c == '-' || c == '.':
		if class := w.number(b); class != ClassText {
			return class
		}
	}
	return w.word(b)
}

// dayMonth is described at the function of that name.
func (w *weighed) dayMonth(b []byte) Class {
	class, style := dayMonth(b)
	w.style = style
	return class
}

// text looks at a text for a date, a time, a timestamp, a uuid or a null token, which is what strings in JSON are looked at
// for; everything else is text.
func (w *weighed) text(b []byte) Class {
	if len(b) == 0 {
		return ClassToken
	}
	if b[0]-'0' > 9 {
		return w.named(b, classifyToken)
	}
	if len(b) < 5 {
		return ClassText
	}
	if b[2] == ':' {
		if micros, ok := lexical.Time(b); ok {
			w.value = float64(micros)
			return ClassTime
		}
		return w.named(b, classifyUUID)
	}
	if b[4] == '-' {
		if days, ok := lexical.Date(b); ok {
			w.day = int64(days)
			return ClassDate
		}
	}
	if b[4] == '-' || len(b) >= 15 && b[8] == 'T' {
		if micros, zoned, ok := lexical.Timestamp(b); ok {
			w.value, w.day = float64(micros), micros/lexical.MicrosPerDay
			if zoned {
				return ClassTimestampTz
			}
			return ClassTimestamp
		}
	}
	if class := w.dayMonth(b); class != 0 {
		return class
	}
	return w.named(b, classifyUUID)
}

// named looks for dates with names of months and the like, and for what a function tells where there is none.
func (w *weighed) named(b []byte, otherwise func([]byte) Class) Class {
	if unfit, ok := namedDate(b); ok {
		w.unfit = unfit
		return ClassNamed
	}
	return otherwise(b)
}

func classifyUUID(b []byte) Class {
	if len(b) == 36 {
		if _, ok := lexical.UUID(b); ok {
			return ClassUUID
		}
	}
	return ClassText
}

// word looks at a text that begins with no digit.
func (w *weighed) word(b []byte) Class {
	if len(b) == 1 && b[0]|0x20 == 't' {
		w.style = styleTrue
		return ClassLetter
	}
	if len(b) == 1 && b[0]|0x20 == 'f' {
		w.style = styleFalse
		return ClassLetter
	}
	if len(b) <= 9 {
		if _, ok := lexical.Boolean(b); ok {
			return ClassBoolean
		}
		if _, ok := lexical.YesNo.Read(b); ok {
			return ClassYesNo
		}
		if v, ok := lexical.Special(b); ok {
			w.value = v
			return ClassSpecial
		}
	}
	return w.named(b, classifyToken)
}

// classifyToken tells words that often stand for no value, and uuids that begin with a letter, from other texts.
func classifyToken(b []byte) Class {
	if len(b) <= longestToken {
		switch string(b) {
		case "NULL", "Null", "null", "NA", "N/A", "n/a", "#N/A", "<NA>", "None", "none", "NONE", "nil", "-", "--", "---", "?", ".", `\N`,
			"(null)", "<null>":
			return ClassToken
		}
	}
	return classifyUUID(b)
}

// longestToken is the length of the longest null token that is known.
const longestToken = 6

// number looks at a text that begins like a number.
func (w *weighed) number(b []byte) Class {
	if m, ok := lexical.Measure(b); ok {
		w.value, w.whole, w.fraction = m.Value, m.Digits, m.Fraction
		if m.Fraction == 0 {
			return ClassLong
		}
		return ClassDouble
	}
	return w.longNumber(b)
}

// longNumber looks at a number that is not plain, or at none.
func (w *weighed) longNumber(b []byte) Class {
	if v, ok := lexical.Long(b); ok {
		w.value, w.whole, w.fraction = float64(v), len(b), 0
		if v < 0 {
			w.whole--
		}
		if lexical.ExactInDouble(v) {
			return ClassLong
		}
		return ClassWide
	}
	s, ok := lexical.NumberShape(b)
	if !ok {
		if v, ok := lexical.Special(b); ok && (b[0] == '-' || b[0] == 'N' || b[0] == 'I') {
			w.value = v
			return ClassSpecial
		}
		return ClassText
	}
	w.whole, w.fraction = s.Whole, s.Fraction
	if w.value, ok = lexical.Double(b); ok {
		if s.Exponent {
			return ClassExponent
		}
		return ClassDouble
	}
	if s.Lossless && !s.Exponent && s.Whole+s.Fraction <= lexical.MaxPrecision {
		w.value, _ = lexical.StatedDouble(b)
		return ClassDecimal
	}
	return ClassText
}

// marked is field for numbers that are written with a stated decimal mark.
func (w *weighed) marked(b []byte, mark byte, scratch *[]byte) Class {
	if first := b[0]; first-'0' <= 9 || first == '-' || first == mark {
		if plain, ok := lexical.Plain(b, mark, scratch); ok {
			if class := w.number(plain); class != ClassText {
				return class
			}
		}
	}
	if class := w.field(b); class&Numeric&^ClassSpecial == 0 {
		return class
	}
	return ClassText
}

// IsToken reports whether a text is a word that often stands for no value, or empty.
func IsToken(b []byte) bool { return len(b) == 0 || classifyToken(b) == ClassToken }
