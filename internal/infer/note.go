package infer

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/wording"
)

// Note is a remark on a column: what its values look like that they are not taken for, what would settle it, and what would come of that.
func (i *Inference) Note(path string, f *schema.Field, n *schema.Node) string {
	kind := f.Type.Kind
	switch {
	case f.Others > 0:
		return wording.English.Sprintf("%d of other types, which are misfits", f.Others)
	case f.Pinned:
		return tokenNote(f, n)
	case kind != schema.String || n.Evidence.Values() == 0:
		if note := tokenNote(f, n); note != "" {
			return note
		}
		return digitsNote(path, kind, n)
	}
	values := n.Seen &^ (schema.ClassNull | schema.ClassToken)
	switch {
	case values == schema.ClassDayOrMonth:
		return ordersNote(path, n)
	case values&(schema.ClassDayFirst|schema.ClassMonthFirst) == schema.ClassDayFirst|schema.ClassMonthFirst:
		return "some dates have the day first, some the month"
	case n.Months() != "":
		return fmt.Sprintf("months without a day; %s reads them as their first days", typeFlag(path, "date("+n.Months()+")"))
	case values == schema.ClassLetter:
		return fmt.Sprintf("only one of the letters t and f: if it is a boolean, say so with %s", typeFlag(path, "boolean"))
	}
	if note := i.alternativeNote(path, n); note != "" {
		return note
	}
	return minorityNote(n)
}

// typeFlag writes a --type flag as a shell takes it.
func typeFlag(path, stated string) string {
	return "--type '" + strings.ReplaceAll(path+"="+stated, "'", `'\''`) + "'"
}

// ordersNote tells what dates would be with the day first, and with the month first.
func ordersNote(path string, n *schema.Node) string {
	orders := n.DateOrders()
	if len(orders) == 0 {
		return "dates of which no number tells day from month, written in more than one way"
	}
	var parts []string
	for _, o := range orders {
		parts = append(parts, fmt.Sprintf("%s gives %s to %s", typeFlag(path, o.Stated.String()), dayText(o.First), dayText(o.Last)))
	}
	return "dates, but no number above 12 tells day from month: " + strings.Join(parts, ", ")
}

func dayText(day int32) string {
	return time.Unix(int64(day)*86_400, 0).UTC().Format(time.DateOnly)
}

// alternativeNote tells by which other types all texts of a column could be read, and what each would give.
func (i *Inference) alternativeNote(path string, n *schema.Node) string {
	found := n.Alternatives()
	if len(found) == 0 {
		return ""
	}
	first := found[0]
	outcome := func(a schema.Alternative) string {
		return fmt.Sprintf("%s to %s", numberText(a.Low), numberText(a.High))
	}
	flag := typeFlag(path, first.Stated.String())
	switch format := first.Stated.Notation.Format; {
	case first.Stated.Type.Kind == schema.TimestampNs || first.Stated.Type.Kind == schema.TimestampTzNs:
		return fmt.Sprintf("fractions of a second below microseconds: %s keeps them, in tables of version 3 of the format", flag)
	case first.Stated.Opens():
		return fmt.Sprintf("texts that are JSON: %s makes columns of what is in them", flag)
	case first.Stated.Type.Kind == schema.UUID:
		return fmt.Sprintf("uuids, not in the usual form: %s reads them, and gives them in small letters with hyphens", flag)
	case format == "" && i.quoted(n):
		return fmt.Sprintf("numbers in quotes: %s gives %s", flag, outcome(first))
	case format == "":
		return fmt.Sprintf("digits with leading zeros or a plus sign, kept as text, since a number would lose them: %s gives %s", flag,
			outcome(first))
	case strings.Trim(format, "#,.") != "" && len(found) == 1:
		return fmt.Sprintf("numbers with text around them: %s gives the numbers alone, %s", flag, outcome(first))
	case len(found) > 1 && outcome(found[1]) != outcome(first):
		return fmt.Sprintf("numbers with thousands set apart: %s gives %s; with a decimal comma, %s gives %s", flag, outcome(first),
			typeFlag(path, found[1].Stated.String()), outcome(found[1]))
	case strings.HasPrefix(format, "#.") && i.commaIsSafe():
		return fmt.Sprintf("numbers with the decimal mark ,: --decimal-mark ',' gives %s", outcome(first))
	case strings.HasPrefix(format, "#."):
		return fmt.Sprintf("numbers with the decimal mark ,: %s gives %s", flag, outcome(first))
	}
	return fmt.Sprintf("numbers with thousands set apart: %s gives %s", flag, outcome(first))
}

