package feed

import (
	"strings"
	"testing"
	"time"

	"trevak/internal/fault"
)

// TestFeedsThatAreNone are refused at once, whatever the library for YAML makes of them.
func TestFeedsThatAreNone(t *testing.T) {
	for name, text := range map[string]string{
		"keys": "feed: 1\n" + strings.Repeat("k: 1\n", 100_000), "flow keys": "feed: 1\nx: {" + strings.Repeat("a: 1, ", 100_000) + "}\n",
		"brackets": "feed: 1\nx: " + strings.Repeat("[", 100_000) + "\n",
		"levels":   "feed: 1\n" + strings.Repeat(" ", 1000) + "a: 1\n", "size": "feed: 1\n#" + strings.Repeat("x", mostBytes),
	} {
		started := time.Now()
		if _, err := Parse([]byte(text)); fault.KindOf(err) != fault.Usage || time.Since(started) > 5*time.Second {
			t.Errorf("%s: %v after %s", name, err, time.Since(started))
		}
	}
	wide := "feed: 1\ncolumns:\n" + strings.Repeat("  - # 12 values\n    name: a\n    from: A\n    type: long\n", 1)
	for i := range 2000 {
		wide += "  - name: c" + strings.Repeat("x", i%7) + string(rune('a'+i%26)) + strings.Repeat("y", i/26) + "\n    type: long\n"
	}
	if f, err := Parse([]byte(wide)); err != nil || len(f.Columns) != 2001 {
		t.Errorf("a feed of many columns: %v", err)
	}
}
