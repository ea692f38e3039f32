package render

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"trevak/internal/run"
)

func written(width int, t Table) string {
	var b bytes.Buffer
	t.Write(Screen{Writer: &b, Width: width})
	return b.String()
}

func TestTableFitsItsWidth(t *testing.T) {
	table := Table{Header: []string{"name", "count", "note", "more"}, Right: []bool{false, true},
		Rows: [][]string{{"Cairn Bay", "5", strings.Repeat("long ", 20), "x"}, {"über\nall", "1,000", "日本", strings.Repeat("y", 40)}}}
	if got := written(1000, table); !strings.Contains(got, "Cairn Bay      5  long long") ||
		!strings.Contains(got, "über⏎all   1,000  日本 ") {
		t.Errorf("%s", got)
	}
	for _, width := range []int{20, 40, 60, 80, 100} {
		for _, line := range strings.Split(written(width, table), "\n") {
			if length(line) > width {
				t.Errorf("%d characters in a line of %d: %q", length(line), width, line)
			}
		}
	}
	if got := written(30, table); !strings.Contains(got, "2 more columns not shown: not") {
		t.Errorf("%s", got)
	}
	table.Keep = true
	if got := written(30, table); strings.Contains(got, "not shown") {
		t.Errorf("%s", got)
	}
}

func TestCellsCannotReachTheTerminal(t *testing.T) {
	got := written(100, Table{Header: []string{"a"}, Rows: [][]string{{"\x1b[31mred\t\u202e"}}})
	if strings.ContainsAny(got, "\x1b\u202e") || !strings.Contains(got, `\u001b[31mred⇥\u202e`) {
		t.Errorf("%q", got)
	}
}

func TestNumbers(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567", -100: "-100"} {
		if got := Number(n); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
	for n, want := range map[int64]string{0: "0 bytes", 1: "1 byte", 999: "999 bytes", 1000: "1.0 kB", 999_949: "999.9 kB",
		999_999: "1.0 MB", 103_045_530: "103.0 MB", 5e15: "5000.0 TB"} {
		if got := Size(n); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
	}
}

func TestWrap(t *testing.T) {
	if got := Wrap("one two three four five six seven eight", 26); got != "one two three four five\n  six seven eight" {
		t.Errorf("%q", got)
	}
	if got := Wrap(strings.Repeat("x", 50), 26); strings.ReplaceAll(got, "\n  ", "") != strings.Repeat("x", 50) {
		t.Errorf("%q", got)
	}
}

func TestStyles(t *testing.T) {
	if got := (Screen{}).Bold("x"); got != "x" {
		t.Errorf("%q", got)
	}
	if got := (Screen{Styled: true}).Bold("x"); got != "\x1b[1mx\x1b[0m" {
		t.Errorf("%q", got)
	}
}

func TestProgressWaitsASecond(t *testing.T) {
	var b bytes.Buffer
	p := NewProgress(&b, 80)
	p.Event(run.Event{Stage: "writing", BytesRead: 1, BytesTotal: 2})
	if b.Len() > 0 {
		t.Errorf("%q", b.String())
	}
	p.mu.Lock()
	p.begun = p.begun.Add(-2 * time.Second)
	p.mu.Unlock()
	p.Event(run.Event{Stage: "writing", BytesRead: 1_000_000, BytesTotal: 2_000_000, Objects: 3, Object: 2})
	p.Done()
	if got := b.String(); !strings.Contains(got, " 50%  1.0 MB of 2.0 MB") || !strings.Contains(got, "writing ") {
		t.Errorf("%q", got)
	}
	if !strings.HasSuffix(b.String(), "\r\x1b[K") {
		t.Error("the line stays")
	}
	p.Done()
}

// TestProgressTellsSpeedAndWhatItWaitsFor looks at the line at some moments.
func TestProgressTellsSpeedAndWhatItWaitsFor(t *testing.T) {
	p := &Progress{width: 120}
	start := time.Now()
	p.stage, p.heard = start, start.Add(10*time.Second)
	p.last = run.Event{Stage: run.Writing, BytesRead: 100_000_000, BytesTotal: 400_000_000, Objects: 3, Object: 2, Location: "tides.tsv"}
	for after, want := range map[time.Duration]string{
		10 * time.Second: " 25%  100.0 MB of 400.0 MB  10.0 MB/s  30 s left  object 2 of 3",
		15 * time.Second: "waits for tides.tsv, 5 s",
	} {
		if got := p.line(start.Add(after)); !strings.Contains(got, want) {
			t.Errorf("after %s: %s, want %s", after, got, want)
		}
	}
	p.last = run.Event{Stage: run.Committing, Waits: "another commit"}
	if got := p.line(start.Add(11 * time.Second)); !strings.Contains(got, "committing") || !strings.Contains(got, "waits for another commit, 1 s") {
		t.Error(got)
	}
	for d, want := range map[time.Duration]string{59 * time.Second: "59 s", 90 * time.Second: "1 min 30 s", 2*time.Hour + 5*time.Minute: "2 h 5 min"} {
		if got := span(d); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
