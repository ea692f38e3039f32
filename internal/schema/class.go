package schema

import "trevak/internal/lexical"

// Class is what one value looks like, from its text alone. Classes are bits, so that a column's classes are a set.
type Class uint16

// The classes from most to least particular. Wide stands for whole numbers that a double cannot hold exactly, which matters
// when they meet fractions in one column.
const (
	ClassNull Class = 1 << iota
	ClassBoolean
	ClassLong
	ClassWide
	ClassDouble
	ClassDate
	ClassTime
	ClassTimestamp
	ClassTimestampTz
	ClassText
	ClassObject
	ClassArray

	// Classes is how many there are.
	Classes = iota
)

var classNames = [Classes]string{"null", "boolean", "long", "long beyond 2^53", "double", "date", "time", "timestamp", "timestamptz", "text",
	"object", "array"}

// Index returns the number of a single class, 0 to Classes-1.
func (c Class) Index() int {
	for i := range Classes {
		if c == 1<<i {
			return i
		}
	}
	return 0
}

func (c Class) String() string { return classNames[c.Index()] }

// Resolve returns the narrowest type that holds every class of the set without loss: long with fractions is double unless a
// whole number is too wide for one, dates with timestamps are timestamps, and anything that does not go together is string.
func Resolve(seen Class) Kind {
	seen &^= ClassNull
	only := func(allowed Class) bool { return seen&^allowed == 0 }
	switch {
	case seen == 0:
		return Unknown
	case only(ClassBoolean):
		return Boolean
	case only(ClassLong | ClassWide):
		return Long
	case only(ClassLong | ClassDouble):
		return Double
	case only(ClassDate):
		return Date
	case only(ClassTime):
		return Time
	case only(ClassDate | ClassTimestamp):
		return Timestamp
	case only(ClassTimestampTz):
		return TimestampTz
	case only(ClassObject):
		return Struct
	case only(ClassArray):
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
		return classifyNumber(b)
	case c == 't' || c == 'T' || c == 'f' || c == 'F':
		if _, ok := lexical.Boolean(b); ok {
			return ClassBoolean
		}
	}
	return ClassText
}

// classifyDigits tells what a text that begins with a digit is.
func classifyDigits(b []byte) Class {
	if len(b) >= 5 {
		if b[2] == ':' {
			if _, ok := lexical.Time(b); ok {
				return ClassTime
			}
			return ClassText
		}
		if b[4] == '-' {
			return ClassifyTemporal(b)
		}
	}
	return classifyNumber(b)
}

// ClassifyTemporal tells whether a text is a date, a time or a timestamp; everything else is text.
func ClassifyTemporal(b []byte) Class {
	if len(b) < 5 || b[0]-'0' > 9 {
		return ClassText
	}
	if b[2] == ':' {
		if _, ok := lexical.Time(b); ok {
			return ClassTime
		}
		return ClassText
	}
	if b[4] != '-' {
		return ClassText
	}
	if _, ok := lexical.Date(b); ok {
		return ClassDate
	}
	if _, zoned, ok := lexical.Timestamp(b); ok {
		if zoned {
			return ClassTimestampTz
		}
		return ClassTimestamp
	}
	return ClassText
}

// classifyNumber tells what a text that begins like a number is.
func classifyNumber(b []byte) Class {
	if v, ok := lexical.Long(b); ok {
		if lexical.ExactInDouble(v) {
			return ClassLong
		}
		return ClassWide
	}
	if _, ok := lexical.Double(b); ok {
		return ClassDouble
	}
	return ClassText
}

// ClassifyNumber tells the class of a JSON number: the grammar already allows no leading zeros.
func ClassifyNumber(b []byte) Class { return classifyNumber(b) }
