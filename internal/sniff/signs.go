package sniff

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// sign is what the first text of a column is beside those below it: a positive weight for a name, a negative one for a value.
type sign struct {
	weight float64
	what   string
}

// read compares a text with those below it in its column.
func read(first string, below []string) sign {
	if len(below) == 0 {
		if looksLikeName(first) {
			return sign{slight, "the only record holds words that could be names"}
		}
		return sign{-slight, "what it holds could be no names"}
	}
	c := newTexts(below)
	var total float64
	var best sign
	for _, s := range []sign{c.occurs(first), c.shape(first), c.length(first), c.prefix(first), c.known(first), c.letters(first),
		c.order(first), c.repeats(first)} {
		total += s.weight
		if s.weight*s.weight > best.weight*best.weight {
			best = s
		}
	}
	if best.what == "" {
		return sign{}
	}
	if (best.weight > 0) != (total > 0) {
		best.what = "the first record reads like those below it"
		if total > 0 {
			best.what = "the first record reads unlike those below it"
		}
	}
	return sign{max(-mostOfOne, min(mostOfOne, total)), best.what}
}

// mostOfOne is the most that the texts of one column may weigh.
const mostOfOne = 1.5

// texts is what the texts of a column have in common.
type texts struct {
	all      []string
	distinct map[string]int
	// shapes counts the patterns of letters, digits and other characters.
	shapes             map[string]int
	shortest, longest  int
	total              int
	common             string // what all begin with
	falls              int    // how many come before the one above them
	upper, lower, caps int    // texts that begin with a capital letter, with a small one, and that have no small letters
}

func newTexts(all []string) texts {
	c := texts{all: all, distinct: map[string]int{}, shapes: map[string]int{}, shortest: 1 << 30, common: all[0]}
	for i, text := range all {
		c.distinct[text]++
		c.shapes[shapeOf(text)]++
		n := utf8.RuneCountInString(text)
		c.shortest, c.longest, c.total = min(c.shortest, n), max(c.longest, n), c.total+n
		c.common = commonPrefix(c.common, text)
		if i > 0 && strings.Compare(strings.ToLower(all[i-1]), strings.ToLower(text)) > 0 {
			c.falls++
		}
		switch first, _ := utf8.DecodeRuneInString(text); {
		case unicode.IsUpper(first):
			c.upper++
		case unicode.IsLower(first):
			c.lower++
		}
		if isCaps(text) {
			c.caps++
		}
	}
	return c
}

func (c *texts) n() int { return len(c.all) }

// few is from how many texts on they tell what texts of the column are like.
const few = 3

// occurs: a name is not among the values.
func (c *texts) occurs(first string) sign {
	if n := c.distinct[first]; n > 0 {
		return sign{-telling, fmt.Sprintf("%q occurs again below", first)}
	}
	return sign{}
}

// shape: values of one pattern, with digits or signs in it, tell whether the first is one of them.
func (c *texts) shape(first string) sign {
	if c.n() < few {
		return sign{}
	}
	shape := shapeOf(first)
	dominant, n := "", 0
	for s, count := range c.shapes {
		if count > n || count == n && s < dominant {
			dominant, n = s, count
		}
	}
	marked := strings.ContainsFunc(dominant, func(r rune) bool { return r != 'a' && r != 'A' && r != ' ' })
	switch {
	case shape == dominant && marked && 10*n >= 6*c.n():
		return sign{-telling, fmt.Sprintf("%q is written like the values below it", first)}
	case shape != dominant && marked && 10*n >= 8*c.n():
		return sign{1.5, fmt.Sprintf("%q is not written like the values below it", first)}
	}
	return sign{}
}

// length: values that are all of one length, or sentences, tell a name by its own.
func (c *texts) length(first string) sign {
	if c.n() < few {
		return sign{}
	}
	n, mean := utf8.RuneCountInString(first), c.total/c.n()
	switch {
	case c.shortest == c.longest && n != c.longest && len(c.distinct) > 1:
		return sign{telling, fmt.Sprintf("%q has not as many characters as all values below it", first)}
	case c.shortest == c.longest && n == c.longest && n > 1:
		return sign{-slight, fmt.Sprintf("%q has as many characters as all values below it", first)}
	case mean >= 25 && 2*n < mean && n < c.shortest+3 && n <= 30:
		return sign{telling, fmt.Sprintf("%q is short, and what stands below is text", first)}
	}
	return sign{}
}

// prefix: values that begin alike tell whether the first is one of them.
func (c *texts) prefix(first string) sign {
	if c.n() < few || len(c.distinct) < 2 || utf8.RuneCountInString(c.common) < 2 {
		return sign{}
	}
	if strings.HasPrefix(first, c.common) {
		return sign{-1.5, fmt.Sprintf("%q begins with %q, like all values below it", first, c.common)}
	}
	return sign{telling, fmt.Sprintf("all values below %q begin with %q", first, c.common)}
}

