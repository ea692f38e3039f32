package runsheet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"trevak/internal/feed"
)

// usualArrival is how what arrives is found where nothing else is said.
var usualArrival = Arrival{Order: "name", Settle: 500 * time.Millisecond, Every: 30 * time.Second, Gather: 200 * time.Millisecond,
	Bytes: 1 << 30, Tries: 5, Again: time.Minute}

// UsualArrival is how what arrives is found where nothing else is said.
func UsualArrival() Arrival { return usualArrival }

// usualRetry tries what may be tried again three times.
var usualRetry = Retry{Times: 2, Wait: 5 * time.Second, Factor: 2, Most: 5 * time.Minute}

// parameters reads what stands below that key.
func (r *reader) parameters(n ast.Node) ([]Parameter, error) {
	list, err := r.pairs(n, "parameters")
	if err != nil {
		return nil, err
	}
	var out []Parameter
	for _, p := range list {
		one := Parameter{Name: p.key, Type: Text, Line: p.line}
		if !parameterName.MatchString(p.key) || slices.Contains(builtIn, p.key) {
			return nil, wrong(p.line, "use small letters, digits and _, and neither today nor now", "%s is no name of a parameter",
				strconv.Quote(p.key))
		}
		if _, nested := p.value.(*ast.MappingNode); !nested {
			if one.Usual, err = r.one(p); err != nil {
				return nil, err
			}
			one.HasUsual = true
			out = append(out, one)
			continue
		}
		inner, err := r.pairs(p.value, p.key)
		if err != nil {
			return nil, err
		}
		err = r.fill(inner, fields{
			"type": func(p pair) error {
				text, err := r.word(p, types...)
				one.Type = Type(text)
				return err
			},
			"usual": func(p pair) (err error) {
				one.Usual, err = r.one(p)
				one.HasUsual = true
				return err
			},
			"from":    func(p pair) (err error) { one.From, err = r.one(p); return err },
			"words":   func(p pair) (err error) { one.Words, err = r.texts(p); return err },
			"meaning": func(p pair) (err error) { one.Meaning, err = r.one(p); return err },
		})
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// sheet reads what stands at the top, but for the parameters.
func (r *reader) sheet(s *Sheet, top []pair) error {
	s.AtOnce, s.Arrival = 1, usualArrival
	retry, unlike := usualRetry, "tell"
	r.usual = &feed.Feed{Version: feed.Version, Values: map[string][]string{}}
	version := ""
	err := r.fill(top, fields{
		"sheet":      func(p pair) (err error) { version, err = r.one(p); return err },
		"parameters": func(pair) error { return nil },
		"meaning":    func(p pair) error { _, err := r.one(p); return err },
		"at_once":    func(p pair) (err error) { s.AtOnce, err = r.whole(p, 1); return err },
		"timeout":    func(p pair) (err error) { s.Timeout, err = r.duration(p); return err },
		"retry":      func(p pair) error { return r.retry(p, &retry) },
		"unlike":     func(p pair) (err error) { unlike, err = r.word(p, unlikes...); return err },
		"tell":       func(p pair) (err error) { s.Tell, err = r.tell(p); return err },
		"arrival":    func(p pair) error { return r.arrival(p, &s.Arrival) },
		"usual": func(p pair) error {
			list, err := r.pairs(p.value, p.key)
			if err == nil {
				err = r.fill(list, fields{}, feedKeys...)
			}
			if err == nil {
				r.usual, err = r.settings(list, ".usual")
			}
			return err
		},
		"feeds": func(p pair) error { return nil },
	})
	if err != nil {
		return err
	}
	if version != strconv.Itoa(Version) {
		return wrong(1, fmt.Sprintf("begin the file with: sheet: %d", Version), "the form of run sheets is %d, this file says %q", Version,
			version)
	}
	for _, p := range top {
		if p.key != "feeds" {
			continue
		}
		items, err := r.items(p)
		if err != nil {
			return err
		}
		for i, item := range items {
			f, err := r.feed(item, i, Feed{Retry: retry, Unlike: unlike})
			if err != nil {
				return err
			}
			s.Feeds = append(s.Feeds, f)
		}
	}
	if len(s.Feeds) == 0 {
		return wrong(1, "name feeds below the key feeds, with a hyphen before each", "the run sheet has no feeds")
	}
	return nil
}

var unlikes = []string{"tell", "stop", "off"}

// feed reads one feed.
func (r *reader) feed(n ast.Node, at int, f Feed) (Feed, error) {
	list, err := r.pairs(n, fmt.Sprintf("feed %d", at+1))
	if err != nil {
		return f, err
	}
	f.Line = lineOf(n)
	if len(list) > 0 {
		f.Line = list[0].line
	}
	var file *feed.Feed
	within := fmt.Sprintf(".feeds[%d]", at)
	err = r.fill(list, fields{
		"name":         func(p pair) (err error) { f.Name, err = r.one(p); return err },
		"file":         func(p pair) (err error) { file, err = r.feedFile(p); return err },
		"meaning":      func(p pair) error { _, err := r.one(p); return err },
		"after":        func(p pair) (err error) { f.After, err = r.texts(p); return err },
		"when":         func(p pair) (err error) { f.When, err = r.one(p); return err },
		"group":        func(p pair) (err error) { f.Group, err = r.one(p); return err },
		"timeout":      func(p pair) (err error) { f.Timeout, err = r.duration(p); return err },
		"retry":        func(p pair) error { return r.retry(p, &f.Retry) },
		"silent_after": func(p pair) (err error) { f.Silent, err = r.duration(p); return err },
		"unlike":       func(p pair) (err error) { f.Unlike, err = r.word(p, unlikes...); return err },
		"add":          func(p pair) (err error) { f.Add, err = r.added(p); return err },
		"routes":       func(p pair) (err error) { f.Routes, err = r.routes(p, within); return err },
	}, feedKeys...)
	if err != nil {
		return f, err
	}
	if f.Name == "" {
		return f, wrong(f.Line, "give each feed a name", "feed %d has no name", at+1)
	}
	own, err := r.settings(list, within)
	if err != nil {
		return f, err
	}
	if file != nil {
		own = own.Over(file)
	}
	f.Feed = own.Over(r.usual)
	for i := range f.Routes {
		f.Routes[i].Feed = f.Routes[i].Feed.Over(f.Feed)
	}
	return f, nil
}

func (r *reader) retry(p pair, to *Retry) error {
	list, err := r.pairs(p.value, p.key)
	if err != nil {
		return err
	}
	return r.fill(list, fields{
		"times": func(p pair) (err error) { to.Times, err = r.whole(p, 0); return err },
		"wait":  func(p pair) (err error) { to.Wait, err = r.duration(p); return err },
		"most":  func(p pair) (err error) { to.Most, err = r.duration(p); return err },
		"factor": func(p pair) error {
			text, err := r.one(p)
			if err != nil {
				return err
			}
			to.Factor, err = strconv.ParseFloat(text, 64)
			if err != nil || !(to.Factor >= 1 && to.Factor <= 100) {
				return wrong(p.line, "write a number from 1 to 100", "the key factor does not take %q", text)
			}
			return nil
		},
	})
}

// added reads columns with one value.
func (r *reader) added(p pair) ([]Added, error) {
	list, err := r.pairs(p.value, p.key)
	if err != nil {
		return nil, err
	}
	var out []Added
	for _, p := range list {
		text, err := r.one(p)
		if err != nil {
			return nil, err
		}
		a := Added{Column: p.key, Value: text, Type: Text}
		switch p.value.(type) {
		case *ast.IntegerNode:
			a.Type = Whole
		case *ast.FloatNode:
			a.Type = Number
		case *ast.BoolNode:
			a.Type = YesNo
		default:
			if _, err := time.Parse(dateForm, text); err == nil {
				a.Type = Date
			}
		}
		out = append(out, a)
	}
	return out, nil
}

// routes reads the routes of a feed.
func (r *reader) routes(p pair, within string) ([]Route, error) {
	items, err := r.items(p)
	if err != nil {
		return nil, err
	}
	var out []Route
	for i, item := range items {
		list, err := r.pairs(item, fmt.Sprintf("route %d", i+1))
		if err != nil {
			return nil, err
		}
		route := Route{Line: lineOf(item)}
		if len(list) > 0 {
			route.Line = list[0].line
		}
		err = r.fill(list, fields{
			"objects": func(p pair) (err error) { route.Objects, err = r.one(p); return err },
			"records": func(p pair) (err error) { route.Records, err = r.one(p); return err },
			"rest": func(p pair) error {
				text, err := r.word(p, "true", "drop")
				route.Rest, route.Drop = true, text == "drop"
				return err
			},
			"add": func(p pair) (err error) { route.Add, err = r.added(p); return err },
		}, feedKeys...)
		if err != nil {
			return nil, err
		}
		if route.Feed, err = r.settings(list, fmt.Sprintf("%s.routes[%d]", within, i)); err != nil {
			return nil, err
		}
		if n := len(strings.Fields(route.Objects)) + len(strings.Fields(route.Records)); n == 0 && !route.Rest ||
			route.Objects != "" && route.Records != "" || route.Rest && n > 0 {
			return nil, wrong(route.Line, "write objects with a pattern, records with a condition, or rest",
				"a route says in one way what it takes")
		}
		out = append(out, route)
	}
	return out, nil
}

func (r *reader) tell(p pair) ([]Target, error) {
	items, err := r.items(p)
	if err != nil {
		return nil, err
	}
	var out []Target
	for _, item := range items {
		list, err := r.pairs(item, "a target of events")
		if err != nil {
			return nil, err
		}
		t := Target{Line: lineOf(item)}
		err = r.fill(list, fields{
			"url":         func(p pair) (err error) { t.URL, err = r.one(p); return err },
			"secret_from": func(p pair) (err error) { t.SecretFrom, err = r.one(p); return err },
			"of": func(p pair) error {
				if t.Of, err = r.texts(p); err != nil {
					return err
				}
				for _, kind := range t.Of {
					if !slices.Contains(EventKinds, kind) {
						return wrong(p.line, "it takes "+strings.Join(EventKinds, ", "), "there are no events of the kind %q", kind)
					}
				}
				return nil
			},
		})
		if err != nil {
			return nil, err
		}
		if !strings.HasPrefix(t.URL, "https://") && !strings.HasPrefix(t.URL, "http://") {
			return nil, wrong(t.Line, "write it like url: https://office.example/events", "events are sent to a URL, which %q is not", t.URL)
		}
		out = append(out, t)
	}
	return out, nil
}

// Kinds of events that somebody may be told of.
const (
	Loaded  = "loaded"
	Drifted = "drift"
	Refused = "refused"
	Failed  = "failed"
	Checked = "check"
	Silent  = "silent"
	Differs = "unlike"
	Aside   = "set_aside"
)

// EventKinds lists them. All but Loaded need a person.
var EventKinds = []string{Loaded, Drifted, Refused, Failed, Checked, Silent, Differs, Aside}

func (r *reader) arrival(p pair, to *Arrival) error {
	list, err := r.pairs(p.value, p.key)
	if err != nil {
		return err
	}
	return r.fill(list, fields{
		"order":  func(p pair) (err error) { to.Order, err = r.word(p, "name", "time"); return err },
		"settle": func(p pair) (err error) { to.Settle, err = r.duration(p); return err },
		"marker": func(p pair) (err error) { to.Marker, err = r.one(p); return err },
		"every":  func(p pair) (err error) { to.Every, err = r.duration(p); return err },
		"gather": func(p pair) (err error) { to.Gather, err = r.duration(p); return err },
		"bytes":  func(p pair) (err error) { to.Bytes, err = r.size(p); return err },
		"tries":  func(p pair) (err error) { to.Tries, err = r.whole(p, 1); return err },
		"again":  func(p pair) (err error) { to.Again, err = r.duration(p); return err },
	})
}
