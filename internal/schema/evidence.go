package schema

import (
	"bytes"
	"unicode/utf8"

	"trevak/internal/lexical"
)

// Place is where a value stands: the object's number among the source's, the 1-based line its record begins on, and the byte
// offset of that record in the unpacked object.
type Place struct {
	Object int
	Line   int64
	Offset int64
}

// Before reports whether p comes earlier in the source than q.
func (p Place) Before(q Place) bool {
	if p.Object != q.Object {
		return p.Object < q.Object
	}
	return p.Offset < q.Offset
}

// Evidence is what was seen in one column. The zero value is ready. Adding and merging give the same result in any order, so
// that workers can each keep their own.
type Evidence struct {
	// Seen is the set of classes that occurred.
	Seen Class
	// Counts holds the number of values of each class.
	Counts [Classes]int64
	// First is the first place of each class that occurred, and Example the value there.
	First   [Classes]Place
	Example [Classes]string
	// Longest is the length of the longest text, in characters.
	Longest int
	// Distinct counts the different texts, nulls not included.
	Distinct Sketch

	smallestNumber, largestNumber number
	smallestText, largestText     []byte
}

// number is the measure of a number or an instant together with the text it came from.
type number struct {
	value float64
	text  []byte
}

// longestKept is how many bytes of a smallest or largest text are kept.
const longestKept = 256

// Null counts an absent or null value.
func (e *Evidence) Null(p Place) { e.count(ClassNull, p, nil) }

// Nulls returns how many values were null.
func (e *Evidence) Nulls() int64 { return e.Counts[ClassNull.Index()] }

// Values returns how many values were not null.
func (e *Evidence) Values() int64 {
	var n int64
	for _, c := range e.Counts[1:] {
		n += c
	}
	return n
}

// Add takes one value that is not null.
func (e *Evidence) Add(text []byte, class Class, p Place) {
	e.count(class, p, text)
	e.Distinct.Add(text)
	if len(text) > e.Longest {
		e.Longest = max(e.Longest, utf8.RuneCount(text))
	}
	if value, ok := measure(text, class); ok {
		e.addNumber(number{value, text})
	}
	e.addText(text)
}

// count notes an occurrence of a class.
func (e *Evidence) count(class Class, p Place, text []byte) {
	i := class.Index()
	e.Counts[i]++
	if e.Seen&class == 0 || p.Before(e.First[i]) {
		e.Seen |= class
		e.First[i] = p
		e.Example[i] = string(text[:min(len(text), longestKept)])
	}
}

// measure returns the value that numbers and instants are ordered by.
func measure(text []byte, class Class) (float64, bool) {
	switch class {
	case ClassLong, ClassWide:
		v, ok := lexical.Long(text)
		return float64(v), ok
	case ClassDouble:
		return lexical.Double(text)
	case ClassTimestampTz:
		v, _, ok := lexical.Timestamp(text)
		return float64(v), ok
	}
	return 0, false
}

func (e *Evidence) addNumber(n number) {
	if n.less(e.smallestNumber) || e.smallestNumber.text == nil {
		e.smallestNumber = number{n.value, bytes.Clone(n.text)}
	}
	if e.largestNumber.less(n) || e.largestNumber.text == nil {
		e.largestNumber = number{n.value, bytes.Clone(n.text)}
	}
}

// less orders by value, and by text where values are the same, so that 1.0 and 1.00 come out alike in any order of adding.
func (n number) less(m number) bool {
	return n.value < m.value || (n.value == m.value && bytes.Compare(n.text, m.text) < 0)
}

func (e *Evidence) addText(text []byte) {
	text = text[:min(len(text), longestKept)]
	if e.smallestText == nil || bytes.Compare(text, e.smallestText) < 0 {
		e.smallestText = bytes.Clone(text)
	}
	if e.largestText == nil || bytes.Compare(text, e.largestText) > 0 {
		e.largestText = bytes.Clone(text)
	}
}

// Merge adds what another worker saw.
func (e *Evidence) Merge(o *Evidence) {
	for i := range Classes {
		c := Class(1 << i)
		if o.Seen&c == 0 {
			continue
		}
		e.Counts[i] += o.Counts[i]
		if e.Seen&c == 0 || o.First[i].Before(e.First[i]) {
			e.Seen |= c
			e.First[i], e.Example[i] = o.First[i], o.Example[i]
		}
	}
	e.Longest = max(e.Longest, o.Longest)
	e.Distinct.Merge(&o.Distinct)
	if o.smallestNumber.text != nil {
		e.addNumber(o.smallestNumber)
		e.addNumber(o.largestNumber)
	}
	if o.smallestText != nil {
		e.addText(o.smallestText)
		e.addText(o.largestText)
	}
}

// Range returns the smallest and the largest value as they stand in the source: by value for numbers and for
// instants, by byte order for all else (which for ISO dates and times is their order too).
func (e *Evidence) Range(kind Kind) (smallest, largest string) {
	switch kind {
	case Int, Long, Float, Double, TimestampTz:
		return string(e.smallestNumber.text), string(e.largestNumber.text)
	}
	return string(e.smallestText), string(e.largestText)
}