// numberText writes a number without an exponent.
func numberText(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// quoted reports whether texts are JSON strings, which say nothing of leading zeros.
func (i *Inference) quoted(n *schema.Node) bool {
	if i.Source.Format() == sniff.Delimited {
		return false
	}
	for _, instance := range n.Instances(schema.ClassText) {
		if text := instance.Text; len(text) > 1 && (text[0] == '0' && text[1] != '.' || text[0] == '+') {
			return false
		}
	}
	return true
}

// commaIsSafe reports whether a decimal comma for the whole source changes no number that is read already.
func (i *Inference) commaIsSafe() bool {
	safe := i.Source.Format() == sniff.Delimited
	i.Walk(func(_ string, f *schema.Field, n *schema.Node, _ int) {
		safe = safe && (n.Seen&schema.Numeric == 0 || n.Fraction == 0 && n.Seen&schema.ClassExponent == 0)
	})
	return safe
}

// identifierDigits is from how many digits on numbers that all have as many look like identifiers: of cards, accounts or telephones.
const identifierDigits = 12

// epochs are the ways to count time from 1970 on, by the format that reads them and how many there are in a second.
var epochs = []struct {
	format, unit string
	perSecond    int64
}{{"epoch", "seconds", 1}, {"epoch_ms", "milliseconds", 1_000}, {"epoch_us", "microseconds", 1_000_000}}

// Counts from the one of these instants to the other, in seconds from 1970 on, look like time: from September 2001, when they
// get a tenth digit, to 2050.
const (
	earliestEpoch = 1_000_000_000
	latestEpoch   = 2_524_608_000
)

// digitsNote tells of whole numbers that look like counts of time, or like identifiers.
func digitsNote(path string, kind schema.Kind, n *schema.Node) string {
	smallest, largest := n.Range(kind, nil)
	if kind != schema.Long && kind != schema.Decimal || n.Evidence.Values() < 2 || strings.ContainsAny(smallest, "-.") {
		return ""
	}
	low, err := strconv.ParseInt(smallest, 10, 64)
	high, err2 := strconv.ParseInt(largest, 10, 64)
	for _, e := range epochs {
		if err == nil && err2 == nil && low < high && low >= earliestEpoch*e.perSecond && high < latestEpoch*e.perSecond {
			return fmt.Sprintf("if they are %s since 1970, %s gives %s to %s", e.unit, typeFlag(path, "timestamptz("+e.format+")"),
				instantText(low, e.perSecond), instantText(high, e.perSecond))
		}
	}
	if len(smallest) != len(largest) || len(smallest) < identifierDigits {
		return ""
	}
	return fmt.Sprintf("%d digits each: if they are identifiers, %s keeps them as text", len(smallest), typeFlag(path, "string"))
}

func instantText(count, perSecond int64) string {
	return time.UnixMicro(count * (1_000_000 / perSecond)).UTC().Format(time.RFC3339)
}

// tokenNote tells which words were taken for nulls.
func tokenNote(f *schema.Field, n *schema.Node) string {
	var parts []string
	for _, token := range f.Notation.Nulls {
		if count := n.Tokens[token]; count > 0 {
			parts = append(parts, wording.English.Sprintf("%q (%d)", token, count))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "taken for null: " + strings.Join(parts, ", ")
}
