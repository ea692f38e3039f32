// Package runsheet reads run sheets: one YAML file that names many feeds, their parameters, routes and order.
//
// What comes in is the text of a sheet and the values of its parameters; what goes out is a Sheet in which all values are put in place,
// or an error that names the line.
package runsheet

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"trevak/internal/fault"
	"trevak/internal/feed"
	"trevak/internal/storage"
)

// Version is the version of the form of run sheets.
const Version = 1

// Sheet is a run sheet with the values of its parameters in place.
type Sheet struct {
	// Path is where the sheet lies, and what it is known by.
	Path       string
	Parameters []Parameter
	Values     Values
	// AtOnce is how many feeds run at a time at most, Timeout how long all of them may take; 0 for no bound.
	AtOnce  int
	Timeout time.Duration
	// Tell is who is told of what.
	Tell []Target
	// Arrival is how a watcher finds what arrives.
	Arrival Arrival
	Feeds   []Feed
}

// Feed is one flow of a sheet.
type Feed struct {
	Name string
	Line int64
	*feed.Feed
	// After are the feeds that have to be done before, When is a condition on what there is to load.
	After []string
	When  string
	// Group is a name that feeds share whose commits are made together.
	Group   string
	Timeout time.Duration
	Retry   Retry
	// Silent is after how long without a new object somebody is told; 0 for never.
	Silent time.Duration
	// Unlike says what becomes of a run that is unlike those before: tell, stop or off.
	Unlike string
	// Add are columns with one value, in their order.
	Add    []Added
	Routes []Route
}

// Retry is how often, and after how long, what failed is tried again where that may help.
type Retry struct {
	Times  int
	Wait   time.Duration
	Factor float64
	Most   time.Duration
}

// Delay is how long to wait before the try of a number, from 1.
func (r Retry) Delay(try int) time.Duration {
	wait := float64(r.Wait)
	for range try - 1 {
		wait *= r.Factor
		if r.Most > 0 && wait > float64(r.Most) {
			return r.Most
		}
	}
	return time.Duration(wait)
}

// Route is where a part of a feed goes: objects whose path matches a pattern, or records for which a condition holds. The rest is what
// no other route takes; it may be dropped, which is counted.
type Route struct {
	Line             int64
	Objects, Records string
	Rest, Drop       bool
	// Feed is what the route says of its own: its table first of all.
	*feed.Feed
	Add []Added
}

// Added is a column that has one value, of a type.
type Added struct {
	Column, Value string
	Type          Type
}

// Target is where events are sent.
type Target struct {
	URL string
	// SecretFrom says where the secret is that they are signed with: env:NAME, or a file.
	SecretFrom string
	// Of are the kinds of events; empty for all that need a person.
	Of   []string
	Line int64
}

// Arrival is how what arrives is found, and when it is loaded.
type Arrival struct {
	Order string
	// Settle is how long an object has to be as it is, and Marker a pattern of the name of the file that says so instead.
	Settle time.Duration
	Marker string
	// Every is how often folders are listed, Gather how long objects are gathered for one commit, Bytes how many bytes at most.
	Every, Gather time.Duration
	Bytes         int64
	// Tries is how often an object that fails is tried before it is set aside, Again after how long.
	Tries int
	Again time.Duration
}

// Read reads a sheet.
func Read(ctx context.Context, s storage.Store, path string, in Given) (*Sheet, error) {
	text, err := feed.ReadBounded(ctx, s, path)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the run sheet %s cannot be read", path)
	}
	sheet, err := parse(ctx, s, text, path, in)
	var e *fault.Error
	if errors.As(err, &e) && e.Object == "" {
		return nil, e.In(path)
	}
	return sheet, err
}

// Given is what a run gives a sheet: stated values, the environment, and the moment.
type Given struct {
	Stated map[string]string
	Env    func(string) string
	// Before are values of a former run, which count where none is stated; those of parameters that are no more do not.
	Before map[string]string
	Now    time.Time
}

// parse reads the text of a sheet. Feed files that it names lie from its folder on.
func parse(ctx context.Context, s storage.Store, text []byte, path string, in Given) (*Sheet, error) {
	root, err := rootOf(text)
	if err != nil {
		return nil, err
	}
	r := &reader{ctx: ctx, store: s, text: text, path: path}
	sheet := &Sheet{Path: path}
	top, err := r.pairs(root, "the run sheet")
	if err != nil {
		return nil, err
	}
	if len(top) > 0 && top[0].key == "feed" {
		return nil, wrong(top[0].line, "load by it with --feed, or have a run sheet name it: file: "+storage.Base(path),
			"is a feed file, and no run sheet")
	}
	for _, p := range top {
		if p.key == "parameters" {
			if sheet.Parameters, err = r.parameters(p.value); err != nil {
				return nil, err
			}
		}
	}
	if sheet.Values, err = Resolve(sheet.Parameters, in); err != nil {
		return nil, err
	}
	r.expand = sheet.Values.Expand
	for _, p := range top {
		if p.key != "parameters" {
			if err := feed.Expand(p.value, r.expand); err != nil {
				return nil, err
			}
		}
	}
	if err := r.sheet(sheet, top); err != nil {
		return nil, err
	}
	return sheet, sheet.agrees()
}

// rootOf reads a text as YAML.
func rootOf(text []byte) (ast.Node, error) {
	err := feed.Plausible(text)
	var root ast.Node
	if err == nil {
		root, err = feed.Root(text)
	}
	var e *fault.Error
	if errors.As(err, &e) {
		e.Reason = strings.Replace(e.Reason, "is no feed file", "is no run sheet", 1)
		e.WayOut, e.With = "its keys are described in docs/running.md", nil
	}
	return root, err
}

// IsSheet reports whether a text is that of a run sheet, by its first key.
func IsSheet(text []byte) bool {
	root, err := feed.Root(text)
	if err != nil {
		return false
	}
	m, ok := root.(*ast.MappingNode)
	return ok && len(m.Values) > 0 && m.Values[0].Key.String() == "sheet"
}
