package fault

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
)

func TestErrorTellsPlaceValueAndWayOut(t *testing.T) {
	value := "12,5"
	e := &Error{Kind: Input, Object: "readings-03.csv", Line: 1042, Column: "depth_m", Value: &value, Reason: "is not a double"}
	e.Try("keep it with --type %s=string", "depth_m")
	want := `readings-03.csv:1042: column "depth_m": "12,5" is not a double; keep it with --type depth_m=string`
	if e.Error() != want {
		t.Errorf("%s, want %s", e, want)
	}
	cause := &Error{Kind: Storage, Reason: "the disk is full", Cause: io.ErrShortWrite}
	if want := "the disk is full: short write"; cause.Error() != want {
		t.Errorf("%s, want %s", cause, want)
	}
	if got := New(Usage, "nothing").In("a").In("b").Error(); got != "a: nothing" {
		t.Errorf("%s", got)
	}
}

func TestQuote(t *testing.T) {
	if got := Quote("a\nb\x00"); got != `"a\nb\x00"` {
		t.Errorf("%s", got)
	}
	long := Quote(strings.Repeat("ü", 100))
	if !strings.Contains(long, "… (200 bytes)") || strings.Contains(long, "\ufffd") || len(long) > 120 {
		t.Errorf("%s", long)
	}
}

func TestKinds(t *testing.T) {
	if KindOf(io.EOF) != 0 || KindOf(nil) != 0 {
		t.Error("other errors have a kind")
	}
	inner := New(Schema, "inner")
	for _, err := range []error{inner, fmt.Errorf("outer: %w", inner), Wrap(Storage, inner, "again")} {
		if KindOf(err) != Schema {
			t.Errorf("%v is of the kind %s", err, KindOf(err))
		}
	}
	if err := Wrap(Storage, nil, "nothing"); err != nil {
		t.Errorf("%v", err)
	}
	err := Wrap(Storage, io.ErrClosedPipe, "writing %s", "x")
	if KindOf(err) != Storage || !errors.Is(err, io.ErrClosedPipe) || err.Error() != "writing x: io: read/write on closed pipe" {
		t.Errorf("%v", err)
	}
	for kind, want := range map[Kind]string{Usage: "usage", Input: "input", Schema: "schema", Storage: "storage", Conflict: "conflict",
		0: "unknown"} {
		if kind.String() != want {
			t.Errorf("%d: %s", kind, kind)
		}
	}
}
