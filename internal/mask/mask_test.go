package mask_test

import (
	"errors"
	"strings"
	"testing"

	"trevak/internal/fault"
	"trevak/internal/mask"
)

func TestHides(t *testing.T) {
	for _, c := range []struct {
		names string
		path  string
		want  bool
	}{
		{"crew_note", "crew_note", true}, {"crew_note", "Crew Note", true}, {"Crew Note", "Crew_Note", true}, {"crew_note", "note", false},
		{"position", "position.lat", true}, {"lat", "position.lat", true}, {"position.lat", "position.lon", false}, {"position.lat", "position.lat", true},
		{"all", "anything", true}, {"", "anything", false},
	} {
		var names []string
		if c.names != "" {
			names = []string{c.names}
		}
		if got := mask.Of(names).Hides(c.path); got != c.want {
			t.Errorf("%s of %s: %v", c.path, c.names, got)
		}
	}
}

// TestError tells what went wrong and where, without the value.
func TestError(t *testing.T) {
	const secret = "Harbour Gold"
	of := func(kind fault.Kind, column string) error {
		e := fault.New(kind, "%q is not a double", secret).In("crew.csv").Try("keep it with --type 'x=string'")
		e.Line, e.Column, e.Value, e.Cause = 7, column, new(secret), errors.New("parsing \""+secret+"\"")
		return e
	}
	for _, c := range []struct {
		names  []string
		err    error
		hidden bool
	}{
		{[]string{"note"}, of(fault.Input, "note"), true}, {[]string{"note"}, of(fault.Input, "other"), false},
		{[]string{"note"}, of(fault.Input, ""), true}, {[]string{"note"}, of(fault.Storage, ""), false}, {[]string{"all"}, of(fault.Schema, "other"), true},
		{nil, of(fault.Input, "note"), false}, {[]string{"note"}, errors.Join(of(fault.Input, "note")), true},
	} {
		got := mask.Of(c.names).Error(c.err)
		if strings.Contains(got.Error(), secret) == c.hidden {
			t.Errorf("%v: %v", c.names, got)
		}
		var e *fault.Error
		if !errors.As(got, &e) || e.Line != 7 || e.Object != "crew.csv" || fault.KindOf(got) != fault.KindOf(c.err) {
			t.Errorf("%v: %+v", c.names, e)
		}
	}
}
