package schema

import (
	"fmt"
	"strconv"
	"strings"

	"trevak/internal/lexical"
	"trevak/internal/wording"
)

// Stated is a type that a user states, with the notation of its values.
type Stated struct {
	Type     Type
	Notation Notation
}

// statable are the types that a user can state by a word.
var statable = []Kind{Boolean, Int, Long, Float, Double, Date, Time, Timestamp, TimestampTz, TimestampNs, TimestampTzNs, String, UUID,
	Binary}

// ParseType reads a type as a user states it: the names of the Iceberg specification, decimal(9,2), list<…>, map<string,…> and
// struct<a: …>, and in parentheses how values are written: timestamp(%d.%m.%Y %H:%M), long(# m), double(#.###,#), decimal(9,2,€
// #), timestamptz(epoch_ms), boolean(yes/no), binary(hex).
func ParseType(text string) (Stated, error) {
	text = strings.TrimSpace(text)
	word, rest := text, ""
	if at := strings.IndexAny(text, "(<"); at >= 0 {
		word, rest = text[:at], text[at:]
	}
	word = strings.ToLower(strings.TrimSpace(word))
	switch {
	case strings.HasPrefix(rest, "<") && strings.HasSuffix(rest, ">"):
		t, err := parseNested(word, rest[1:len(rest)-1])
		return Stated{Type: t}, err
	case rest != "" && !strings.HasSuffix(rest, ")"):
		return Stated{}, fmt.Errorf("%q lacks a closing bracket at its end", text)
	case word == "decimal":
		return parseDecimal(text, rest)
	case word == openedFormat && rest == "":
		return Stated{Notation: Notation{Format: openedFormat}}, nil
	}
	for _, k := range statable {
		if k.String() != word {
			continue
		}
		s := Stated{Type: Type{Kind: k}}
		if rest == "" {
			return s, nil
		}
		s.Notation.Format = rest[1 : len(rest)-1]
		return s, s.CheckFormat()
	}
	return Stated{}, unknownType(text)
}

func unknownType(text string) error {
	names := make([]string, len(statable))
	for i, k := range statable {
		names[i] = k.String()
	}
	if near := wording.Nearest(text, append(names, "decimal(9,2)", "json")); len(near) > 0 {
		return fmt.Errorf("%q is not a type a column can be given; %s", text, wording.Meant(near))
	}
	return fmt.Errorf("%q is not a type a column can be given; it takes one of %s, decimal(p,s), list<…>, map<string,…>, struct<…>, "+
		"or json for what is inside its texts", text, strings.Join(names, ", "))
}

func parseDecimal(text, rest string) (Stated, error) {
	parts := strings.SplitN(strings.Trim(rest, "()"), ",", 3)
	bad := fmt.Errorf("%q is no decimal; write its digits in all and those after the point, like decimal(9,2), at most %d", text,
		lexical.MaxPrecision)
	if rest == "" || len(parts) < 2 {
		return Stated{}, bad
	}
	if len(parts) == 3 {
		// Brackets may belong to the format.
		parts[2] = strings.SplitN(rest[1:len(rest)-1], ",", 3)[2]
	}
	s := Stated{Type: Type{Kind: Decimal}}
	var err, err2 error
	s.Type.Precision, err = strconv.Atoi(strings.TrimSpace(parts[0]))
	s.Type.Scale, err2 = strconv.Atoi(strings.TrimSpace(parts[1]))
	if err != nil || err2 != nil || s.Type.Precision < 1 || s.Type.Precision > lexical.MaxPrecision || s.Type.Scale < 0 ||
		s.Type.Scale > s.Type.Precision {
		return Stated{}, bad
	}
	if len(parts) == 3 {
		s.Notation.Format = strings.TrimSpace(parts[2])
		return s, s.CheckFormat()
	}
	return s, nil
}

