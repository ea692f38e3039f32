package feed

import (
	"errors"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/token"

	"trevak/internal/fault"
	"trevak/internal/setting"
	"trevak/internal/wording"
)

// syntax makes an error of one of the YAML library's, in words that speak of feed files.
func syntax(text []byte, err error) error {
	e := fault.New(fault.Usage, "is no feed file: it is no YAML")
	e.Try("the keys are described in docs/settings.md, and for editors by").By(fault.DescribeFeeds)
	var (
		unknown    *yaml.UnknownFieldError
		mistyped   *yaml.TypeError
		overflow   *yaml.OverflowError
		twice      *yaml.DuplicateKeyError
		unexpected *yaml.UnexpectedNodeTypeError
		other      yaml.Error
	)
	switch {
	case errors.As(err, &unknown):
		unknownKey(e, unknown.Token)
	case errors.As(err, &mistyped):
		e.Reason = notTaken(text, mistyped.Token, mistyped.DstType)
	case errors.As(err, &overflow):
		e.Reason = notTaken(text, overflow.Token, overflow.DstType)
	case errors.As(err, &twice):
		e.Reason = "the key " + fault.Quote(twice.Token.Value) + " is there twice"
		e.WayOut, e.With = "keep one of them", nil
	case errors.As(err, &unexpected):
		e.Reason = notTaken(text, unexpected.Token, nil)
	case errors.As(err, &other):
		e.Reason = "is no YAML here: a bracket, a quote, a colon or the indentation does not fit"
		if lines := strings.Split(string(text), "\n"); other.GetToken() != nil {
			if at := other.GetToken().Position.Line - 1; at >= 0 && at < len(lines) && strings.HasPrefix(lines[at], "\t") {
				e.Reason = "is no YAML here: the line begins with a tab, and YAML is indented with blanks"
			}
		}
	}
	if errors.As(err, &other) && other.GetToken() != nil {
		e.Line = int64(other.GetToken().Position.Line)
	}
	return e
}

// unknownKey says which key an unknown one may have meant, wherever that has its place.
func unknownKey(e *fault.Error, key *token.Token) {
	e.Reason = "the key " + fault.Quote(key.Value) + " is not known here"
	full := map[string]string{}
	for _, s := range sections {
		full[s.name] = s.name
	}
	for _, s := range setting.Table {
		if section, last, inside := strings.Cut(s.Key, "."); inside {
			full[last] = last + " (of " + section + ")"
		}
	}
	column := reflect.TypeFor[Column]()
	for i := range column.NumField() {
		name, _, _ := strings.Cut(column.Field(i).Tag.Get("yaml"), ",")
		full[name] = name + " (of a column)"
	}
	near := wording.Nearest(key.Value, slices.Sorted(maps.Keys(full)))
	if len(near) == 0 {
		return
	}
	e.WayOut, e.With = wording.Meant([]string{full[near[0]]}), nil
}

// notTaken says that a value is none that its key takes.
func notTaken(text []byte, value *token.Token, wanted reflect.Type) string {
	takes := "what has its keys or items below it"
	if wanted != nil {
		switch wanted.Kind() {
		case reflect.Int:
			takes = "a whole number"
		case reflect.Bool:
			takes = "true or false"
		case reflect.String:
			takes = "a text"
		}
	}
	key := keyBefore(text, value)
	if key != "" {
		key = "the key " + key + ": "
	}
	return key + fault.Quote(value.Value) + " is not " + takes
}

// keyBefore returns the key in the line of a value.
func keyBefore(text []byte, value *token.Token) string {
	lines := strings.Split(string(text), "\n")
	at := value.Position.Line - 1
	if at < 0 || at >= len(lines) {
		return ""
	}
	key, _, ok := strings.Cut(lines[at], ":")
	if !ok {
		return ""
	}
	return strings.Trim(key, " -\t\r\"'")
}
