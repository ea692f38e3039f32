package runsheet

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/wording"
)

// Type is what values a parameter takes.
type Type string

// The types of parameters. A date is written 2031-05-03, a timestamp like 2031-05-03T06:00:00Z.
const (
	Text      Type = "text"
	Whole     Type = "whole"
	Number    Type = "number"
	Date      Type = "date"
	Timestamp Type = "timestamp"
	YesNo     Type = "yes_no"
)

var types = []string{string(Text), string(Whole), string(Number), string(Date), string(Timestamp), string(YesNo)}

// Parameter is a value that each run of a sheet may have another of.
type Parameter struct {
	Name string
	Type Type
	// Usual is an expression for its value where none is stated; it has one where HasUsual says so.
	Usual    string
	HasUsual bool
	// From is the variable of the environment that states it, Words are all that it takes, where these are few.
	From    string
	Words   []string
	Meaning string
	Line    int64
}

// Value is that of a parameter.
type Value struct {
	Type Type
	Text string
	time time.Time
}

const (
	dateForm = "2006-01-02"
	timeForm = time.RFC3339
)

var parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// builtIn are names that stand for the moment of the run.
var builtIn = []string{"today", "now"}

// value reads the text of a value.
func (p Parameter) value(text string) (Value, error) {
	v := Value{Type: p.Type, Text: text}
	var err error
	switch p.Type {
	case Whole:
		_, err = strconv.ParseInt(text, 10, 64)
	case Number:
		_, err = strconv.ParseFloat(text, 64)
	case YesNo:
		if text != "true" && text != "false" {
			err = strconv.ErrSyntax
		}
	case Date:
		v.time, err = time.Parse(dateForm, text)
	case Timestamp:
		v.time, err = time.Parse(timeForm, text)
	}
	if err != nil {
		return v, fault.New(fault.Usage, "the parameter %s is a %s, and %s is none", p.Name, p.Type, fault.Quote(text)).
			Try("%s", p.Type.example(p.Name))
	}
	if len(p.Words) > 0 && !slices.Contains(p.Words, text) {
		return v, fault.New(fault.Usage, "the parameter %s does not take %s", p.Name, fault.Quote(text)).
			Try("it takes %s", strings.Join(p.Words, ", "))
	}
	return v, nil
}

// example says how a parameter of the type is stated.
func (t Type) example(name string) string {
	of := map[Type]string{Text: "north", Whole: "3", Number: "1.5", Date: "2031-05-03", Timestamp: "2031-05-03T06:00:00Z", YesNo: "true"}
	return "state it like --set " + name + "=" + of[t]
}

// Values are those of all parameters, by name.
type Values map[string]Value

// Resolve settles the values of parameters: what is stated, what the environment says, or what is usual. All that have none are told of
// at once.
func Resolve(list []Parameter, in Given) (Values, error) {
	stated, now := in.Stated, in.Now
	values := Values{"today": {Type: Date, Text: now.Format(dateForm), time: midnight(now)},
		"now": {Type: Timestamp, Text: now.UTC().Format(timeForm), time: now.UTC()}}
	for name := range stated {
		if !slices.ContainsFunc(list, func(p Parameter) bool { return p.Name == name }) {
			var known []string
			for _, p := range list {
				known = append(known, p.Name)
			}
			e := fault.New(fault.Usage, "the run sheet has no parameter %s", name)
			if len(known) == 0 {
				return nil, e.Try("it has none at all; leave --set out")
			}
			if near := wording.Nearest(name, known); len(near) > 0 {
				return nil, e.Try("%s", wording.Meant(near))
			}
			return nil, e.Try("it has %s", strings.Join(known, ", "))
		}
	}
	var missing, ways []string
	for _, p := range list {
		text, has := stated[p.Name]
		if !has {
			text, has = in.Before[p.Name]
		}
		if !has && p.From != "" {
			text = in.Env(p.From)
			has = text != ""
		}
		if !has && p.HasUsual {
			var err error
			if text, err = p.usual(values); err != nil {
				return nil, atLine(err, p.Line)
			}
			has = true
		}
		if !has {
			missing = append(missing, p.Name)
			ways = append(ways, "--set "+p.Name+"="+string(p.Type))
			continue
		}
		v, err := p.value(text)
		if err != nil {
			return nil, atLine(err, p.Line)
		}
		values[p.Name] = v
	}
	if len(missing) > 0 {
		return nil, fault.New(fault.Usage, "%s without a value: %s", wording.Count(int64(len(missing)), true, "parameter is", "parameters are"),
			strings.Join(missing, ", ")).Try("state %s", strings.Join(ways, " "))
	}
	return values, nil
}

// usual is the text of what is usual: of dates and times also an expression, like today - 1.
func (p Parameter) usual(values Values) (string, error) {
	if p.Type == Date || p.Type == Timestamp {
		if _, err := p.value(p.Usual); err == nil {
			return p.Usual, nil
		}
		if !strings.Contains(p.Usual, "$(") {
			made, err := values.eval(p.Usual)
			return made.Text, err
		}
	}
	return values.Expand(p.Usual)
}

func midnight(at time.Time) time.Time {
	y, m, d := at.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

func atLine(err error, line int64) error {
	if e, ok := err.(*fault.Error); ok && e.Line == 0 {
		e.Line = line
	}
	return err
}

// Texts are the values as they would be stated again, without what stands for the moment of the run.
func (v Values) Texts() map[string]string {
	out := map[string]string{}
	for name, value := range v {
		if !slices.Contains(builtIn, name) {
			out[name] = value.Text
		}
	}
	return out
}