// parseNested reads what stands between the angle brackets of a list, a map or a struct.
func parseNested(word, inside string) (Type, error) {
	parts := splitTop(inside)
	switch word {
	case "list":
		element, err := nestedField(ElementName, inside)
		return Type{Kind: List, Element: &element}, err
	case "map":
		if len(parts) != 2 || strings.ToLower(strings.TrimSpace(parts[0])) != "string" {
			return Type{}, fmt.Errorf("map<%s> is no map from texts; write it like map<string,double>", inside)
		}
		value, err := nestedField(ValueName, parts[1])
		return Type{Kind: Map, Key: &Field{Name: KeyName, Type: Type{Kind: String}, Required: true}, Element: &value}, err
	case "struct":
		out := Type{Kind: Struct}
		for _, part := range parts {
			name, of, ok := strings.Cut(part, ":")
			if name = strings.TrimSpace(name); !ok || name == "" {
				return Type{}, fmt.Errorf("struct<%s> has a part without name or type; write it like struct<lat: double, lon: double>",
					inside)
			}
			f, err := nestedField(name, of)
			if err != nil {
				return Type{}, err
			}
			out.Fields = append(out.Fields, f)
		}
		return out, nil
	}
	return Type{}, unknownType(word + "<" + inside + ">")
}

func nestedField(name, text string) (Field, error) {
	s, err := ParseType(text)
	return Field{Name: name, Type: s.Type, Notation: s.Notation, Pinned: true}, err
}

// splitTop splits at commas that are not within brackets.
func splitTop(text string) []string {
	var parts []string
	depth, start := 0, 0
	for i, r := range text {
		switch {
		case r == '(' || r == '<':
			depth++
		case r == ')' || r == '>':
			depth--
		case r == ',' && depth == 0:
			parts = append(parts, text[start:i])
			start = i + 1
		}
	}
	return append(parts, text[start:])
}

// CheckFormat checks that the format is one for the type.
func (s Stated) CheckFormat() error {
	format := s.Notation.Format
	if format == "" {
		return nil
	}
	fail := func(wants string) error { return fmt.Errorf("%s(%s): %s", s.Type.Kind, format, wants) }
	switch s.Type.Kind {
	case Date, Time, Timestamp, TimestampTz:
		p, err := lexical.CompilePattern(format)
		switch {
		case err != nil:
			return err
		case s.Type.Kind == Time && (!p.Clock() || p.Day()):
			return fail("a time has hours and no day, like %H:%M:%S")
		case s.Type.Kind == Date && (!p.Day() || p.Clock()):
			return fail("a date has a day, a month and a year and no time of day, like %d.%m.%Y")
		case !p.Day() && s.Type.Kind != Time:
			return fail("a timestamp has a day, a month and a year, like %d.%m.%Y %H:%M")
		case s.Type.Kind == TimestampTz && !p.Zone():
			return fail("it has no zone; add %z, or use timestamp, which has none")
		}
	case Int, Long, Float, Double, Decimal:
		if around, _ := NumberFormat(format); strings.Count(around, "#") != 1 {
			return fail("write the text around the number with one # in its place, like # m or € #; #,###.# and #.###,# say how " +
				"thousands and fractions are set apart")
		}
	case Boolean:
		if _, ok := BooleanWords(format); !ok {
			return fail("write the word for true, a slash and the word for false, like yes/no")
		}
	case Binary:
		if format != "hex" && format != "base64" {
			return fail("it takes hex or base64")
		}
	default:
		return fail("this type has no formats")
	}
	return nil
}

// numberMarks are the ways to write in a format how thousands and the fraction are set apart, in the manner of number patterns
// (Unicode Technical Standard 35, part 3), with the decimal mark that each says.
var numberMarks = []struct {
	pattern string
	mark    byte
}{{"#,###.#", '.'}, {"#.###,#", ','}, {"#,###", '.'}, {"#.###", ','}}

// NumberFormat reads the format of a number: the text around it with # in its place, and the decimal mark where the format says
// one, which is 0 otherwise.
func NumberFormat(format string) (around string, mark byte) {
	for _, m := range numberMarks {
		if before, after, ok := strings.Cut(format, m.pattern); ok {
			return before + "#" + after, m.mark
		}
	}
	return format, 0
}

// BooleanWords reads the format of a boolean.
func BooleanWords(format string) (lexical.Words, bool) {
	yes, no, ok := strings.Cut(format, "/")
	return lexical.Words{True: strings.ToLower(yes), False: strings.ToLower(no)}, ok && yes != "" && no != "" &&
		!strings.EqualFold(yes, no)
}

// String writes the type as ParseType reads it.
func (s Stated) String() string {
	text := s.Type.String()
	switch {
	case s.Opens():
		return openedFormat
	case s.Notation.Format == "":
		return text
	case s.Type.Kind == Decimal:
		return strings.TrimSuffix(text, ")") + "," + s.Notation.Format + ")"
	}
	return text + "(" + s.Notation.Format + ")"
}
