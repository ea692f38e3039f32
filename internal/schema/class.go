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
	// ClassExponent is a number with an exponent, ClassDecimal one with more digits than a long or a double keeps, ClassSpecial an infinity or
	// not a number.
	ClassExponent
	ClassDecimal
	ClassSpecial
	ClassDate
	ClassTime
	ClassTimestamp
	ClassTimestampTz
	// ClassDayFirst and ClassMonthFirst are dates whose order shows, because one of the numbers is no month; ClassDayOrMonth is a date that
	// could be either. With or without a time of day. ClassYearFirst has slashes or points instead of hyphens.
	ClassDayFirst
	ClassMonthFirst
	ClassDayOrMonth
	ClassYearFirst
	ClassUUID
	ClassText
	ClassObject
	ClassArray

	// Classes is how many there are.
	Classes = iota
)

var classNames = [Classes]string{"null", "null token", "boolean", "yes or no", "t or f", "long", "long beyond 2^53", "double", "number with exponent",
	"number of many digits", "infinity or NaN", "date", "time", "timestamp", "timestamptz", "day-first date", "month-first date", "day-or-month-first date",
	"year-first date", "uuid", "text", "object", "array"}

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
	case only(ClassYearFirst):
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
	switch c := b[0]; {
	case c >= '0' && c <= '9':
		return classifyDigits(b)
	case c == '-' || c == '.':
		if class := classifyNumber(b); class != ClassText {
			return class
		}
	}
	return classifyWord(b)
}

// classifyDigits tells what a text that begins with a digit is.
func classifyDigits(b []byte) Class {
	if len(b) >= 5 {
		if b[2] == ':' || b[4] == '-' || len(b) >= 15 && b[8] == 'T' {
			if class := ClassifyTemporal(b); class != ClassText {
				return class
			}
		}
	}
	if class := classifyNumber(b); class != ClassText {
		return class
	}
	if class, _ := dayMonth(b); class != 0 {
		return class
	}
	return classifyUUID(b)
}

// ClassifyTemporal tells whether a text is a date, a time, a timestamp, a uuid or a null token, which is what texts in JSON are looked at for; everything
// else is text.
func ClassifyTemporal(b []byte) Class {
	if len(b) == 0 {
		return ClassToken
	}
	if b[0]-'0' > 9 {
		return classifyToken(b)
	}
	if len(b) < 5 {
		return ClassText
	}
	if b[2] == ':' {
		if _, ok := lexical.Time(b); ok {
			return ClassTime
		}
		return ClassText
	}
	if b[4] == '-' {
		if _, ok := lexical.Date(b); ok {
			return ClassDate
		}
	}
	if b[4] == '-' || len(b) >= 15 && b[8] == 'T' {
		if _, zoned, ok := lexical.Timestamp(b); ok {
			if zoned {
				return ClassTimestampTz
			}
			return ClassTimestamp
		}
	}
	if class, _ := dayMonth(b); class != 0 {
		return class
	}
	return classifyUUID(b)
}

func classifyUUID(b []byte) Class {
	if len(b) == 36 {
		if _, ok := lexical.UUID(b); ok {
			return ClassUUID
		}
	}
	return ClassText
}

// classifyWord tells what a text that begins with neither a digit nor a sign is.
func classifyWord(b []byte) Class {
	if len(b) == 1 && (b[0]|0x20 == 't' || b[0]|0x20 == 'f') {
		return ClassLetter
	}
	if len(b) <= 9 {
		if _, ok := lexical.Boolean(b); ok {
			return ClassBoolean
		}
		if _, ok := lexical.YesNo.Read(b); ok {
			return ClassYesNo
		}
		if _, ok := lexical.Special(b); ok {
			return ClassSpecial
		}
	}
	return classifyToken(b)
}

// classifyToken tells words that often stand for no value, and uuids that begin with a letter, from other texts.
func classifyToken(b []byte) Class {
	if len(b) <= longestToken {
		switch string(b) {
		case "NULL", "Null", "null", "NA", "N/A", "n/a", "#N/A", "<NA>", "None", "none", "NONE", "nil", "-", "--", "---", "?", ".", `\N`, "(null)", "<null>":
			return ClassToken
		}
	}
	return classifyUUID(b)
}

// longestToken is the length of the longest null token that is known.
const longestToken = 6

// classifyNumber tells what a text that begins like a number is.
func classifyNumber(b []byte) Class {
	if v, ok := lexical.Long(b); ok {
		if lexical.ExactInDouble(v) {
			return ClassLong
		}
		return ClassWide
	}
	if _, ok := lexical.Double(b); ok {
		for _, c := range b {
			if c|0x20 == 'e' {
				return ClassExponent
			}
		}
		return ClassDouble
	}
	if last := b[len(b)-1]; last-'0' > 9 || len(b) <= 17 {
		return classifySpecial(b)
	}
	s, ok := lexical.NumberShape(b)
	if ok && s.Lossless && !s.Exponent && s.Whole+s.Fraction <= lexical.MaxPrecision {
		return ClassDecimal
	}
	return ClassText
}

func classifySpecial(b []byte) Class {
	if len(b) >= 4 && b[0] == '-' {
		if _, ok := lexical.Special(b); ok {
			return ClassSpecial
		}
	}
	return ClassText
}

// IsToken reports whether a text is a word that often stands for no value, or empty.
func IsToken(b []byte) bool { return len(b) == 0 || classifyToken(b) == ClassToken }

// ClassifyNumber tells the class of a JSON number: the grammar already allows no leading zeros.
func ClassifyNumber(b []byte) Class { return classifyNumber(b) }

// classifyMarked is Classify for numbers that are written with a stated decimal mark. plain is the number in the usual notation.
func classifyMarked(b []byte, mark byte, scratch *[]byte) (class Class, plain []byte) {
	if first := b[0]; first-'0' <= 9 || first == '-' || first == mark {
		if plain, ok := lexical.Plain(b, mark, scratch); ok {
			if class := classifyNumber(plain); class != ClassText {
				return class, plain
			}
		}
	}
	if class := Classify(b); class&Numeric&^ClassSpecial == 0 {
		return class, b
	}
	return ClassText, b
}
