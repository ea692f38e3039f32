package flow

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// english writes numbers with commas between thousands.
var english = message.NewPrinter(language.English)

// textNote says of a column of texts what its first ones look like.
func textNote(path string, n *schema.Node) string {
	instances := n.Instances(schema.ClassText)
	if len(instances) == 0 {
		return ""
	}
	looks := ""
	for i, instance := range instances {
		note := lookOf(path, instance.Text)
		if i > 0 && note != looks {
			return minorityNote(n)
		}
		looks = note
	}
	if looks != "" && n.Seen&^(schema.ClassNull|schema.ClassText|schema.ClassToken|schema.Numeric) == 0 {
		return looks
	}
	return minorityNote(n)
}

// lookOf says what one text looks like that is none of the types.
func lookOf(path, text string) string {
	trimmed := strings.TrimSpace(text)
	digits := func(s string) bool {
		return s != "" && !strings.ContainsFunc(s, func(r rune) bool { return r < '0' || r > '9' })
	}
	switch {
	case text == "":
		return ""
	case len(text) > 1 && (text[0] == '0' && digits(text) || text[0] == '+' && digits(text[1:])):
		return "digits with leading zeros or a plus sign, which a number would lose"
	}
	if mark := markOf(trimmed); mark != "" {
		return fmt.Sprintf("numbers with the decimal mark %s or with thousands set apart: read them with --decimal-mark '%s'", mark, mark)
	}
	if before, number, after := aroundNumber(trimmed); number != "" {
		if _, ok := lexical.Double([]byte(number)); ok {
			return fmt.Sprintf("numbers with text around them: --type '%s=double(%s#%s)' takes the numbers alone", path, before, after)
		}
		if mark := markOf(number); mark != "" {
			return fmt.Sprintf("numbers with text around them: --decimal-mark '%s' --type '%s=double(%s#%s)' takes the numbers alone", mark, path, before, after)
		}
	}
	return ""
}

// markOf returns the decimal mark with which a text is a number, empty where it is none.
func markOf(text string) string {
	if text == "" || !strings.ContainsAny(text[:1], "0123456789-") {
		return ""
	}
	for _, mark := range []byte{',', '.'} {
		var scratch []byte
		plain, ok := lexical.Plain([]byte(text), mark, &scratch)
		if !ok || bytes.Equal(plain, []byte(text)) {
			continue
		}
		if _, ok := lexical.StatedDouble(plain); ok {
			return string(mark)
		}
	}
	return ""
}

// aroundNumber splits a text into a number and what stands before or after it: a unit, a currency, a percent sign.
func aroundNumber(text string) (before, number, after string) {
	first := strings.IndexFunc(text, func(r rune) bool { return unicode.IsDigit(r) || r == '-' })
	last := strings.LastIndexFunc(text, unicode.IsDigit)
	if first < 0 || last < first {
		return "", "", ""
	}
	before, number, after = text[:first], text[first:last+1], text[last+1:]
	if before+after == "" || len(before) > 8 || len(after) > 8 || before != "" && after != "" {
		return "", "", ""
	}
	if strings.ContainsFunc(before+after, func(r rune) bool {
		return r == '-' || r == '/' || r == ':' || r == '#' || r == '.' || r == '(' || r == ')'
	}) {
		return "", "", ""
	}
	if before != "" && unicode.IsLetter(rune(before[len(before)-1])) {
		return "", "", "" // a code, like B07
	}
	return before, number, after
}

// minorityNote tells of few values that keep a column from being what most of it is.
func minorityNote(n *schema.Node) string {
	values := n.Evidence.Values()
	var most, others schema.Class
	for i := 1; i < schema.Classes; i++ {
		if c := schema.Class(1 << i); n.Seen&c != 0 {
			if most == 0 || n.Counts[i] > n.Counts[most.Index()] {
				others |= most
				most = c
			} else {
				others |= c
			}
		}
	}
	group := most
	for _, g := range []schema.Class{schema.Numeric, schema.ClassDate | schema.ClassTimestamp, schema.ClassDayFirst | schema.ClassDayOrMonth} {
		if most&g != 0 {
			group, others = g, others&^g
		}
	}
	var count int64
	for i := 1; i < schema.Classes; i++ {
		if others&(1<<i) != 0 {
			count += n.Counts[i]
		}
	}
	if most == schema.ClassText || count == 0 || 2*count >= values {
		return ""
	}
	return english.Sprintf("%d of %d are not %s", count, values, groupNames[group])
}

// groupNames are the words for what most values of a column are.
var groupNames = map[schema.Class]string{schema.Numeric: "numbers", schema.ClassDate | schema.ClassTimestamp: "dates", schema.ClassDayFirst | schema.ClassDayOrMonth: "dates",
	schema.ClassBoolean: "booleans", schema.ClassTime: "times", schema.ClassTimestampTz: "timestamps with a zone", schema.ClassUUID: "uuids",
	schema.ClassMonthFirst: "month-first dates", schema.ClassYearFirst: "dates", schema.ClassYesNo: "yes or no", schema.ClassLetter: "t or f",
	schema.ClassObject: "objects", schema.ClassArray: "arrays", schema.ClassToken: "null tokens"}

// Against lists the first values that stand against the majority of a column, with their places.
func (i *Inference) Against(n *schema.Node) []schema.Instance {
	if minorityNote(n) == "" {
		return nil
	}
	var out []schema.Instance
	most := 0
	for c := 1; c < schema.Classes; c++ {
		if n.Counts[c] > n.Counts[most] || most == 0 {
			most = c
		}
	}
	for c := 1; c < schema.Classes; c++ {
		if class := schema.Class(1 << c); c != most && !(class&schema.Numeric != 0 && schema.Class(1<<most)&schema.Numeric != 0) {
			out = append(out, n.Instances(class)...)
		}
	}
	return out
}
