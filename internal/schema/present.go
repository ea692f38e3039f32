package schema

import (
	"slices"
	"unicode/utf8"
)

// Words that often stand for no value are counted by their text. Which of them are values in the end is settled with the type:
// these methods are told the texts that are nulls.

// present visits the words that are values.
func (e *Evidence) present(nulls []string, visit func(token string, n int64)) {
	for token, n := range e.Tokens {
		if !slices.Contains(nulls, token) {
			visit(token, n)
		}
	}
}

// Present returns how many values there are.
func (e *Evidence) Present(nulls []string) int64 {
	values := e.Values() - e.Counts[ClassToken.Index()]
	e.present(nulls, func(_ string, n int64) { values += n })
	return values
}

// DistinctValues returns how many different values there are, and whether that is exact.
func (e *Evidence) DistinctValues(nulls []string) (n int64, exact bool) {
	n, exact = e.Distinct.Estimate()
	e.present(nulls, func(string, int64) { n++ })
	values := e.Present(nulls)
	if unique, known := e.Unique(); known && unique {
		return values, true
	}
	return min(n, values), exact
}

// LongestValue returns the length of the longest value, in characters.
func (e *Evidence) LongestValue(nulls []string) int {
	longest := e.Longest
	e.present(nulls, func(token string, _ int64) { longest = max(longest, utf8.RuneCountInString(token)) })
	return longest
}

// Range returns the smallest and the largest value as they stand in the source: by value for numbers and for
// timestamps, by byte order for all else (which for ISO dates and times is their order too).
func (e *Evidence) Range(kind Kind, nulls []string) (smallest, largest string) {
	switch kind {
	case Int, Long, Float, Double, Decimal, Timestamp, TimestampTz:
		if e.numbers.low != nil {
			return string(e.numbers.low), string(e.numbers.high)
		}
	}
	smallest, largest = string(e.texts.low), string(e.texts.high)
	found := e.hasExtreme
	e.present(nulls, func(token string, _ int64) {
		if !found || token < smallest {
			smallest = token
		}
		if !found || token > largest {
			largest = token
		}
		found = true
	})
	return smallest, largest
}

// fitsInt reports whether all numbers are whole ones of 32 bits.
func (e *Evidence) fitsInt() bool {
	return e.numbers.low != nil && e.Seen&Numeric == ClassLong && e.numbers.lowValue >= -1<<31 && e.numbers.hiValue < 1<<31
}