// knownWords are what columns are often called, in part or whole.
var knownWords = strings.Fields(`id ids name names code codes key date day month year time timestamp type kind class category group
	status state value values count total number num no nr title description desc text note notes
	comment comments content label tag tags url link email phone address street city town country region
	area district continent province zip lat lon lng latitude longitude x y z unit units price amount
	currency sum quantity qty weight height width depth length size age sex gender language lang locale
	user username author owner source target from to start end begin stop score rank rating level index
	column field species model version file filename path abbreviation abbr symbol iso parent child
	population capital species station sensor question answer prompt response`)

// known: a word that columns are often called by, which is not common among the values.
func (c *texts) known(first string) sign {
	if !looksLikeName(first) {
		return sign{-slight, fmt.Sprintf("%q could hardly be a name", first)}
	}
	words := wordsOf(first)
	if len(words) == 0 || len(words) > 4 || !slices.Contains(knownWords, words[len(words)-1]) && !slices.Contains(knownWords, words[0]) {
		return sign{}
	}
	among := 0
	for _, text := range c.all {
		if w := wordsOf(text); len(w) > 0 && (slices.Contains(knownWords, w[len(w)-1]) || slices.Contains(knownWords, w[0])) {
			among++
		}
	}
	if 5*among > c.n() {
		return sign{}
	}
	return sign{telling, fmt.Sprintf("%q is what columns are often called", first)}
}

// letters: capitals, underscores and mixed words where the values have none, or the other way round.
func (c *texts) letters(first string) sign {
	if c.n() < few {
		return sign{}
	}
	has := func(mark string) (n int) {
		for _, text := range c.all {
			if strings.Contains(text, mark) {
				n++
			}
		}
		return n
	}
	r, _ := utf8.DecodeRuneInString(first)
	switch {
	case strings.Contains(first, "_") && 10*has("_") < c.n():
		return sign{telling, fmt.Sprintf("%q has an underscore, and values have none", first)}
	case isCaps(first) && len(first) > 1 && 10*c.caps < c.n():
		return sign{telling, fmt.Sprintf("%q is all capitals, and values are not", first)}
	case 10*c.caps >= 9*c.n() && !isCaps(first):
		return sign{telling, fmt.Sprintf("all values below %q are capitals", first)}
	case 10*c.upper >= 9*c.n() && unicode.IsLower(r):
		return sign{0.5, fmt.Sprintf("all values below %q begin with a capital letter", first)}
	case 10*c.lower >= 9*c.n() && unicode.IsUpper(r):
		return sign{0.5, fmt.Sprintf("all values below %q begin with a small letter", first)}
	}
	return sign{}
}

// order: values in order tell whether the first is one of them.
func (c *texts) order(first string) sign {
	if 20*c.falls > c.n() || len(c.distinct) < 5 {
		return sign{}
	}
	if strings.ToLower(first) <= strings.ToLower(c.all[0]) {
		return sign{-0.5, fmt.Sprintf("%q goes on the order of the values below it", first)}
	}
	return sign{0.5, fmt.Sprintf("values below %q are in order, and it is not", first)}
}

// repeats: values that occur again and again tell a name by its not being one of them.
func (c *texts) repeats(first string) sign {
	if c.n() >= 8 && 3*len(c.distinct) <= c.n() && c.distinct[first] == 0 {
		return sign{0.75, fmt.Sprintf("values below %q repeat, and it is none of them", first)}
	}
	return sign{}
}

// shapeOf writes runs of small letters as a, of capitals as A, of digits as 9, and all else as it is.
func shapeOf(text string) string {
	var b strings.Builder
	var last rune
	for _, r := range text {
		switch {
		case unicode.IsDigit(r):
			r = '9'
		case unicode.IsUpper(r):
			r = 'A'
		case unicode.IsLetter(r):
			r = 'a'
		}
		if r != last || r != '9' && r != 'A' && r != 'a' {
			b.WriteRune(r)
		}
		last = r
	}
	return b.String()
}

func commonPrefix(a, b string) string {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	for n > 0 && n < len(a) && !utf8.RuneStart(a[n]) {
		n--
	}
	return a[:n]
}

// isCaps reports whether a text has capital letters and no small ones.
func isCaps(text string) bool {
	return strings.ContainsFunc(text, unicode.IsUpper) && !strings.ContainsFunc(text, unicode.IsLower)
}

// wordsOf takes a name apart into words in small letters: at signs, and where a capital letter follows a small one.
func wordsOf(name string) (words []string) {
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			words = append(words, word.String())
			word.Reset()
		}
	}
	var last rune
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r):
			end()
		default:
			if unicode.IsUpper(r) && unicode.IsLower(last) {
				end()
			}
			word.WriteRune(unicode.ToLower(r))
		}
		last = r
	}
	end()
	return words
}

// looksLikeName reports whether a text could be a column's name: short, beginning with a letter, one line.
func looksLikeName(text string) bool {
	text = strings.TrimSpace(text)
	for i, r := range text {
		if i == 0 && !unicode.IsLetter(r) && r != '_' && r != '#' || r == '\n' {
			return false
		}
	}
	return text != "" && utf8.RuneCountInString(text) <= 64
}
