package runsheet

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/wording"
)

// Expand puts the values of parameters into a text: $(day), $(day - 1), $(day + 2 months as %Y/%m). $$( stands for $( itself.
func (v Values) Expand(text string) (string, error) {
	var out strings.Builder
	for {
		at := strings.Index(text, "$(")
		if at < 0 {
			out.WriteString(text)
			return out.String(), nil
		}
		if at > 0 && text[at-1] == '$' {
			out.WriteString(text[:at-1] + "$(")
			text = text[at+2:]
			continue
		}
		end := strings.IndexByte(text[at:], ')')
		if end < 0 {
			return "", fault.New(fault.Usage, "%s begins with $( and has no end", fault.Quote(text[at:])).
				Try("close it with ), or write $$( for the characters themselves")
		}
		made, err := v.eval(text[at+2 : at+end])
		if err != nil {
			return "", err
		}
		out.WriteString(text[:at] + made.Text)
		text = text[at+end+1:]
	}
}

var (
	termForm = regexp.MustCompile(`^\s*(?:([a-z][a-z0-9_]*)|(-?[0-9]+)|'([^']*)')`)
	stepForm = regexp.MustCompile(`^\s*([+-])\s*(?:([0-9]+)|([a-z][a-z0-9_]*))(?:\s+(minutes?|hours?|days?|weeks?|months?|years?)\b)?`)
	asForm   = regexp.MustCompile(`^\s+as\s+(.+?)\s*$`)
)

// eval works an expression out.
func (v Values) eval(text string) (Value, error) {
	whole := text
	bad := func(reason string, args ...any) (Value, error) {
		return Value{}, fault.New(fault.Usage, "%s: %s", fault.Quote("$("+whole+")"), fmt.Sprintf(reason, args...)).
			Try("write it like $(day), $(day - 1), $(day - 1 as %%Y/%%m) or $(count + 1)")
	}
	m := termForm.FindStringSubmatch(text)
	if m == nil {
		return bad("it does not begin with a parameter")
	}
	text = text[len(m[0]):]
	var value Value
	switch {
	case m[1] != "":
		known, ok := v[m[1]]
		if !ok {
			return v.unknown(m[1])
		}
		value = known
	case m[2] != "":
		value = Value{Type: Whole, Text: m[2]}
	default:
		value = Value{Type: Text, Text: m[3]}
	}
	for {
		step := stepForm.FindStringSubmatch(text)
		if step == nil {
			break
		}
		text = text[len(step[0]):]
		amount, err := strconv.ParseInt(step[2], 10, 32)
		if step[3] != "" {
			of, ok := v[step[3]]
			if !ok {
				return v.unknown(step[3])
			}
			if amount, err = strconv.ParseInt(of.Text, 10, 32); of.Type != Whole {
				return bad("%s is a %s, which cannot be added", step[3], of.Type)
			}
		}
		if err != nil {
			return bad("the number %s is too large", step[2])
		}
		if step[1] == "-" {
			amount = -amount
		}
		if value, err = value.moved(amount, step[4]); err != nil {
			return bad("%s", err)
		}
	}
	if m := asForm.FindStringSubmatch(text); m != nil {
		if value.Type != Date && value.Type != Timestamp {
			return bad("it is a %s, and only dates and times are written in a form", value.Type)
		}
		made, err := written(value.time, m[1])
		if err != nil {
			return bad("%s", err)
		}
		return Value{Type: Text, Text: made}, nil
	}
	if strings.TrimSpace(text) != "" {
		return bad("%s is not understood", fault.Quote(strings.TrimSpace(text)))
	}
	return value, nil
}

func (v Values) unknown(name string) (Value, error) {
	e := fault.New(fault.Usage, "there is no parameter %s", name)
	if near := wording.Nearest(name, slices.Sorted(maps.Keys(v))); len(near) > 0 {
		return Value{}, e.Try("%s", wording.Meant(near))
	}
	return Value{}, e.Try("name it under parameters, or write $$( for the characters $( themselves")
}

// moved adds so many of a unit: to dates days where none is named, to whole numbers without a unit.
func (v Value) moved(n int64, unit string) (Value, error) {
	unit = strings.TrimSuffix(unit, "s")
	switch {
	case v.Type == Whole && unit == "":
		was, err := strconv.ParseInt(v.Text, 10, 64)
		if err != nil {
			return v, err
		}
		v.Text = strconv.FormatInt(was+n, 10)
		return v, nil
	case v.Type != Date && v.Type != Timestamp:
		return v, fmt.Errorf("it is a %s, to which nothing can be added", v.Type)
	case v.Type == Timestamp && unit == "":
		return v, fmt.Errorf("what is added to a timestamp has a unit, like 2 hours")
	case v.Type == Date && (unit == "hour" || unit == "minute"):
		return v, fmt.Errorf("a date has no %ss", unit)
	}
	switch unit {
	case "minute":
		v.time = v.time.Add(time.Duration(n) * time.Minute)
	case "hour":
		v.time = v.time.Add(time.Duration(n) * time.Hour)
	case "", "day":
		v.time = v.time.AddDate(0, 0, int(n))
	case "week":
		v.time = v.time.AddDate(0, 0, int(7*n))
	case "month":
		v.time = months(v.time, int(n))
	case "year":
		v.time = months(v.time, int(12*n))
	}
	if y := v.time.Year(); y < 1 || y > 9999 {
		return v, fmt.Errorf("the year %d is none that dates are written with", y)
	}
	if v.Text = v.time.Format(dateForm); v.Type == Timestamp {
		v.Text = v.time.Format(timeForm)
	}
	return v, nil
}

// months goes so many months on, to the last day of one that is too short.
func months(at time.Time, n int) time.Time {
	day := at.Day()
	first := at.AddDate(0, n, 1-day)
	last := first.AddDate(0, 1, -1).Day()
	return first.AddDate(0, 0, min(day, last)-1)
}

// forms are the directives of strftime that are written, and what they are.
var forms = map[byte]func(t time.Time) string{
	'Y': func(t time.Time) string { return t.Format("2006") }, 'y': func(t time.Time) string { return t.Format("06") },
	'm': func(t time.Time) string { return t.Format("01") }, 'd': func(t time.Time) string { return t.Format("02") },
	'j': func(t time.Time) string { return fmt.Sprintf("%03d", t.YearDay()) }, 'H': func(t time.Time) string { return t.Format("15") },
	'M': func(t time.Time) string { return t.Format("04") }, 'S': func(t time.Time) string { return t.Format("05") },
	'F': func(t time.Time) string { return t.Format(dateForm) }, 'T': func(t time.Time) string { return t.Format("15:04:05") },
	'b': func(t time.Time) string { return t.Format("Jan") }, 'B': func(t time.Time) string { return t.Format("January") },
	'a': func(t time.Time) string { return t.Format("Mon") }, 'A': func(t time.Time) string { return t.Format("Monday") },
	'V': func(t time.Time) string { _, w := t.ISOWeek(); return fmt.Sprintf("%02d", w) },
	'G': func(t time.Time) string { y, _ := t.ISOWeek(); return strconv.Itoa(y) },
	's': func(t time.Time) string { return strconv.FormatInt(t.Unix(), 10) }, '%': func(time.Time) string { return "%" },
}

// written writes a time in a form of strftime (ISO C and POSIX).
func written(at time.Time, form string) (string, error) {
	var out strings.Builder
	for i := 0; i < len(form); i++ {
		if form[i] != '%' {
			out.WriteByte(form[i])
			continue
		}
		i++
		if i == len(form) {
			return "", fmt.Errorf("the form %s ends within a directive", form)
		}
		of, ok := forms[form[i]]
		if !ok {
			return "", fmt.Errorf("the form %s has %%%c, which is not known", form, form[i])
		}
		out.WriteString(of(at))
	}
	return out.String(), nil
}
